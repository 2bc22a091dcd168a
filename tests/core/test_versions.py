"""Versions: what differs in words, single differences taken over, three versions put together, and real version control."""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
from dataclasses import replace
from difflib import unified_diff
from importlib.resources import files
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.changes.compare import differences, taken_over
from spokeshave.changes.words import told
from spokeshave.cli import whole_app
from spokeshave.engine.link import link_problems
from spokeshave.formats import spoke
from spokeshave.formats.spoke import dumps, loads
from spokeshave.formats.tables.write import page_of
from spokeshave.language.rename import rename_signal, rename_step
from spokeshave.model import edits
from spokeshave.model.flow_edits import change_transition, delete_step, insert_step
from spokeshave.model.project import Accepted, Conflict, Project, Scenario, Signal, SignalClass
from spokeshave.model.stored import apart
from spokeshave.model.tree import settled
from spokeshave.verify.accepted import keep
from spokeshave.verify.check.run import findings
from spokeshave.versions.merge import merge
from spokeshave.versions.readable import readable
from spokeshave.versions.sheets import sheet_of_both
from tests.core.projects import projects, structured
from tests.core.test_generated_code import hundreds

ROASTERY = loads((files("spokeshave.examples") / "roastery.spoke").read_text(encoding="utf-8"))
anything = st.one_of(projects(), structured(), st.just(ROASTERY))


def said(before: Project, after: Project) -> list[str]:
    return [t.text for t in told(differences(before, after), before, after)]


@hundreds
@given(anything, anything)
def test_all_differences_taken_over_make_the_other_version(a, b):
    found = differences(a, b)
    assert (found == []) is (a == b)
    assert taken_over(a, found) == b
    assert all(t.text and t.stage for t in told(found, a, b))
    assert (readable(a) == readable(b)) is (a == b) or a == b


@hundreds
@given(anything, anything)
def test_what_one_side_changed_is_taken_and_the_same_on_both_sides_is_no_conflict(a, b):
    for mine, theirs, wanted in ((a, b, b), (b, a, b), (b, b, b)):
        found = merge(a, mine, theirs)
        assert found.project == wanted and not found.conflicts


def test_differences_are_said_in_words_of_the_trade():
    q = rename_step(ROASTERY, "Roast", "Charge", "Load")
    q = rename_signal(q, "Burner", "Flame")
    q = edits.change_step(q, "Roast", "Preheat", longest="T#90s")
    q = change_transition(q, "Roast", 0, condition="StartButton")
    q = edits.change_item(q, "devices", 0, at=(9, 9))
    q = replace(q, interlocks=(replace(q.interlocks[0], condition="DrumRuns AND AirRuns"), *q.interlocks[1:]))
    q = replace(
        q, scenarios=(replace(q.scenarios[0], text=q.scenarios[0].text + "\nexpect no hazards"), *q.scenarios[1:])
    )
    assert said(ROASTERY, q) == [
        "Roast: step Charge is called Load now",
        "signal Burner is called Flame now",
        "Roast: step 40 Preheat: longest time is T#90s, was T#60s",
        "Roast: the condition from 10 to 30 + 20: StartButton was RISING(StartButton) AND Home",
        "interlock of Flame lost TempOk",
        "device ChargeGate moved on the board",
        "scenario Light roast in order: row expect no hazards is new",
    ]
    timed = edits.change_sequence(ROASTERY, "Roast")
    way = next(
        n
        for n, t in enumerate(timed.sequence("Roast").transitions)
        if ".T >= T#" in t.condition and " AND " not in t.condition
    )
    step = timed.sequence("Roast").transitions[way].sources[0]
    longer = change_transition(timed, "Roast", way, condition=f"{step}.T >= T#9s")
    assert said(timed, longer)[0].startswith(f"Roast: the time of {step} is 9s, was ")
    more = insert_step(ROASTERY, "Roast", "Preheat")
    assert any(t.startswith("Roast: step ") and " inserted between 40 and 50" in t for t in said(ROASTERY, more))


EDITS = {
    "longest": lambda p: edits.change_step(p, "Roast", "Preheat", longest="T#90s"),
    "condition": lambda p: change_transition(p, "Roast", 0, condition="RISING(StartButton)"),
    "step": lambda p: insert_step(p, "Roast", "SpinUp"),
    "rename step": lambda p: rename_step(p, "Roast", "Charge", "Load"),
    "rename signal": lambda p: rename_signal(p, "Burner", "Flame"),
    "signal": lambda p: edits.add_item(p, "signals", Signal("Spare", SignalClass.INPUT)),
    "other signal": lambda p: edits.add_item(p, "signals", Signal("Second", SignalClass.OUTPUT)),
    "comment": lambda p: edits.change_item(p, "signals", 3, comment="knob"),
    "scenario": lambda p: edits.add_item(p, "scenarios", Scenario("New", "run for 1 s\nexpect no hazards")),
    "row": lambda p: edits.change_item(p, "scenarios", 0, text=p.scenarios[0].text + "\nexpect no hazards"),
    "place": lambda p: edits.change_item(p, "devices", 1, at=(30, 2)),
    "interlock": lambda p: edits.change_item(p, "interlocks", 0, comment="asked for by the insurer"),
    "setting": lambda p: edits.change_item(p, "signals", next(n for n, s in enumerate(p.signals) if s.name == "ChargeTemp"), initial=170.0),
}  # fmt: skip
PAIRS = [
    ("longest", "condition"), ("step", "longest"), ("rename step", "step"), ("rename step", "condition"), ("rename signal", "interlock"),
    ("signal", "other signal"), ("comment", "signal"), ("scenario", "row"), ("place", "setting"), ("rename signal", "comment"), ("row", "longest"),
    ("step", "rename signal"), ("setting", "comment"),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other"), PAIRS)
def test_usual_edits_of_two_people_are_put_together(one, other):
    mine, theirs = EDITS[one](ROASTERY), EDITS[other](ROASTERY)
    found = merge(ROASTERY, mine, theirs)
    assert not found.conflicts and link_problems(found.project) == []
    assert found.project == EDITS[other](mine) or found.project == EDITS[one](theirs)


def test_what_both_changed_stays_mine_with_a_finding_that_says_both():
    mine = edits.change_step(ROASTERY, "Roast", "Preheat", longest="T#90s")
    theirs = edits.change_step(ROASTERY, "Roast", "Preheat", longest="T#2m")
    found = merge(ROASTERY, mine, theirs)
    assert found.conflicts == [Conflict("sequences/roast/steps/preheat/longest", "T#90s", "T#2m", '"T#2m"')]
    assert replace(found.project, conflicts=()) == mine and loads(dumps(found.project)) == found.project
    (finding,) = [d for d in findings(found.project) if d.code == "merge-conflict"]
    assert finding.severity == "error" and finding.message == "two versions differ: mine T#90s, theirs T#2m"
    assert settled(found.project, found.conflicts[0], False) == mine
    assert settled(found.project, found.conflicts[0], True) == theirs
    gone = merge(ROASTERY, delete_step(ROASTERY, "Cool", ROASTERY.sequence("Cool").steps[-1].name), edits.change_step(
        ROASTERY, "Cool", ROASTERY.sequence("Cool").steps[-1].name, longest="T#7s"))  # fmt: skip
    assert [(c.mine, c.theirs) for c in gone.conflicts] == [("gone", "changed")]
    both = merge(ROASTERY, rename_signal(ROASTERY, "Burner", "Flame"), rename_signal(ROASTERY, "Burner", "Fire"))
    assert [(c.path, c.mine, c.theirs) for c in both.conflicts] == [("signal Burner/name", "Flame", "Fire")]
    text = ROASTERY.scenarios[0].text.split("\n")
    a, b = (
        edits.change_item(ROASTERY, "scenarios", 0, text="\n".join([*text[:-1], f"{text[-1]}{more}"]))
        for more in (" // a", " // b")
    )
    assert [c.path for c in merge(ROASTERY, a, b).conflicts] == ["scenarios/light roast in order/text"]


def test_commands_tell_merge_and_write(tmp_path):
    run, app = CliRunner(), whole_app()
    base, mine, theirs, out = (tmp_path / f"{n}.spoke" for n in ("base", "mine", "theirs", "out"))
    for path, project in (
        (base, ROASTERY),
        (mine, EDITS["longest"](ROASTERY)),
        (theirs, EDITS["rename step"](ROASTERY)),
    ):
        path.write_text(dumps(project), encoding="utf-8")
    assert run.invoke(app, ["diff", str(base), str(base)]).exit_code == 0
    found = run.invoke(app, ["diff", str(base), str(mine)])
    assert (
        found.exit_code == 1
        and found.stdout == "Sequence\n  Roast: step 40 Preheat: longest time is T#90s, was T#60s\n"
    )
    objects = json.loads(run.invoke(app, ["diff", str(base), str(mine), "--json"]).stdout)["differences"]
    assert (
        objects[0]["path"] == ["sequences", "roast", "steps", "preheat", "longest"]
        and objects[0]["stage"] == "Sequence"
    )
    run.invoke(app, ["diff", str(base), str(theirs), "--html", str(tmp_path / "d.html")])
    assert "<li class=changed>Roast: step Charge is called Load now</li>" in (tmp_path / "d.html").read_text()
    assert run.invoke(app, ["merge", str(base), str(mine), str(theirs), str(out)]).exit_code == 0
    assert loads(out.read_text()) == apart(EDITS["rename step"](EDITS["longest"](ROASTERY)))[0]
    clash = edits.change_step(ROASTERY, "Roast", "Preheat", longest="T#2m")
    theirs.write_text(dumps(clash), encoding="utf-8")
    told = run.invoke(app, ["merge", str(base), str(mine), str(theirs), str(out)])
    assert told.exit_code == 1 and "sequences/roast/steps/preheat/longest: mine T#90s; theirs T#2m" in told.stderr
    lines = run.invoke(app, ["text", str(base)]).stdout.splitlines()
    changed = run.invoke(app, ["text", str(mine)]).stdout.splitlines()
    assert len(set(changed) - set(lines)) == 1, "an edit of one step is one line"
    assert (
        run.invoke(app, ["check", str(out)]).exit_code == 1
        and run.invoke(app, ["run", str(mine), "--for", "1s"]).exit_code == 0
    )


def test_two_branches_of_a_real_repository_are_merged_and_compared_in_words(tmp_path):
    """As `docs/versions.md` sets it up."""
    if shutil.which("git") is None:
        pytest.skip("there is no git on this machine")
    page = (Path(__file__).parents[2] / "docs" / "versions.md").read_text(encoding="utf-8")
    assert "*.spoke diff=spokeshave merge=spokeshave" in page
    program = f"{sys.executable} -m spokeshave"
    clean = {k: v for k, v in os.environ.items() if not k.startswith("GIT_")}

    def git(*words: str) -> subprocess.CompletedProcess[str]:
        mine = ["-c", "user.name=A", "-c", "user.email=a@example.org"]
        return subprocess.run(
            ["git", *mine, *words], cwd=tmp_path, capture_output=True, text=True, env=clean, check=False
        )

    git("init", "-q", "-b", "main")
    attributes = "*.spoke diff=spokeshave merge=spokeshave\n*.spoke.accepted -diff merge=union\n"
    assert attributes in page
    (tmp_path / ".gitattributes").write_text(attributes)
    for key, value in (("diff.spokeshave.textconv", f"{program} text"), ("merge.spokeshave.name", "machine files"),
                       ("merge.spokeshave.driver", f"{program} merge %O %A %B %A")):  # fmt: skip
        assert key in page
        git("config", key, value)
    file = tmp_path / "roastery.spoke"

    def commit(project: Project, message: str) -> None:
        spoke.write(project, file)
        git("add", "-A")
        assert git("commit", "-q", "-m", message).returncode == 0

    commit(ROASTERY, "base")
    git("checkout", "-q", "-b", "other")
    theirs, mine = (Accepted(s.name, lanes=(("Drum", f"0:0 {n}:1"),)) for n, s in enumerate(ROASTERY.scenarios[:2]))
    commit(keep(EDITS["rename step"](EDITS["signal"](ROASTERY)), theirs), "theirs")
    git("checkout", "-q", "main")
    commit(keep(EDITS["step"](EDITS["other signal"](ROASTERY)), mine), "mine")
    done = git("merge", "-q", "other", "-m", "both")
    assert done.returncode == 0, done.stderr
    found = spoke.read(file)
    assert {a.scenario: a.lanes for a in found.accepted} == {a.scenario: a.lanes for a in (mine, theirs)}
    assert (
        found.signal("Spare")
        and found.signal("Second")
        and found.sequence("Roast").step("Load")
        and link_problems(found) == []
    )
    shown = git("log", "-p", "-1", "--first-parent", "-m").stdout
    assert "+  Spare | input" in shown and '"cls"' not in shown
    git("checkout", "-q", "-b", "third")
    commit(edits.change_step(found, "Roast", "Preheat", longest="T#2m"), "theirs")
    git("checkout", "-q", "main")
    commit(EDITS["longest"](found), "mine")
    clash = git("merge", "-q", "third", "-m", "clash")
    assert clash.returncode != 0 and "roastery.spoke" in git("status", "--short").stdout
    assert [c.theirs for c in loads(file.read_text(encoding="utf-8")).conflicts] == ["T#2m"]


@pytest.mark.parametrize(
    "edit", ["longest", "condition", "step", "signal", "scenario", "row", "place", "interlock", "setting", "comment"]
)
def test_a_usual_edit_changes_few_lines_of_the_file(edit):
    """Fewer than ten lines of the file, also where a row of a scenario is changed."""
    before, after = (dumps(p).splitlines() for p in (ROASTERY, EDITS[edit](ROASTERY)))
    changed = [line for line in unified_diff(before, after, n=0, lineterm="") if line[:1] in "+-"][2:]
    assert 1 <= len(changed) <= 10 and loads("\n".join(after)) == EDITS[edit](ROASTERY)


@hundreds
@given(anything, st.integers(0, 10**6))
def test_both_sheets_in_one_have_every_row_of_each(project, seed):
    """The rows that are not gone are those of the later version, those that are not new of the earlier one."""
    c = random.Random(seed)
    q = c.choice(project.sequences)
    step = c.choice(q.steps).name
    other = c.choice((
        lambda: insert_step(project, q.name, step), lambda: rename_step(project, q.name, step, "Fresh"),
        lambda: edits.change_step(project, q.name, step, longest="T#77s", comment="why", actions=()),
        lambda: project,
    ))()  # fmt: skip
    sheet = sheet_of_both(project, other, q.name)
    old, new = page_of(project, q), page_of(other, other.sequence(q.name))
    at = {h: i for i, h in enumerate(sheet.heads)}
    later = [[r.cells[at[h]].text for h in new.heads] for r in sheet.rows if r.kind != "gone"]
    assert later == [list(r) for r in new.rows]
    was = [
        [cell.text if (cell := r.cells[at[h]]).was is None else cell.was for h in old.heads]
        for r in sheet.rows
        if r.kind != "new"
    ]
    assert sorted(was) == sorted(list(r) for r in old.rows)
    assert any(r.kind for r in sheet.rows) is (old.rows != new.rows or old.heads != new.heads)
    alone = sheet_of_both(replace(project, sequences=()), project, q.name)
    assert {r.kind for r in alone.rows} == {"new"} and len(alone.rows) == len(old.rows)
