"""The fault sweep: what a verdict says of a run, and that checkpoints, skip-ahead and processes change nothing of it."""

from __future__ import annotations

import csv
import io
import re
import warnings
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from xml.etree import ElementTree

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from typer.testing import CliRunner

from spokeshave.cli import report, whole_app
from spokeshave.engine.session import Session
from spokeshave.formats import spoke
from spokeshave.language.rename import rename_device, rename_step
from spokeshave.model.project import (
    Action,
    Body,
    Device,
    Interlock,
    OpposedPair,
    Project,
    Qualifier,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)
from spokeshave.verify import processes
from spokeshave.verify.junit import sweep_junit
from spokeshave.verify.sweep.concerns import Concerns
from spokeshave.verify.sweep.cycle import SweepError, cycles_of
from spokeshave.verify.sweep.faults import POWER, Fault, faults_of
from spokeshave.verify.sweep.matrix import accept_sweep, explain, matrix_csv
from spokeshave.verify.sweep.reference import Reference
from spokeshave.verify.sweep.trial import Trial
from spokeshave.verify.sweep.verdicts import Verdict, judge, try_in, try_out
from spokeshave.verify.sweep.work import Sweep, sweep

N = Qualifier.N


def slide(out: str = "SlideOut", back: str = "SlideBack AND NOT SlideOut", longest: str = "T#3s", **more) -> Project:
    """A slide that goes out and comes back after Go; what may be otherwise is an argument."""
    inputs = [Signal(n, SignalClass.INPUT) for n in ("Go", "Again", "SlideOut", "SlideBack", "Halt")]
    outputs = [Signal(n, SignalClass.OUTPUT) for n in ("Slide", "Fan")]
    steps = (
        Step("Rest", 10),
        Step("Away", 20, (Action(N, "Slide"), Action(N, "Fan")), longest),
        Step("Inward", 30, (), longest),
    )
    ways = (
        Transition(("Rest",), ("Away",), "RISING(Go)"),
        Transition(("Away",), ("Inward",), out),
        Transition(("Inward",), ("Rest",), back),
    )
    devices = (
        Device("Carriage", "actuator", (("extend", "Slide"), ("extended", "SlideOut"), ("retracted", "SlideBack"))),
        Device("Blower", "motor", (("run", "Fan"),), (("run_up_s", 0.2), ("run_down_s", 0.2))),
        Device("GoButton", "button", (("contact", "Go"),)), Device("AgainButton", "button", (("contact", "Again"),)),
        Device("HaltButton", "emergency", (("contact", "Halt"),)),
    )  # fmt: skip
    scenario = Scenario("Out and back", "at 100 ms: press GoButton\nrun for 8 s\nexpect order Main: Rest, Away, Inward, Rest\n"
                        "expect never Fan AND NOT Slide\n")  # fmt: skip
    made = Project("Slide", 10, signals=(*inputs, *outputs), sequences=(Sequence("Main", "Rest", steps, ways),), devices=devices,
                   trips=(Trip("Halted", 1, "NOT Halt", ("Main",), steps="restart"),), reset="Again", scenarios=(scenario,))  # fmt: skip
    return replace(made, **more)


def verdict(project: Project, fault: str, step: str) -> tuple[str, str]:
    reference = Reference(project)
    found = next(f for f in faults_of(project) if f.name == fault)
    cell = try_out(reference, found, next(s for s in reference.steps if reference.name(s) == f"Main.{step}"))
    return cell.verdict.value, cell.because


def test_each_verdict_is_given_for_what_it_means():
    sound = slide()
    assert verdict(sound, "Carriage jammed", "Away") == ("recovered", "Main.Away is late: longer than 3000 ms")
    assert verdict(sound, "AgainButton pressed", "Away")[0] == "harmless"
    assert verdict(sound, "HaltButton pressed", "Inward") == ("recovered", "trip Halted")
    assert verdict(sound, POWER, "Away") == ("recovered", "the loss of power tells of itself")
    word, why = verdict(slide(longest=""), "Carriage jammed", "Away")
    assert word == "stuck" and "no alarm" in why
    word, why = verdict(slide(out="Away.T >= T#1500ms"), "Carriage jammed", "Rest")
    assert (word, why) == ("silent", "Main.Away was left with Carriage not where it belongs, and no alarm tells of it")
    # The blower has no feedback: nothing but the stand-in knows that it stands.
    assert verdict(sound, "Blower does not start", "Away")[0] == "silent"
    # An interlock that leaves the fan on alone.
    unguarded = replace(sound, interlocks=(Interlock("Slide", "NOT Again"),))
    word, why = verdict(unguarded, "AgainButton pressed", "Away")
    assert word == "hazard" and why == "never Fan AND NOT Slide"


def test_an_output_that_stays_on_while_a_stop_acts_is_a_hazard_with_its_time():
    pump = (*slide().signals, Signal("Pump", SignalClass.OUTPUT))
    frozen = slide(signals=pump, closing="Pump := Main.State > 10;", trips=(replace(slide().trips[0], steps="freeze"),))
    word, why = verdict(frozen, "HaltButton pressed", "Away")
    assert word == "hazard" and re.fullmatch(r"Pump is on at \d+ ms while HaltButton is pressed", why)
    said = replace(frozen, trips=(replace(frozen.trips[0], stays=("Pump",), steps="restart"),))
    assert verdict(said, "HaltButton pressed", "Away")[0] == "recovered"
    # A body does not run any more while the trip stands: what it has turned on stays on.
    main = slide().sequences[0]
    bodied = replace(main, steps=tuple(replace(s, actions=(*s.actions, Action(Qualifier.P1, "Body"))) if s.name == "Away" else s
                                       for s in main.steps), bodies=(Body("Body", "Pump := TRUE;"),))  # fmt: skip
    left = slide(
        signals=pump, sequences=(bodied,), closing="IF Main.Rest.X AND Halt AND Again THEN Pump := FALSE; END_IF;"
    )
    word, why = verdict(left, "HaltButton pressed", "Away")
    assert word == "hazard" and why.startswith("Pump is on at")


def test_a_machine_that_starts_by_itself_after_the_reset_or_when_power_is_back_is_a_hazard():
    frozen = slide(trips=(replace(slide().trips[0], steps="freeze"),))
    word, why = verdict(frozen, "HaltButton pressed", "Away")
    assert word == "hazard" and re.fullmatch(
        r"(Slide|Fan) is on at \d+ ms after the reset, before a hand starts it", why
    )
    kept = slide(sequences=(replace(slide().sequences[0], retain=True),))
    word, why = verdict(kept, POWER, "Away")
    assert word == "hazard" and "when power is back, before a hand starts it" in why
    assert verdict(slide(), POWER, "Away")[0] == "recovered"


def test_what_is_caught_but_not_clean_afterwards_is_no_more_than_caught():
    """The halt is latched, and nothing resets it."""
    word, why = verdict(slide(reset=""), "HaltButton pressed", "Away")
    assert word == "caught" and why.startswith("trip Halted; after the reset it stands in Main.Rest")
    freed = slide(reset="", trips=(Trip("Halted", 1, "NOT Halt", ("Main",), steps="restart", latching=False),))
    assert verdict(freed, "HaltButton pressed", "Away")[0] == "recovered"


def test_a_scenario_can_say_how_the_machine_is_reset():
    twice = Scenario(
        "By hand", "at 0 s: press AgainButton\nafter 1 s: press AgainButton\nrun for 2 s\nexpect always Main.Rest.X"
    )
    project = slide(scenarios=(*slide().scenarios, twice))
    plain, named = Reference(project), Reference(project, reset="By hand")
    step = plain.steps[1]
    fault = Fault("failure", "Carriage", "jammed")
    presses = [
        sum(st.target == "AgainButton" and st.value == 1 for st in Trial(r, fault, step).run().done)
        for r in (plain, named)
    ]
    assert presses == [1, 2]
    with pytest.raises(SweepError, match="'Nobody' says how the machine is reset"):
        Reference(project, reset="Nobody")


def test_an_alarm_that_points_elsewhere_tells_nothing_of_the_fault():
    """Two slides in two sequences: a window of the other one is no sign of this fault."""
    concerns = Concerns(slide(opening="Near := SlideOut;\nFar := Halt;", interlocks=(Interlock("Fan", "Near"),)))
    assert {"slide", "slideout", "slideback", "near", "fan"} <= concerns.of("Carriage")
    assert not {"halt", "far"} & concerns.of("Carriage") and concerns.of("HaltButton") == {"halt", "far"}
    paired = Concerns(slide(opposed=(OpposedPair("Slide", "Fan", 100),)))
    assert "slide" in paired.of("Blower")
    reference = Reference(slide())
    seen = Trial(reference, Fault("failure", "Carriage", "jammed"), (0, 1)).run()
    elsewhere = replace(seen, pointing=None, other=seen.pointing, unclean="")
    assert judge(Fault("failure", "Carriage", "jammed"), elsewhere, "")[0] is Verdict.STUCK
    assert "points elsewhere" in judge(Fault("failure", "Carriage", "jammed"), elsewhere, "")[1]
    assert judge(Fault("failure", "Carriage", "jammed"), seen, "Main: division by 0")[0] is Verdict.HAZARD


def test_only_failures_that_something_could_notice_are_tried():
    names = [f.name for f in faults_of(slide())]
    assert "Carriage jammed" in names and "Carriage middle stuck on" not in names
    assert "Blower does not start" in names and "Blower running stuck on" not in names
    assert names[-3:] == ["AgainButton pressed", "HaltButton pressed", POWER] and len(names) == len(set(names))


@settings(max_examples=25, deadline=None)
@given(fault=st.integers(0, 55), step=st.integers(0, 17))
def test_a_cell_is_the_run_that_its_stimuli_give_in_every_scan_from_the_start(roastery, sessions, fault, step):
    """Checkpoints, shared prefixes and skip-ahead change nothing."""
    reference = sessions
    trial = Trial(reference, faults_of(roastery)[fault], reference.steps[step])
    seen = trial.run()
    again = Session(reference.project, seen.done, every_scan=True)
    again.run_scans(seen.end)
    assert again.situation.active == trial.session.situation.active
    assert again.situation.v[4:] == trial.session.situation.v[4:]
    since = [e for e in again.trace.events if e.k >= seen.injected]
    assert [(e.k, e.kind, e.text) for e in since] == [(e.k, e.kind, e.text) for e in trial.session.trace.events]


@settings(max_examples=8, deadline=None)
@given(fault=st.integers(0, 40), first=st.integers(0, 3))
def test_a_row_that_shares_runs_has_the_cells_of_each_run_by_itself(roastery, sessions, fault, first):
    found = faults_of(roastery)[fault]
    row = list(try_in(sessions, found, sessions.steps, {}))
    assert len(row) == len(sessions.steps)
    assert row[first::4] == [try_out(sessions, found, step) for step in sessions.steps[first::4]]


@pytest.fixture(scope="module")
def sessions(roastery) -> Reference:
    return Reference(roastery)


def test_a_cycle_that_cannot_be_swept_is_refused_with_what_could(roastery):
    cases = (
        ("Nothing", "there is no scenario 'Nothing'; possible are: Light roast in order"),
        ("Jammed drop door", "cannot be a reference cycle: it has lists, starts elsewhere, or breaks something itself"),
        ("Cooling time as set", "cannot be a reference cycle"),
    )
    for name, message in cases:
        with pytest.raises(SweepError, match=message):
            Reference(roastery, name)
    with pytest.raises(SweepError, match="enters no step"):
        sweep(slide(scenarios=(Scenario("Short", "run for 1 s\nexpect never Slide"),)))
    with pytest.raises(SweepError, match="there is no scenario that could be"):
        Reference(slide(scenarios=()))
    assert [s.name for s in cycles_of(roastery)][:3] == [
        "Light roast in order",
        "Two dark batches",
        "Held start button",
    ]


def test_steps_of_branches_side_by_side_have_no_order_and_counters_may_go_on():
    wide = (
        Step("Rest", 10),
        Step("Left", 20, (Action(N, "Slide"),), "T#6s"),
        Step("Right", 30, (), "T#9s"),
        Step("Wait", 40),
    )
    ways = (Transition(("Rest",), ("Left", "Right"), "RISING(Go)"), Transition(("Left",), ("Wait",), "SlideOut"),
            Transition(("Wait", "Right"), ("Rest",), "Right.T >= T#2s"))  # fmt: skip
    count = Signal("Count", SignalClass.INTERNAL, Type.INT)
    cycle = Scenario("Round", "at 100 ms: press GoButton\nrun for 8 s\nexpect finally Count = 1")
    project = slide(sequences=(Sequence("Main", "Rest", wide, ways),), scenarios=(cycle,), signals=(*slide().signals, count),
                    closing="IF RISING(Main.Left.X) THEN Count := Count + 1; END_IF;")  # fmt: skip
    assert verdict(project, "Carriage slow", "Rest")[0] == "harmless"
    assert verdict(project, "AgainButton pressed", "Right")[0] == "harmless"


def test_the_demo_runs_the_roastery_whole_and_no_bad_cell_is_left_unexplained(roastery, tmp_path, monkeypatch):
    """Without a display; the sweep in the record is the one that is looked at here."""
    reports = []
    monkeypatch.setattr(
        report, "write_report", lambda *a, write=report.write_report: reports.append(write(*a)) or reports[-1]
    )
    for name in ("DISPLAY", "WAYLAND_DISPLAY"):
        monkeypatch.delenv(name, raising=False)
    done = CliRunner().invoke(whole_app(), ["demo", "--out", str(tmp_path / "demo-output")])
    assert (done.exit_code, done.stderr) == (0, "") and "No display: running the example roastery whole." in done.stdout
    names = {p.name for p in (tmp_path / "demo-output").iterdir()}
    assert {"roastery-trace.csv", "roastery-record.html", "0-start.png", "1-brief.png", "6-proof.png"} <= names
    ((matrix, _),) = reports
    assert matrix.whole and not matrix.open() and not matrix.changed()
    counts = matrix.counts()
    # After an overtemperature the roast goes on by the reset alone, as R12 says: explained, and told for what it is.
    hazards = {(c.fault, c.because.partition(" ")[0]) for c in matrix.in_order() if c.verdict is Verdict.HAZARD}
    assert hazards == {("BeanBed sensor frozen", "Burner")} and not counts[Verdict.CAUGHT] and matrix.coverage > 0.84
    used = {matrix.explained(c) for c in matrix.in_order() if c.verdict.is_bad}
    assert used == set(roastery.sweep.explained), "every explanation is needed"
    rows = list(csv.reader(io.StringIO(matrix_csv(matrix))))
    assert len(rows) == 1 + len(matrix.faults) and rows[0] == ["fault", *matrix.steps]
    assert {w for r in rows[1:] for w in r[1:]} == {v.value for v in counts}
    found = ElementTree.fromstring(sweep_junit("Roastery", matrix))
    assert found.get("tests") == str(len(matrix.cells)) and found.get("failures") == "0"
    assert len(found.findall(".//skipped")) == sum(n for v, n in counts.items() if v.is_bad)


def test_an_explanation_holds_for_its_verdict_only_and_what_was_accepted_is_compared():
    project = slide()
    matrix = sweep(project)
    silent = next(c for c in matrix.open() if c.fault == "Blower does not start")
    known = explain(project, silent, "it only keeps the dust away", every_step=True)
    assert not any(c.fault == silent.fault for c in sweep(known).open())
    assert not explain(known, silent, "").sweep.explained
    renamed = rename_step(rename_device(accept_sweep(known, sweep(known)), "Blower", "Wind"), "Main", "Away", "Out")
    assert [e.fault for e in renamed.sweep.explained] == ["Wind does not start"] and not sweep(renamed).changed()
    assert {c.fault for c in sweep(renamed).open()} == {c.fault.replace("Blower", "Wind") for c in sweep(known).open()}
    accepted = accept_sweep(known, matrix, "today")
    assert spoke.loads(spoke.dumps(accepted)) == accepted and accepted.sweep.cycle == "Out and back"
    assert not sweep(accepted).changed()
    worse = replace(accepted, sequences=slide(longest="").sequences)
    changed = sweep(worse).changed()
    stuck = [c for c in changed if c.cell.verdict is Verdict.STUCK]
    assert stuck and all(c.is_worse for c in stuck) and {c.accepted for c in stuck} == {Verdict.RECOVERED}
    back = accept_sweep(worse, sweep(worse))
    better = sweep(replace(back, sequences=slide().sequences)).changed()
    assert {(c.cell.fault, c.cell.step) for c in better} == {(c.cell.fault, c.cell.step) for c in changed}
    assert not any(c.is_worse for c in better if c.accepted is Verdict.STUCK)


def swept(project: Project, executor) -> Sweep:
    run = Sweep(project, executor=executor)
    while not run.done:
        run.poll()
    return run


def test_any_executor_gives_the_same_matrix_and_a_sweep_can_be_cancelled():
    project = slide()
    alone = sweep(project)
    with ThreadPoolExecutor(2) as threads:
        for executor in (threads, processes.executor(2)):
            run = swept(project, executor)
            assert not run.problem and run.matrix.cells == alone.cells and run.part == 1
        half = Sweep(project, executor=threads)
        half.cancel()
        assert half.done and not half.matrix.whole
    processes.let_go()
    half = Sweep(project)
    assert half.poll() and 0 < half.part < 1
    half.cancel()
    assert half.done


def test_a_sweep_goes_to_a_cluster(tmp_path):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from distributed import Client, LocalCluster

        with (
            LocalCluster(n_workers=2, threads_per_worker=1, processes=False, dashboard_address=None) as cluster,
            Client(cluster) as client,
        ):
            run = swept(slide(), client.get_executor())
            file = tmp_path / "slide.spoke"
            spoke.write(slide(), file)
            here, there = (CliRunner().invoke(whole_app(), ["faults", str(file), "--json", *more])
                           for more in ((), ("--cluster", cluster.scheduler_address)))  # fmt: skip
            assert here.exit_code == there.exit_code == 1 and here.stdout == there.stdout
            nobody = CliRunner().invoke(whole_app(), ["faults", str(file), "--cluster", "nonsense://here"])
            assert nobody.exit_code == 2 and "no scheduler answers there" in nobody.stderr
    assert not run.problem and run.matrix.cells == sweep(slide()).cells


def test_the_command_prints_writes_accepts_and_refuses(tmp_path):
    file, table, xml = tmp_path / "slide.spoke", tmp_path / "m.csv", tmp_path / "m.xml"
    spoke.write(slide(), file)
    said = CliRunner().invoke(
        whole_app(), ["faults", str(file), "--csv", str(table), "--junit", str(xml), "--jobs", "2"]
    )
    assert said.exit_code == 1 and "bad and not explained" in said.output
    assert "silent   Blower does not start, in Main.Rest, Main.Away" in said.output
    assert table.read_text() == matrix_csv(sweep(slide())) and "failure" in xml.read_text()
    said = CliRunner().invoke(whole_app(), ["faults", str(file), "--accept", "--json"])
    assert said.exit_code == 1 and '"verdict": "silent"' in said.output
    spoke.write(replace(spoke.read(file), sequences=slide(longest="").sequences), file)
    said = CliRunner().invoke(whole_app(), ["faults", str(file)])
    assert "worse    Carriage jammed" in said.output and "accepted was recovered" in said.output
    said = CliRunner().invoke(whole_app(), ["faults", str(file), "--cycle", "Elsewhere"])
    assert said.exit_code == 2 and "there is no scenario 'Elsewhere'; possible are: Out and back" in said.output
