"""What a desktop gets: a starter, a kind of file that is known by its beginning, a manual page, completion; put in and taken out again."""

from __future__ import annotations

import configparser
import os
import shutil
import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest

from spokeshave.__main__ import FILES, names_a_file
from spokeshave.cli import PARTS
from spokeshave.cli.described import bash_completion, man_page
from spokeshave.formats.spoke import dumps
from spokeshave.model.project import Project

ROOT = Path(__file__).parents[2]
PACKAGING = ROOT / "packaging"
MIME = "{http://www.freedesktop.org/standards/shared-mime-info}"


def test_manual_page_and_completion_are_those_of_the_commands():
    assert (PACKAGING / "spokeshave.1").read_text() == man_page(), "run scripts/desktop-files"
    assert (PACKAGING / "spokeshave.bash").read_text() == bash_completion(), "run scripts/desktop-files"
    for name in (n for names in PARTS.values() for n in names):
        assert f"\\fB{name}\\fR" in man_page()


@pytest.mark.parametrize(
    ("words", "found"),
    [
        (["spokeshave", "che"], "check"),
        (["spokeshave", "verify", "--jun"], "--junit"),
        (["spokeshave", "run", "pack"], "packaging"),
    ],
)
def test_bash_completes_commands_options_and_files(words, found):
    script = f"source packaging/spokeshave.bash; COMP_WORDS=({' '.join(words)}); COMP_CWORD={len(words) - 1}; _spokeshave; echo ${{COMPREPLY[@]}}"
    done = subprocess.run(["bash", "-c", script], cwd=ROOT, capture_output=True, text=True, check=True)
    assert done.stdout.split() == [found]


def test_a_machine_file_is_known_by_its_beginning_and_opens_with_the_program():
    (kind,) = ElementTree.parse(PACKAGING / "spokeshave-mime.xml").getroot().findall(f"{MIME}mime-type")
    match = kind.find(f"{MIME}magic/{MIME}match")
    first, last = map(int, match.get("offset").split(":"))
    assert first <= dumps(Project("A machine")).index(match.get("value")) <= last
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(PACKAGING / "spokeshave.desktop")
    assert (
        entry["Desktop Entry"]["MimeType"] == f"{kind.get('type')};"
        and entry["Desktop Entry"]["Exec"] == "spokeshave %f"
    )
    about = ElementTree.parse(PACKAGING / "spokeshave.metainfo.xml").getroot()
    assert about.findtext("launchable") == "spokeshave.desktop" and about.findtext("provides/mediatype") == kind.get(
        "type"
    )
    assert kind.find(f"{MIME}glob").get("pattern") == "*.spoke" and ".spoke" in FILES
    for tool, file in (("desktop-file-validate", "spokeshave.desktop"), ("appstreamcli", "spokeshave.metainfo.xml")):
        if shutil.which(tool):
            words = [tool, "validate", "--no-net"] if tool == "appstreamcli" else [tool]
            done = subprocess.run([*words, str(PACKAGING / file)], capture_output=True, text=True)
            assert done.returncode == 0, done.stdout


def test_it_is_put_into_the_desktop_and_taken_out_again(tmp_path):
    env = {**os.environ, "XDG_DATA_HOME": str(tmp_path / "share"), "XDG_BIN_HOME": str(tmp_path / "bin")}
    install = str(ROOT / "scripts" / "install-desktop")
    subprocess.run([install], env=env, check=True, capture_output=True)
    starter = (tmp_path / "share" / "applications" / "spokeshave.desktop").read_text()
    assert (
        f'Exec="{ROOT}/spokeshave" %f' in starter
        and (tmp_path / "bin" / "spokeshave").readlink() == ROOT / "spokeshave"
    )
    ours = {p for p in tmp_path.rglob("*spokeshave*") if not p.is_dir()} - set(
        (tmp_path / "share" / "mime" / "application").glob("*")
    )
    assert len(ours) == 7
    subprocess.run([install, "--remove"], env=env, check=True, capture_output=True)
    assert not any(p.exists() or p.is_symlink() for p in ours)


@pytest.mark.parametrize(
    ("words", "named"),
    [(["a.spoke"], True), (["/x/B.ST"], True), (["plan.xlsx"], True), (["check"], False), (["check", "a.spoke"], False),
     (["--version"], False), ([], False), (["roastery"], False)],
)  # fmt: skip
def test_a_file_alone_is_opened(words, named):
    assert names_a_file(words) is named
