"""What a command loads: none waits for what only others need; tables that were worked out ahead are the present ones."""

from __future__ import annotations

import subprocess
import sys
from importlib.resources import files
from pathlib import Path

import pytest

from spokeshave.cli import PARTS, commands_of
from spokeshave.language import expected
from tests.conftest import EXAMPLES

SMALL = EXAMPLES / "paddle.st"
NEVER = ("pydantic", "numpy", "jinja2", "multiprocessing", "PySide6", "openpyxl", "pymodbus")


def loaded_by(*words: str | Path, main: str = "spokeshave.cli", before: str = "") -> tuple[set[str], str]:
    """Modules a command has loaded when it ends, and what it wrote."""
    code = (
        f"import sys\n{before}\n"
        f"from {main} import main\n"
        f"sys.argv = {['spokeshave', *map(str, words)]!r}\n"
        "try: main()\n"
        "except SystemExit as end: assert end.code in (0, 1, None), end.code\n"
        "print('\\nLOADED ' + ' '.join(sys.modules))\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    written, _, modules = done.stdout.rpartition("LOADED ")
    return set(modules.split()), written


@pytest.mark.parametrize("command", ["check", "run", "convert"])
@pytest.mark.parametrize("file", [SMALL, EXAMPLES / "roastery.spoke"])
def test_check_run_and_convert_leave_alone_what_they_do_not_need(command, file, tmp_path):
    more = {"check": [], "run": ["--for", "1s"], "convert": [tmp_path / "out.st"]}[command]
    found, _ = loaded_by(command, file, *more)
    assert "spokeshave.reading" in found
    assert not found & set(NEVER)
    if file is SMALL and command != "convert":  # a converted file has a pragma, which is data
        assert "lark" not in found


def test_a_text_is_read_without_what_data_is_read_with():
    code = "import sys\nfrom pathlib import Path\nfrom spokeshave.reading import read_project\n"
    code += f"read_project(Path({str(SMALL)!r}))\nassert not {{'pydantic', 'lark', 'numpy'}} & set(sys.modules)"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stderr == ""


def test_a_run_without_numpy_is_the_run_with_it(tmp_path):
    (tmp_path / "hands.csv").write_text("time_ms,signal,value\n500,StartButton,1\n800,StartButton,0\n")
    words = ("run", EXAMPLES / "roastery.spoke", "--for", "90s", "--stimuli", tmp_path / "hands.csv")
    without, with_it = loaded_by(*words), loaded_by(*words, before="import numpy")
    assert "numpy" not in without[0] and "numpy" in with_it[0]
    assert without[1] == with_it[1] and without[1].count("\n") > 100


def test_version_loads_nothing_but_itself():
    found, written = loaded_by("--version", main="spokeshave.__main__")
    assert written.startswith("Spokeshave ") and "spokeshave" in found
    assert not {m.split(".")[0] for m in found} & {"typer", "pydantic", "lark", *NEVER}


def test_the_tables_of_scenario_rows_are_those_of_the_grammar():
    held = (files("spokeshave.language") / expected.ROW_TABLES).read_bytes()
    assert held.startswith(expected._row_mark()), "run scripts/grammar-tables"
    row = "on Roast.Drop, 2 s later: press Emergency for 3 s"
    assert expected.row_grammar().parse(row) == expected.build_row_grammar().parse(row)


def test_each_part_of_the_command_line_has_the_commands_that_are_said_of_it():
    for part, names in PARTS.items():
        assert {c.name or c.callback.__name__ for c in commands_of(part)} == set(names), part
