"""The canal lock and the candle carousel: clean, proven, and what is planted in them is found."""

from __future__ import annotations

from dataclasses import replace

import pytest

from spokeshave.examples import EXAMPLES
from spokeshave.examples.mistakes import MISTAKES, planted
from spokeshave.formats import spoke
from spokeshave.formats.code.as_run import as_project
from spokeshave.formats.code.write import generate
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.iec_write import write_code
from spokeshave.model.project import Project
from spokeshave.model.recipes import by_the_file, taken
from spokeshave.verify.alarm_list import alarm_list
from spokeshave.verify.check import findings, look_over
from spokeshave.verify.coverage import coverage
from spokeshave.verify.equivalence import compare, runs_of
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.reach.answers import study
from spokeshave.verify.reach.asked import Says
from spokeshave.verify.scenarios import run_all, run_scenario
from spokeshave.verify.sweep.work import Sweep
from tests.conftest import EXAMPLES as FOLDER

OTHERS = ("lock", "carousel")
_read = {name: spoke.read(FOLDER / f"{name}.spoke") for name in OTHERS}


@pytest.fixture(params=OTHERS)
def example(request) -> Project:
    return _read[request.param]


def test_each_is_listed_has_a_brief_and_everything_of_it_is_proven(example):
    assert {f"{name}.spoke" for name in OTHERS} <= {file for file, _, _ in EXAMPLES}
    assert not findings(example) and len(look_over(example).waived) == 1, "one finding may stand, with its reason"
    assert 10 <= len(example.requirements) <= 20
    results = {r.scenario.name: r for r in run_all(example)}
    for name, result in results.items():  # who asks for verdicts alone hears the same
        assert run_scenario(example, result.scenario, verdicts_only=True).verdicts == result.verdicts, name
    assert {r.outcome for r in results.values()} == {Outcome.PASS}
    assert {s.state for s in coverage(example, results, [])} == {"proven"}
    silent = [a.cells[0] for a in alarm_list(example) if a.source.rule is not None and a.told and not a.scenarios]
    assert silent == [], "each alarm with words of its own is expected somewhere"


@pytest.mark.parametrize("name", OTHERS)
def test_every_bad_cell_of_some_rows_of_the_sweep_is_explained(name):
    """Of the cells of each those of some faults: the lock has more than a thousand, and `demo lock` shows them all."""
    project = _read[name]
    run = Sweep(project)
    faults = (
        ("UpLeftLeaf jammed", "Chamber high stuck on", "Power lost") if name == "lock" else tuple(run.matrix.faults)
    )
    run._here[:] = [piece for piece in run._here if run.matrix.faults[piece[0]] in faults]
    while run._here:
        run.poll()
    cells = [c for c in run.matrix.in_order() if c.fault in faults]
    assert cells and not [c for c in run.matrix.open() if c.fault in faults]
    used = {run.matrix.explained(c) for c in cells if c.verdict.is_bad}
    assert used == {e for e in project.sweep.explained if e.fault in faults}, "every explanation is needed"


def test_the_carousel_is_studied_and_gets_stuck_nowhere():
    found = study(_read["carousel"])
    assert found.whole and {a.says for a in found.answers} == {Says.GOOD}


def test_the_code_of_each_does_the_same_and_comes_back_whole(example):
    code = generate(example, "plain")
    short = replace(example, scenarios=example.scenarios[:3])
    found = compare(example, as_project(code), {c: code.flag(c) for c in code.active}, runs_of(short, random_runs=1))
    assert found.difference is None and found.scans > 5000
    assert parse_iec(write_code(example, "plain")) == example


def test_another_candle_is_a_recipe_and_no_other_program():
    carousel = _read["carousel"]
    kinds = {r.name: by_the_file(carousel, taken(carousel, r)) for r in carousel.recipes}
    assert list(kinds) == ["Household", "Taper", "Pillar"]
    assert all(replace(k, signals=(), tables=()) == replace(carousel, signals=(), tables=()) for k in kinds.values())
    assert len({k.tables for k in kinds.values()}) == 3


PLANTED = [(name, m) for name in OTHERS for m in MISTAKES[name]]


@pytest.mark.parametrize(("name", "mistake"), PLANTED, ids=[f"{n}-{m.name}" for n, m in PLANTED])
def test_what_is_planted_is_found(name, mistake):
    project = planted(_read[name], mistake)
    codes = {d.code for d in findings(project) if d.severity != "advice"}
    if mistake.code:
        assert mistake.code in codes
    else:
        assert not codes and mistake.scenario, "only the run shows it"
        result = run_scenario(project, project.scenario(mistake.scenario))
        assert result.outcome is not Outcome.PASS and not result.problems
