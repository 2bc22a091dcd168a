"""What the documentation says is true: its schema, its examples, its commands."""

from __future__ import annotations

import ast
import doctest
import importlib
import json
import linecache
import pkgutil
import re
from dataclasses import replace
from pathlib import Path

import pytest

import spokeshave
from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats.iec_read import parse_iec
from spokeshave.formats.signal_table import guess_mapping, parse_rows, plan_import
from spokeshave.formats.spoke import schema, to_data
from spokeshave.formats.spoke_schema import make_schema
from spokeshave.formats.tables.grid import sheet_of_text
from spokeshave.formats.tables.steps import plan_sequence
from spokeshave.language.declared import read_declared
from spokeshave.language.literals import value_text
from spokeshave.language.scenario import parse_scenario
from spokeshave.machine.describe import kinds_page
from spokeshave.model.edits import new_sequence
from spokeshave.model.project import Device, Project, Scenario, Sequence, Signal, SignalClass, Step, Transition
from spokeshave.reading import read_text
from spokeshave.verify.check.remedies import REMEDIES
from spokeshave.verify.check.run import CODES, findings
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenario_language import check_sheet
from spokeshave.verify.scenarios import run_scenario
from tests.core.test_check import CASES
from tests.core.test_language import problem

ROOT = Path(__file__).parent.parent.parent


def test_the_schema_in_the_documentation_is_the_present_one(roastery):
    assert json.loads((ROOT / "docs" / "machine-file.schema.json").read_text()) == schema() == make_schema()
    known = set(schema()["properties"])
    assert set(to_data(roastery)) <= known


def test_the_kinds_of_devices_in_the_documentation_are_the_present_ones():
    assert (ROOT / "docs" / "devices.md").read_text() == kinds_page()


def test_the_findings_in_the_documentation_are_those_there_are():
    text = (ROOT / "docs" / "check.md").read_text()
    rows = dict(re.findall(r"^\| `([a-z-]+)` \| (?:error|warning|advice) \| .* \| (●?) ?\|$", text, re.MULTILINE))
    assert set(rows) == {*CODES, "link-broken", "waiver-stale", "merge-conflict", "text"}
    assert {code for code, mend in rows.items() if mend} == set(REMEDIES)
    assert set(CASES) <= set(re.findall(r"`([a-z-]+)`", text))


def test_the_own_device_in_the_documentation_runs():
    declared, text = re.findall(r"```\n(.*?)```", (ROOT / "docs" / "machine.md").read_text(), re.DOTALL)[:2]
    device = Device("Part", "own", declared=read_declared(declared), text=text)
    assert link_problems(new_sequence(Project(devices=(device,)))) == []


def test_the_scenario_in_the_documentation_can_be_run(roastery):
    text = (ROOT / "docs" / "scenarios.md").read_text()
    rows = re.search(r"```\n(.*?)```", text, re.DOTALL)[1]
    assert not parse_scenario(rows).problems and not check_sheet(roastery, rows).problems


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        ("Go := TRUE", "this is an assignment, a condition compares"),
        ("N", "this is INT"),
        ("Idle.T >= 3", "combines TIME with INT"),
    ],
)
def test_what_the_language_page_says_is_said(typed, said):
    assert said in problem(typed).message
    assert said.split(",")[0] in (ROOT / "docs" / "language.md").read_text()


def fenced(page: str, kind: str) -> list[str]:
    return re.findall(rf"```{kind}\n(.*?)```", (ROOT / "docs" / page).read_text(), re.DOTALL)


@pytest.mark.parametrize("example", [*fenced("semantics.md", "example"), *fenced("language.md", "example")])
def test_examples_run_as_the_documentation_says(example):
    text, deeds = example.rsplit("END_PROGRAM\n", 1)
    project = parse_iec(text + "END_PROGRAM\n")
    rows = [re.fullmatch(r"(at|then) (\d+) (\S+) = (\S+)", line) for line in deeds.split("\n") if line]
    done = [Stimulus(int(r[2]), "set", r[3], r[4] == "TRUE") for r in rows if r[1] == "at"]
    session = Session(project, done)
    session.run_for(300)
    told = {r[3] for r in rows if r[1] == "then"}
    t = session.trace
    seen = [
        (k * 10, t.recorded[c].name, value_text(t.value(c, v), t.recorded[c].type))
        for k, c, v in zip(t.scans, t.columns, t.values)
        if k and t.recorded[c].name in told
    ]
    assert sorted(seen) == sorted((int(r[2]), r[3], r[4]) for r in rows if r[1] == "then")
    assert told


@pytest.mark.parametrize("line", "".join(fenced("language.md", "values")).strip().split("\n"))
def test_expressions_have_the_values_the_documentation_says(line):
    left, right = line.rsplit(" = ", 1)
    made = Project(
        signals=(Signal("Y", SignalClass.OUTPUT),),
        sequences=(Sequence("Main", "Only", (Step("Only", 10),)),),
        closing=f"Y := ({left}) = {right};",
    )
    session = Session(made)
    session.scan()
    assert session.trace.at("Y", 0) is True


@pytest.mark.parametrize("page", [*sorted(p.name for p in (ROOT / "docs").glob("*.md")), "../README.md"])
def test_links_lead_somewhere(page):
    path = ROOT / "docs" / page
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text()):
        assert (path.parent / target).exists(), target


def _source(module: str) -> str:
    path = ROOT / "src" / module.replace(".", "/")
    return (path / "__init__.py" if path.is_dir() else path.with_suffix(".py")).read_text()


def test_examples_in_docstrings_are_true():
    modules = [
        m.name
        for m in pkgutil.walk_packages(spokeshave.__path__, "spokeshave.")
        if "desktop" not in m.name and "__main__" not in m.name and ">>>" in _source(m.name)
    ]
    linecache.clearcache()  # each example looks whether a file that is kept there has changed
    tried = 0
    for name in modules:
        result = doctest.testmod(importlib.import_module(name))
        assert not result.failed, name
        tried += result.attempted
    assert tried >= 9


def raised_in(function: ast.FunctionDef) -> bool:
    """Whether a function itself raises something a caller meets; what is wrong in the program is none of that."""
    todo: list[ast.AST] = [function]
    while todo:
        for child in ast.iter_child_nodes(todo.pop()):
            if isinstance(child, (ast.FunctionDef, ast.Lambda, ast.ClassDef)):
                continue
            if (
                isinstance(child, ast.Raise)
                and child.exc is not None
                and "AssertionError" not in ast.unparse(child.exc)
            ):
                return True
            todo.append(child)
    return False


def test_public_functions_of_the_core_say_what_they_raise():
    seen, silent = 0, []
    for path in sorted((ROOT / "src" / "spokeshave").rglob("*.py")):
        if "desktop" in path.parts or "cli" in path.parts:  # what commands raise is an exit code
            continue
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.FunctionDef) and not node.name.startswith("_") and raised_in(node):
                seen += 1
                if "aise" not in (ast.get_docstring(node) or ""):
                    silent.append(f"{path.name}: {node.name}")
    assert seen > 60 and not silent


def test_the_page_on_case_programs_shows_what_is_read():
    """The program of the page becomes the chart of its table."""
    page = (ROOT / "docs" / "from-your-case-program.md").read_text()
    text = page.split("```st\n")[1].split("```")[0]
    found = read_text(text)
    (q,) = found.project.sequences
    rows = []
    for s in q.steps:
        marks = " ".join(f"{a.target}({a.qualifier})" for a in s.actions)
        ways = "; ".join(f"{t.targets[0]} if `{t.condition}`" for _, t in q.leaving(s.name))
        rows.append(f"| {s.number} {s.name} |{f' {marks}' * bool(marks)} | {ways} |")
    assert all(row in page for row in rows) and len(rows) == 6
    assert found.project.opening == "Run := (Start OR Run) AND NOT Stop;" and not found.project.instances
    assert [(t.name, t.condition) for t in found.project.trips] == [("ToFAULT", "NOT DoorShut")] and "*ToFAULT*" in page


def test_the_table_in_the_documentation_becomes_what_stands_beside_it():
    page = (ROOT / "docs" / "from-your-table.md").read_text(encoding="utf-8")
    table = re.search(r"```table\n(.*?)```", page, re.DOTALL)[1]
    q = plan_sequence(sheet_of_text(table), Project()).sequence
    rows = []
    for s in q.steps:
        marks = " ".join(f"{a.target}({a.qualifier})" for a in s.actions)
        leads = "; ".join(f"{q.step(t.targets[0]).number} if `{t.condition}`" for _, t in q.leaving(s.name))
        rows.append(f"| {s.number} {s.name} | {marks}{' ' * bool(marks)}| {leads} |")
    assert len(rows) == 5 and all(row in page for row in rows), rows


def test_the_first_machine_of_the_manual_is_what_comes_of_what_it_says():
    """Everything that is typed on the page, from an empty file; what it says of the result holds."""
    page = "your-first-machine.md"
    rows = parse_rows(fenced(page, "signals")[0])
    planned = plan_import(Project(), rows[1:], guess_mapping(rows[0]))
    assert not planned.problems and not planned.told
    project = new_sequence(Project("Hatch", signals=planned.signals), "Main")
    plan = plan_sequence(sheet_of_text(fenced(page, "table")[0], "Main"), replace(project, sequences=()))
    assert not plan.problems and plan.sequence is not None
    cells = [
        [c.strip() for c in line.strip("| ").split("|")]
        for line in (ROOT / "docs" / page).read_text().splitlines()
        if line.startswith("| ")
    ]
    devices = []
    for name, kind, wires, *values in cells[1:]:
        pairs = tuple(tuple(x.strip() for x in w.split("=")) for w in wires.split(","))
        numbers = tuple(
            (n.strip(), float(v)) for n, _, v in (x.partition("=") for x in "".join(values).split(",") if x.strip())
        )
        devices.append(Device(name, kind, pairs, numbers))
    scenarios = tuple(Scenario(f"S{n}", text) for n, text in enumerate(fenced(page, "scenario")))
    project = replace(
        project,
        sequences=(replace(plan.sequence, name="Main"),),
        devices=tuple(devices),
        scenarios=scenarios,
        reset="RISING(Start)",
    )
    assert not [d for d in findings(project) if d.severity != "advice"]
    assert [run_scenario(project, s).outcome for s in scenarios] == [Outcome.PASS] * 2
    q = project.sequences[0]
    late = Transition(("Opens",), ("Waiting",), "Opens.Late")
    out = replace(project, sequences=(replace(q, transitions=(*q.transitions, late)),))
    bad = [v.text for v in run_scenario(out, scenarios[1]).verdicts if v.outcome is Outcome.FAIL]
    assert bad == ["expect finally Main.Opens.X"], "the last row fails as it should"
