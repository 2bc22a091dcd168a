"""Files and kept edits when programs die, when others write, and where files are links or read-only."""

from __future__ import annotations

import os
import random
import signal
import time
from dataclasses import replace
from pathlib import Path

import pytest

from spokeshave.formats import spoke
from spokeshave.formats.disk import beside, stamp_of
from spokeshave.formats.errors import FormatError
from spokeshave.formats.recovery import Draft, Recovery, discard
from spokeshave.model.project import Project


def count(project: Project) -> int:
    """How many edits a project has seen, from its comment."""
    return int(project.comment or 0)


def edit_and_save(folder: Path, file: Path, told: int, begin: int, chance: random.Random) -> None:
    """A program: recovers what is left, edits, keeps each edit, saves now and then, and tells each edit that is safe."""
    recovery, n = Recovery(folder), begin
    left = recovery.left_over()
    if left:
        recovery.keep(left[0].project, file, left[0].drafts, left[0].stamp)
        for old in left:
            discard(old.at)
    stamp = stamp_of(file)
    while True:
        n += 1
        project = Project(comment=str(n))
        recovery.keep(project, file, (Draft("opening", "", str(n)),), stamp)
        os.write(told, f"{n}\n".encode())
        if chance.random() < 0.2:
            spoke.write(project, file)
            stamp = stamp_of(file)
            recovery.forget()


def test_of_200_kills_at_random_moments_none_loses_more_than_the_edit_in_hand(tmp_path):
    chance = random.Random(7)
    file, folder, safe = tmp_path / "m.spoke", tmp_path / "kept", 0
    spoke.write(Project(comment="0"), file)
    for _ in range(200):
        read, write = os.pipe()
        child = os.fork()
        if not child:
            try:
                edit_and_save(folder, file, write, safe, random.Random(chance.random()))
            finally:
                os._exit(1)
        os.close(write)
        time.sleep(chance.uniform(0.001, 0.02))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        told = b""
        while data := os.read(read, 65536):
            told += data
        os.close(read)
        numbers = [int(x) for x in told.decode().split("\n")[:-1] if x]
        safe = max([safe, *numbers])
        left = Recovery(folder).left_over()
        best = max([count(spoke.read(file)), *(count(k.project) for k in left)])
        assert safe <= best <= safe + 1, "at most the edit in hand is lost"
        for k in left:
            assert not k.drafts or k.drafts[0].text == k.project.comment, "the project and its drafts are of one moment"
        safe = best


def test_a_program_that_runs_keeps_its_edits_to_itself_whatever_its_number(tmp_path):
    mine = Recovery(tmp_path)
    mine.keep(Project("Mine"), None)
    assert Recovery(tmp_path).left_over() == [], "its lock is held"
    ready, go = os.pipe()
    child = os.fork()
    if not child:
        Recovery(tmp_path).keep(Project("Theirs"), None)
        os.write(go, b"x")
        time.sleep(60)
        os._exit(0)
    os.read(ready, 1)
    assert Recovery(tmp_path).left_over() == []
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    (left,) = Recovery(tmp_path).left_over()
    assert left.project.name == "Theirs"
    # Another process may have the number of the dead one by now: that tells nothing.
    discard(left.at)
    mine.forget()
    assert not list(tmp_path.iterdir())


def test_links_are_written_through_modes_are_kept_and_read_only_is_respected(tmp_path):
    real, link = tmp_path / "real.spoke", tmp_path / "link.spoke"
    spoke.write(Project("One"), real)
    link.symlink_to(real)
    real.chmod(0o640)
    spoke.write(Project("Two"), link)
    assert link.is_symlink() and spoke.read(real).name == "Two" and real.stat().st_mode & 0o777 == 0o640
    real.chmod(0o444)
    for path in (real, link):
        with pytest.raises(FormatError, match="read-only") as found:
            spoke.write(Project("Three"), path)
        assert found.value.file == str(path)
    assert spoke.read(real).name == "Two"


def test_new_files_have_the_permissions_that_the_user_gives_new_files(tmp_path):
    before = os.umask(0o027)
    try:
        spoke.write(Project(), tmp_path / "new.spoke")
    finally:
        os.umask(before)
    assert (tmp_path / "new.spoke").stat().st_mode & 0o777 == 0o640


def test_a_stamp_tells_what_is_in_a_file_and_not_when_it_was_touched(tmp_path):
    file = tmp_path / "a.spoke"
    spoke.write(Project("One"), file)
    stamp = stamp_of(file)
    os.utime(file, (1, 1))
    assert stamp.holds(file)
    spoke.write(replace(Project("One"), comment="x"), file)
    assert not stamp.holds(file) and not stamp.holds(tmp_path / "gone.spoke")
    assert beside(file).name == "a-mine.spoke"
    beside(file).write_text("")
    assert beside(file).name == "a-mine-2.spoke"
