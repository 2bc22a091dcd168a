"""RISING, FALLING and HELD of expectations against what they say: looked at in every scan, and in those alone that they ask for."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.language.rename import rename_sequence
from spokeshave.model.project import Project, Scenario, Signal, SignalClass, Transition, Type
from spokeshave.verify.completion import complete
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenario_language import check_sheet, scenario_problems
from spokeshave.verify.scenarios import run_scenario
from spokeshave.verify.sheet_edges import SheetEdges
from tests.core.test_semantics import gate, main

PERIOD = 10
PROJECT = Project(
    "Hopper",
    PERIOD,
    signals=(Signal("Full", SignalClass.INPUT), Signal("Open", SignalClass.INPUT), Signal("Hold", SignalClass.SETTING, Type.TIME, initial=30)),
)  # fmt: skip


def edges_of(*conditions: str) -> tuple[Session, SheetEdges]:
    rows = "\n".join(["run for 1 s", *(f"expect never {c}" for c in conditions)])
    checked = check_sheet(PROJECT, rows)
    assert not checked.problems, checked.problems
    session = Session(PROJECT, also=[t for trees in checked.conditions.values() for t in trees])
    return session, SheetEdges(checked.edges, session.program)


def seen(
    edges: SheetEdges, session: Session, values: list[tuple[bool, bool]], looks: set[int] | None
) -> list[tuple[bool, ...]]:
    """What the edges are at the end of each scan. Between two `looks` they are as they were: nobody has looked."""
    s, slots = session.situation, [session.program.slots[n] for n in ("full", "open")]
    out = []
    for k, pair in enumerate(values):
        if looks is None or k in looks:
            for slot, value in zip(slots, pair):
                s.v[slot] = value
            edges.see(s, k * PERIOD)
            if looks is not None:
                looks |= {t // PERIOD for t in edges.due()}
        out.append(tuple(bool(s.v[e.slot]) for e in edges.edges))
    return out


values = st.lists(st.tuples(st.booleans(), st.booleans()), min_size=1, max_size=40)
FORMS = ("RISING(Full)", "FALLING(Full OR Open)", "HELD(Full, T#40ms)", "HELD(Full AND NOT Open, Hold)", "RISING(HELD(Open, T#20ms))",
         "HELD(NOT RISING(Full), T#50ms)")  # fmt: skip


@given(values)
def test_they_change_in_no_scan_but_those_they_ask_for_and_those_in_which_a_value_changes(found):
    changes = {0, *(k + 1 for k, (a, b) in enumerate(pairwise(found)) if a != b)}
    session, every = edges_of(*FORMS)
    other, some = edges_of(*FORMS)
    assert seen(every, session, found, None) == seen(some, other, found, changes)


@given(values, st.integers(0, 8))
def test_they_are_what_they_say(found, held):
    session, edges = edges_of("RISING(Full)", "FALLING(Full)", f"HELD(Full, T#{held * PERIOD}ms)")
    full = [a for a, _ in found]
    for k, (rising, falling, kept) in enumerate(seen(edges, session, found, None)):
        assert rising is (k > 0 and full[k] and not full[k - 1])
        assert falling is (k > 0 and not full[k] and full[k - 1])
        first = next((j + 1 for j in range(k, -1, -1) if not full[j]), 0)
        assert kept is (full[k] and k - first >= held)


@given(values)
def test_a_count_of_rises_is_the_count_of_the_condition_but_for_one_that_is_there_from_the_start(found):
    deeds = [f"at {k * PERIOD} ms: set Full to {str(a).upper()}" for k, (a, _) in enumerate(found)]
    length = f"run for {(len(found) + 2) * PERIOD} ms"
    rises = sum(b and not a for a, b in pairwise(a for a, _ in found))
    rows = [
        *deeds,
        length,
        f"expect count RISING(Full): {rises} times",
        f"expect count Full: {rises + found[0][0]} times",
    ]
    result = run_scenario(PROJECT, Scenario("Counts", "\n".join(rows)))
    assert not result.problems and [v.outcome.value for v in result.verdicts] == ["pass", "pass"], result.verdicts


def test_edges_of_two_rows_and_of_a_scenario_that_is_played_before_do_not_meet():
    ahead = Scenario(
        "Ahead", 'at 50 ms: set Full to TRUE\nat 100 ms: mark "full"\nrun for 1 s\nexpect count RISING(Full): 1 times'
    )
    rows = ['start at "full"', "at 200 ms: set Open to TRUE", "at 300 ms: set Full to FALSE", "run for 1 s",
            "expect count RISING(Open): 1 times", "expect count FALLING(Full): 1 times", "expect never RISING(Full)",
            "expect whenever RISING(Open) then within 100 ms FALLING(Full)", "expect not before 400 ms: HELD(Open, T#200ms)"]  # fmt: skip
    after = Scenario("After", "\n".join(rows))
    project = Project(PROJECT.name, PERIOD, signals=PROJECT.signals, scenarios=(ahead, after))
    for scenario in project.scenarios:
        result = run_scenario(project, scenario)
        assert not result.problems, [p.message for p in result.problems]
        assert [v.outcome.value for v in result.verdicts] == ["pass"] * len(result.verdicts), result.verdicts


def _verdict(project: Project, row: str, rows: str = ""):
    return run_scenario(project, Scenario("S", f"{rows}run for 20 s\nexpect {row}")).runs[0].verdicts[0]


def test_a_cycle_takes_as_long_as_its_steps_and_what_is_longer_or_never_ends_is_told():
    ring = gate()
    steps, ways = ring.sequences[0].steps, (
        Transition(("Closed",), ("Open",), "Closed.T >= T#1s"), Transition(("Open",), ("Closed",), "Open.T >= T#2500ms"),
    )  # fmt: skip
    ring = main(ring, steps=steps, transitions=ways)
    for row, outcome, because in (
        ("cycle of Main takes 3.5 s", Outcome.PASS, "5 cycles, 3s500ms"),
        ("cycle of main takes at most T#3s500ms", Outcome.PASS, "5 cycles"),
        ("cycle of Main takes at least 4 s", Outcome.FAIL, "cycle 1 took 3s500ms"),
        ("cycle of Main takes 3 s", Outcome.FAIL, "cycle 1 took 3s500ms"),
    ):
        verdict = _verdict(ring, row)
        assert verdict.outcome is outcome and because in verdict.because, row
    hands = "at 1 s: set Go to TRUE\nafter 1 s: set Go to FALSE\nafter 2 s: set Shut to TRUE\nafter 1 s: set Shut to FALSE\n"
    begun = f"{hands}after 1 s: set Go to TRUE\nafter 500 ms: set Go to FALSE\nafter 500 ms: set Shut to TRUE\n"
    verdict = _verdict(gate(), "cycle of Main takes at most 2 s", begun)
    assert verdict.outcome is Outcome.FAIL and verdict.because == "cycle 1 took 3s", (
        "from leaving Closed, not from the last Closed"
    )
    verdict = _verdict(gate(), "cycle of Main takes at most 3 s", begun)
    assert verdict.outcome is Outcome.PASS and verdict.because == "2 cycles, 1s to 3s"
    assert _verdict(gate(), "cycle of Main takes 1 s").outcome is Outcome.NOT_REACHED
    (problem,) = scenario_problems(gate(), Scenario("S", "run for 1 s\nexpect cycle of Mian takes 1 s"))
    assert "there is no sequence Mian" in problem.message and problem.advice == "did you mean Main?"
    renamed = rename_sequence(
        replace(ring, scenarios=(Scenario("S", "run for 9 s\nexpect cycle of Main takes 3.5 s"),)), "Main", "Ring"
    )
    assert renamed.scenarios[0].text.endswith("cycle of Ring takes 3.5 s")
    assert "Main" in complete(gate(), "expect cycle of ")
