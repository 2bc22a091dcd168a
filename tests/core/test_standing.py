"""What must be proven again after an edit: what provably cannot matter keeps its verdict, everything else loses it."""

from __future__ import annotations

import json
import random
from dataclasses import replace
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.link import link_problems
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats import spoke
from spokeshave.formats.beside import path_beside, read_beside
from spokeshave.model.diagnostics import Severity
from spokeshave.model.edits import edit_sequence
from spokeshave.model.project import (
    Accepted,
    Action,
    Body,
    Project,
    Qualifier,
    Requirement,
    Scenario,
    Signal,
    SignalClass,
    Step,
    Transition,
)
from spokeshave.verify.accepted import accept, keep
from spokeshave.verify.check import findings
from spokeshave.verify.coverage import coverage
from spokeshave.verify.ledger import Ledger
from spokeshave.verify.scenarios import entered_in, run_all, run_scenario
from spokeshave.verify.standing import basis_of, changed, of_data, proof_of, since, study_basis, to_data, told
from spokeshave.verify.sweep.matrix import Matrix, accept_sweep
from tests.core.projects import INPUTS, OUTPUTS, PERIOD, projects, runs
from tests.core.test_check import gate
from tests.core.test_cli import call


def other(project: Project, c: random.Random) -> Project:
    """The machine file after one or two edits of the kind that people make."""
    for _ in range(c.randint(1, 2)):
        project = edit_sequence(project, c.choice(project.sequences).name, lambda q: _edited(q, c))
        if c.random() < 0.2:
            project = replace(project, interlocks=(), opening=f"(* note *) {project.opening}")
        if c.random() < 0.2:
            signals = (replace(s, comment="told") for s in project.signals)
            project = replace(project, signals=(*signals, Signal("Extra", SignalClass.INPUT)))
    return project


def _edited(q, c):
    step, way = c.choice(q.steps), c.choice(q.transitions)
    condition = c.choice((*INPUTS, "NOT A", "RISING(B)", f"{step.name}.T >= T#20ms", "RISING(1 / Count = 2)"))

    def steps(**changes):
        return replace(q, steps=tuple(replace(s, **changes) if s is step else s for s in q.steps))

    def ways(**changes):
        return replace(q, transitions=tuple(replace(t, **changes) if t is way else t for t in q.transitions))

    target = c.choice((*OUTPUTS, "Idle", q.bodies[0].name))
    new = Step("New", 990, (Action(Qualifier.S, "Y1"),), "T#10ms", permissive="A")
    edits = (
        lambda: steps(longest=c.choice(("", "T#10ms", "T#50ms")), shortest=c.choice(("", "T#30ms"))),
        lambda: steps(actions=(Action(c.choice((Qualifier.N, Qualifier.S, Qualifier.R, Qualifier.P1)), target),)),
        lambda: steps(actions=()), lambda: steps(response=c.choice(("hold", "Low")), longest="T#20ms"),
        lambda: steps(permissive=c.choice(("", "C", "NOT B", "HELD(C, T#20ms)"))),
        lambda: steps(comment="why"), lambda: ways(condition=condition), lambda: ways(priority=c.choice((None, 1, 7))),
        lambda: ways(targets=(step.name,)), lambda: ways(condition=f" ({way.condition})  // as before"),
        lambda: replace(q, steps=(*q.steps, new), transitions=(*q.transitions, Transition((step.name,), ("New",), condition))),
        lambda: replace(q, transitions=(Transition((step.name,), (way.sources[0],), condition), *q.transitions)),
        lambda: replace(q, transitions=tuple(t for t in q.transitions if t is not way)),
        lambda: replace(q, bodies=(Body(q.bodies[0].name, "Count := Count + 3;"),)), lambda: replace(q, hold_when="B"),
    )  # fmt: skip
    return c.choice(edits)()


def _run(project: Project, inputs) -> Session:
    rows = [Stimulus(k * PERIOD, "set", n, v) for k, values in enumerate(inputs) for n, v in zip(INPUTS, values)]
    session = Session(project, rows)
    session.run_scans(len(inputs) + 3)
    return session


def test_what_keeps_its_verdict_runs_the_same_in_every_scan():
    """Random edits; where nothing a run depends on has changed, both machine files are run beside each other."""
    tried: list[bool] = []
    idle = Signal("Idle", SignalClass.OUTPUT, initial=True)  # on until an action has it

    @settings(max_examples=4 * settings().max_examples)
    @given(projects(), runs(), st.integers(0, 2**32))
    def same(project, inputs, seed):
        project, chance = replace(project, signals=(*project.signals, idle)), random.Random(seed)
        before = _run(project, inputs)
        visited = tuple(n.lower() for n in entered_in(before))
        basis = basis_of(project, (), visited)
        for edited in (other(project, chance) for _ in range(8)):
            tried.append(not changed(basis, basis_of(edited, (), visited)) and not link_problems(edited))
            if tried[-1]:
                runs_alike(before, _run(edited, inputs))

    same()
    assert 0.1 < sum(tried) / len(tried) < 0.9, "hardly anything to compare, or hardly anything that differs"


def runs_alike(before: Session, after: Session) -> None:
    """The same values of all that both recorded, in the same scans."""
    assert (after.stopped is None) == (before.stopped is None) and after.k == before.k
    known = {r.name: i for i, r in enumerate(after.trace.recorded)}
    for i, r in enumerate(before.trace.recorded):
        if r.name in known:
            was, now = before.trace.changes(i), after.trace.changes(known[r.name])
            assert [x.tolist() for x in was] == [x.tolist() for x in now], r.name


def gated() -> Project:
    """The sluice with a step for faults that its scenarios do not enter, and what is to be shown."""
    project = gate()
    q = project.sequences[0]
    fault = Step("Fault", 90, (Action(Qualifier.N, "Lamp"),), "T#9s")
    ways = (Transition(("Closing",), ("Fault",), "Closing.T > T#4s"), Transition(("Fault",), ("Idle",), "Shut"))
    q = replace(
        q, steps=(*(replace(s, actions=s.actions[:1]) for s in q.steps), fault), transitions=(*q.transitions, *ways)
    )
    shuts = "shows R1\nat 1 s: press Button\nrun for 9 s\nexpect reach Main.Closing within 8 s"
    idles = "run for 2 s\nexpect finally Main.Idle.X"
    return replace(project, sequences=(q,), requirements=(Requirement("R1", "It shuts."), Requirement("R2", "No more.")),
                   scenarios=(Scenario("Shuts", shuts), Scenario("Idles", idles)))  # fmt: skip


def of_step(project: Project, name: str, **changes: object) -> Project:
    def edit(q):
        return replace(q, steps=tuple(replace(s, **changes) if s.name == name else s for s in q.steps))

    return edit_sequence(project, "Main", edit)


def test_after_an_edit_each_requirement_says_whether_it_is_still_proven():
    project = gated()
    ledger = Ledger()
    ledger.take(run_all(project), project)

    def states(p: Project) -> tuple[list[str], list[str]]:
        ledger.follow(p)
        covered = coverage(p, ledger.results, findings(p), ledger.standing)
        return [c.state for c in covered], [s.name for s in ledger.to_run(p)]

    assert states(project) == (["proven", "open"], [])
    for harmless in (
        of_step(project, "Opening", comment="why"),
        of_step(project, "Fault", actions=(), longest=""),
        replace(project, devices=tuple(replace(d, at=(9, 9), comment="told") for d in project.devices)),
        replace(project, signals=(*(replace(s, address="%MX1.1") for s in project.signals[:1]), *project.signals[1:],
                                  Signal("Spare", SignalClass.INPUT)), name="Other"),
        replace(project, scenarios=(replace(project.scenarios[0], text="// why\n" + project.scenarios[0].text), *project.scenarios[1:])),
    ):  # fmt: skip
        assert states(harmless) == (["proven", "open"], []), harmless
    edited = of_step(project, "Opening", longest="T#7s")
    assert states(edited) == (["proven before", "open"], ["Shuts"])
    (link,) = coverage(edited, ledger.results, findings(edited), ledger.standing)[0].links
    assert link.why == "it passed before the change of step Main.Opening"
    assert list(ledger.earlier) == ["Shuts"] and list(ledger.results) == ["Idles"]
    assert states(project) == (["proven", "open"], []), "the edit was undone"
    broken = of_step(project, "Fault", actions=(Action(Qualifier.N, "Nothing"),))
    assert states(broken)[0] == ["not run", "open"], "what cannot run proves nothing"
    no_more = replace(project, scenarios=project.scenarios[1:])
    assert states(no_more) == (["open", "open"], [])
    told_of = {told(since(proof_of(run_scenario(project, project.scenarios[0])), p)) for p in (
        replace(project, period_ms=20), replace(project, trips=()), replace(project, opening="Lamp := FALSE;"),
        replace(project, devices=project.devices[1:]), edit_sequence(project, "Main", lambda q: replace(q, transitions=q.transitions[1:])),
        replace(project, signals=tuple(replace(s, initial=1000) if s.name == "Wait" else s for s in project.signals)),
    )}  # fmt: skip
    assert told_of == {"the scan period", "trip Safety", "the opening logic", "device Sluice",
                       "transition Main: Idle to Opening", "signal Wait"}  # fmt: skip
    moved = replace(project, devices=())
    assert study_basis(moved) == study_basis(project) != study_basis(of_step(project, "Fault", longest=""))


def test_a_scenario_that_names_what_is_not_there_is_looked_at_again_when_it_comes():
    project = replace(gated(), scenarios=(Scenario("Odd", "run for 1 s\nexpect never Main.Later.X"),))
    ledger = Ledger()
    ledger.take(run_all(project), project)
    assert [s.name for s in ledger.to_run(project)] == []
    more = edit_sequence(project, "Main", lambda q: replace(q, steps=(*q.steps, Step("Later", 99))))
    ledger.follow(more)
    assert [s.name for s in ledger.to_run(more)] == ["Odd"]


def with_accepted(project: Project) -> Project:
    for s in project.scenarios:
        for run in run_scenario(project, s).runs:
            project = keep(project, accept(s, run, note="2031-05-06"))
    matrix = Matrix("Shuts", ("power cycle",), ("Idle", "Opening"))
    return accept_sweep(project, matrix, "2031-05-06")


def test_accepted_runs_stand_in_a_file_beside_and_are_known_by_their_digest(tmp_path):
    project = with_accepted(gated())
    file = tmp_path / "gate.spoke"
    spoke.write(project, file)
    assert spoke.read(file) == project and spoke.loads(spoke.dumps(project)) == project
    assert "0:1" not in file.read_text() and len(path_beside(file).read_text().splitlines()) == 4
    lines = path_beside(file).read_text().splitlines()
    for damaged in (
        "",
        "\n".join(lines[:1]),
        lines[1].replace("0:", "1:"),
        "{}\n[1]\n\0",
        '{"stored": 5, "rows": "x"}',
        "[" * 5000,
    ):
        path_beside(file).write_text(damaged)
        found = spoke.read(file)
        assert [a.scenario for a in found.accepted] == ["Shuts", "Idles"] and not any(a.lanes for a in found.accepted)
        told_of = [d for d in findings(found) if d.code == "accepted-missing"]
        assert len(told_of) == 3 and all(d.severity is Severity.WARNING for d in told_of)
    spoke.write(found, file)  # what is missing is not lost for those who have it
    path_beside(file).write_text("\n".join(reversed(lines)))
    assert spoke.read(file) == project
    spoke.write(replace(project, accepted=project.accepted[:1]), file)
    assert len(read_beside(file).stored) == 3, "what the file named until then is there until it is written again"
    spoke.write(replace(project, accepted=project.accepted[:1]), file)
    assert len(read_beside(file).stored) == 2
    spoke.write(replace(project, accepted=(), sweep=replace(project.sweep, accepted=())), file)
    spoke.write(gated(), file)
    assert not path_beside(file).exists()


@given(st.lists(st.tuples(st.text(), st.text()), min_size=1, max_size=4), st.text(), st.booleans())
def test_whatever_is_in_an_accepted_run_reads_back(lanes, note, inline):
    project = Project(accepted=(Accepted("S", lanes=tuple(lanes), note=note),))
    try:
        text = spoke.dumps(project)
        text.encode()
    except (UnicodeEncodeError, ValueError):
        return
    assert spoke.loads(text) == project


def test_verdicts_are_kept_beside_the_file_and_only_what_changed_is_run(tmp_path):
    file = tmp_path / "gate.spoke"
    project = gated()
    spoke.write(project, file)

    def said(*more: str) -> str:
        return call("verify", str(file), *more)[1]

    assert said("--changed").count("pass  ") == 2 and not path_beside(file).exists()
    assert said("--keep").count("pass  ") == 2
    assert said("--changed").count("holds  ") == 2 and "1 of 2 requirements proven" in said("--changed")
    spoke.write(of_step(project, "Opening", longest="T#7s"), file)
    out = said("--changed")
    assert out.count("holds  ") == 1 and out.count("pass  ") == 1
    data = json.loads(said("--changed", "--json"))
    assert [k["name"] for k in data["kept"]] == ["Idles"] and [s["name"] for s in data["scenarios"]] == ["Shuts"]
    said("--keep", "--changed")
    assert json.loads(said("--changed", "--json"))["scenarios"] == []
    verdicts = read_beside(file).verdicts
    for proof in map(of_data, verdicts):
        assert proof is not None and of_data(to_data(proof)) == proof
    for key in verdicts[0]:
        for wrong in (None, 5, "x", [1], {"a": 1}):
            found = of_data(verdicts[0] | {key: wrong})
            assert found is None or found == of_data(to_data(found))
    text = tmp_path / "gate.st"
    assert call("convert", str(file), str(text))[0] == 0
    code, _, refused = call("verify", str(text), "--keep")
    assert code == 2 and "convert this one first" in refused


@pytest.mark.parametrize("both", [True, False])
def test_lines_of_two_branches_can_stand_in_any_order(tmp_path: Path, both: bool):
    file = tmp_path / "gate.spoke"
    project = gated()
    spoke.write(project, file, map(to_data, map(proof_of, run_all(project))))
    lines = path_beside(file).read_text()
    later = of_step(project, "Opening", longest="T#7s")
    spoke.write(later, file, map(to_data, map(proof_of, run_all(later))))
    path_beside(file).write_text(
        path_beside(file).read_text() + lines if both else lines + path_beside(file).read_text()
    )
    ledger = Ledger()
    ledger.take_kept(read_beside(file).verdicts, later)
    assert ledger.to_run(later) == [], "of several verdicts one that holds"


def test_what_the_commands_print_as_json_is_alone_and_as_its_schema_says(tmp_path):
    """Each command with a result and with an error; every form of the schema is met."""
    schema = json.loads((Path(__file__).parent.parent.parent / "docs" / "output.schema.json").read_text())
    valid = jsonschema.Draft202012Validator(schema)
    met = set()
    file, later, trace = tmp_path / "gate.spoke", tmp_path / "later.spoke", tmp_path / "run.csv"
    spoke.write(replace(gated(), waivers=()), file)
    spoke.write(of_step(gated(), "Opening", longest="T#7s", comment="why"), later)
    assert call("run", str(file), "--for", "3s", "--trace", str(trace))[0] == 0
    for words in (
        ["check", file, "--waived"], ["verify", file, "--keep"], ["verify", later], ["verify", file, "--changed"],
        ["faults", file, "--cycle", "Shuts", "--accept"], ["faults", file, "--cycle", "Shuts"], ["reach", file],
        ["replay", file, trace], ["diff", file, later], ["serve", file, "--map"],
        ["strength", file, "--jobs", "1", "--sample", "12"], ["alarms", file], ["recipes", file],
        ["room", file, "--jobs", "1", "--quick", "--draws", "2"], ["propose", file, "--seconds", "5"],
        ["propose", file, "--devices"],
        ["find", file, "Opening", "--used"], ["find", file, "nowhere"],
        ["serve", file, "--modbus", "127.0.0.1:0", "--for", "30ms"],
    ):  # fmt: skip
        code, out, _ = call(*map(str, words), "--json")
        data = json.loads(out)
        valid.validate(data)
        met.add(data["format"])
        assert code in (0, 1), words
        wrong = [words[0], str(tmp_path / "none.spoke"), *map(str, words[2:])]
        code, out, errors = call(*wrong, "--json")
        assert code == 2 and not out and errors, words
    assert met == {d["properties"]["format"]["const"] for d in schema["$defs"].values()}
