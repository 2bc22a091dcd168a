"""Explanations and verdicts as properties: what is named as missing is enough and not too much; verdicts follow the trace."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from spokeshave.engine.explain import blockers, evaluate, waiting
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.formats import spoke
from spokeshave.language import checked as ck
from spokeshave.language.check import Checker
from spokeshave.language.parse import parse_expression
from spokeshave.model.project import (
    Instance,
    Project,
    Scenario,
    Sequence,
    Signal,
    SignalClass,
    Step,
    Transition,
    Trip,
    Type,
)
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.scenarios import run_scenario
from tests.conftest import EXAMPLES
from tests.core.projects import INPUTS, PERIOD, conditions, projects, runs

some = settings(
    max_examples=300, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)
STEPS = ("P10", "P20")
PLACE = Project(
    signals=(
        *(Signal(n, SignalClass.INPUT) for n in INPUTS), Signal("Count", SignalClass.INTERNAL, Type.INT),
        Signal("Delay", SignalClass.SETTING, Type.TIME, initial=30),
    ),
    sequences=(Sequence("P", "P10", tuple(Step(s, 10 * i + 10) for i, s in enumerate(STEPS))),),
)  # fmt: skip


def tree_of(text: str) -> tuple[ck.Checked, list[Any]]:
    table = SlotTable(PLACE)
    tree = Checker(TextScope(table, PLACE.sequences[0])).condition(parse_expression(text))
    assert tree is not None
    return tree, list(table.values)


def truth(node: ck.Checked, v: list[Any], changed: dict[tuple[int, int], bool]) -> bool:
    """The value of a condition with the truth of some of its terms changed by hand."""
    span = (node.span.start, node.span.end)
    if isinstance(node, ck.Apply) and node.op in ("and", "or"):
        parts = [truth(a, v, changed) for a in node.args]
        return all(parts) if node.op == "and" else any(parts)
    if isinstance(node, ck.Apply) and node.op == "not":
        return not truth(node.args[0], v, changed)
    return changed.get(span, bool(evaluate(node, v)))


def spans(node: ck.Checked, text: str, wanted: set[str]) -> list[tuple[int, int]]:
    """Where the terms with these texts stand in a condition; the same term may stand in it several times."""
    if isinstance(node, ck.Apply) and node.op in ("and", "or", "not"):
        return [s for a in node.args for s in spans(a, text, wanted)]
    span = (node.span.start, node.span.end)
    return [span] if text[span[0] : span[1]] in wanted else []


@some
@given(
    conditions(STEPS, depth=4), st.lists(st.booleans(), min_size=3, max_size=3), st.integers(0, 4), st.integers(0, 6)
)
def test_the_missing_terms_are_enough_and_none_of_them_can_be_left_out(text, inputs, count, tenths):
    tree, v = tree_of(text)
    table = SlotTable(PLACE)
    for name, value in zip(INPUTS, inputs):
        v[table.final[name.lower()]] = value
    v[table.final["count"]] = count
    v[table.member[("p", "p10", "t")]] = 10 * tenths
    v[table.member[("p", "p10", "x")]] = True
    missing = blockers(tree, text, v)
    if evaluate(tree, v):
        assert missing == ()
        return
    assert missing
    # A term that is wanted TRUE in one place and FALSE in another cannot be turned one way only.
    wants = {t.text: not t.negated for t in missing}
    assume(len(wants) == len(missing))
    changed = {s: wants[text[s[0] : s[1]]] for s in spans(tree, text, set(wants))}
    repeated = len(changed) > len(wants)
    assert repeated or truth(tree, v, changed)
    if not repeated:
        for left_out in changed:
            fewer = {s: b for s, b in changed.items() if s != left_out}
            assert not truth(tree, v, fewer), f"{text[left_out[0] : left_out[1]]} was not needed"


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(projects(), runs())
def test_what_is_waited_on_belongs_to_an_active_step_and_stands_in_its_condition(project, inputs):
    """Every active step is told with its number; every missing term is a part of the condition, or of a permissive."""
    stimuli = [Stimulus(k * PERIOD, "set", n, v) for k, row in enumerate(inputs) for n, v in zip(INPUTS, row)]
    session = Session(project, stimuli)
    for _ in inputs:
        session.scan()
    for w in waiting(session.program, session.situation):
        seq = next(q for q in session.program.sequences if q.name == w.sequence)
        assert w.step in {seq.steps[a].name for a in session.situation.active[seq.index]}
        assert w.number == next(s.number for s in seq.steps if s.name == w.step)
        for way in w.ways:
            for term in way.missing:
                assert (
                    term.text and term.text in project.sequences[seq.index].transitions[way.transition].condition
                ) or not way.permitted
            assert not (way.permitted is False and way.missing == ())


@st.composite
def sheets(draw: st.DrawFn) -> tuple[str, str, int, str, str]:
    """A scenario of presses on a gate with one expectation: kind, time and conditions are returned too."""
    deeds = "\n".join(
        f"after {draw(st.integers(0, 80)) * 10} ms: set {draw(st.sampled_from(INPUTS))} to {draw(st.sampled_from(('TRUE', 'FALSE')))}"
        for _ in range(draw(st.integers(1, 5)))
    )
    kind = draw(st.sampled_from(("always", "never", "finally", "at", "by", "whenever")))
    simple = st.sampled_from(("A", "NOT B", "A AND C", "A OR B", "Y", "NOT Y", "P.P20.X"))
    a, b = draw(simple), draw(simple)
    ms = draw(st.integers(0, 250)) * 10
    row = {
        "always": f"expect always {a}", "never": f"expect never {a}", "finally": f"expect finally {a}", "at": f"expect at {ms} ms: {a}",
        "by": f"expect by {ms} ms: {a}", "whenever": f"expect whenever {a} then within {ms} ms {b}",
    }[kind]  # fmt: skip
    return f"{deeds}\nrun for 2 s\n{row}", kind, ms, a, b


def naive(kind: str, ms: int, a: list[bool], b: list[bool]) -> Outcome:
    """A verdict worked out from whole lists of truths, one a scan of 10 ms."""
    k = ms // 10
    if kind in ("always", "never"):
        return Outcome.PASS if all(x == (kind == "always") for x in a) else Outcome.FAIL
    if kind == "finally":
        return Outcome.PASS if a[-1] else Outcome.FAIL
    if kind == "at":
        return Outcome.NOT_REACHED if k >= len(a) else Outcome.PASS if a[k] else Outcome.FAIL
    if kind == "by":
        if any(a[: k + 1]):
            return Outcome.PASS
        return Outcome.NOT_REACHED if k >= len(a) else Outcome.FAIL
    rises = [i for i, x in enumerate(a) if x and (i == 0 or not a[i - 1])]
    if not rises:
        return Outcome.NOT_REACHED
    late = [i for i in rises if not any(b[i : i + k + 1])]
    if any(i + k < len(a) for i in late):
        return Outcome.FAIL
    return Outcome.NOT_REACHED if late else Outcome.PASS


@settings(max_examples=150, deadline=None)
@given(sheets())
def test_verdicts_are_those_that_the_trace_gives(made):
    text, kind, ms, a, b = made
    steps = (Step("P10", 10), Step("P20", 20))
    project = Project(
        signals=(*(Signal(n, SignalClass.INPUT) for n in INPUTS), Signal("Y", SignalClass.OUTPUT)),
        closing="Y := A AND NOT B OR P.P20.T > T#300ms;",
        sequences=(Sequence("P", "P10", steps, ()),),
    )
    result = run_scenario(project, Scenario("Made", text))
    assert not result.problems, result.problems
    trace = result.session.trace
    values = {n: [trace.at(n, k) for k in range(trace.scan_count)] for n in (*INPUTS, "Y", "P.P20.X")}

    def truths(condition: str) -> list[bool]:
        def one(k: int) -> bool:
            names = {
                "A": values["A"][k],
                "B": values["B"][k],
                "C": values["C"][k],
                "Y": values["Y"][k],
                "P.P20.X": values["P.P20.X"][k],
            }
            if " AND " in condition or " OR " in condition:
                left, op, right = condition.split(" ")
                return bool(names[left] and names[right]) if op == "AND" else bool(names[left] or names[right])
            return not names[condition[4:]] if condition.startswith("NOT ") else bool(names[condition])

        return [one(k) for k in range(trace.scan_count)]

    (verdict,) = result.verdicts
    assert verdict.outcome is naive(kind, ms, truths(a), truths(b)), (text, verdict)


def reasons(project: Project, stimuli: list[Stimulus], ms: int) -> str:
    session = Session(project, stimuli)
    session.run_for(ms)
    (w,) = waiting(session.program, session.situation)
    return f"{w.state_text}: " + " | ".join(" and ".join(map(str, a.missing)) for a in w.ways)


def waits(condition: str, **more: Any) -> Project:
    names = ("A", "B", "Low", "Ok", "Again")
    chart = Sequence("Main", "One", (Step("One", 10), Step("Two", 20)), (Transition(("One",), ("Two",), condition),))
    made = Project(signals=tuple(Signal(n, SignalClass.INPUT) for n in names), sequences=(chart,), reset="Again")
    return replace(made, **more)


def test_what_is_awaited_reads_as_it_is_meant():
    assert reasons(waits("A OR B"), [], 50) == "runs: A (FALSE) or B (FALSE)"
    assert reasons(waits("A AND B OR Low AND Ok OR Again"), [], 50) == (
        "runs: Again (FALSE) or A (FALSE) and B (FALSE) or Low (FALSE) and Ok (FALSE)")  # fmt: skip
    low = [Stimulus(0, "set", "Low", True)]
    assert reasons(waits("NOT Low"), low, 50) == "runs: NOT Low (Low = TRUE)"
    assert reasons(waits("HELD(Low, T#2s)"), low, 510) == "runs: HELD(Low, T#2s) (Low = TRUE, 1.5 s left)"
    timed = waits("Wait.Q", instances=(Instance("Wait", "TON"),), opening="Wait(IN := Low, PT := T#3s);")
    assert reasons(timed, low, 1010) == "runs: Wait.Q (FALSE, 2 s left)"


def test_held_and_tripped_say_by_what_and_how_it_ends():
    held = waits("A")
    held = replace(held, sequences=(replace(held.sequences[0], hold_when="Low OR B"),))
    assert reasons(held, [Stimulus(0, "set", "Low", True)], 50).startswith("held while Low OR B: ")
    tripped = waits("A", trips=(Trip("Stop", 1, "NOT Ok"), Trip("Brief", 2, "Low", latching=False)))
    assert reasons(tripped, [], 50).startswith("tripped by Stop, until NOT Ok is FALSE, then the reset: Again: ")
    gone = [Stimulus(20, "set", "Ok", True)]
    assert reasons(tripped, gone, 50).startswith("tripped by Stop, until the reset: Again: ")
    brief = [Stimulus(0, "set", "Ok", True), Stimulus(10, "set", "Low", True)]
    assert reasons(tripped, brief, 50).startswith("tripped by Brief, until Low is FALSE: ")
    late = waits("A")
    late = replace(
        late,
        sequences=(
            replace(late.sequences[0], steps=(Step("One", 10, longest="T#20ms", response="hold"), Step("Two", 20))),
        ),
    )
    assert reasons(late, [], 60).startswith("late, held because it was late, until the reset: Again: ")


def test_a_span_up_to_the_end_of_the_run_includes_its_last_scan():
    project = waits("A")
    for end, outcome in (("3 s", Outcome.PASS), ("3010 ms", Outcome.NOT_REACHED)):
        scenario = Scenario("Span", f"run for 3 s\nexpect from 200 ms to {end}: NOT A")
        assert run_scenario(project, scenario).outcome is outcome


def test_of_a_table_the_row_that_is_read_now_is_told():
    session = Session(spoke.read(EXAMPLES / "carousel.spoke"))
    session.run_to(40_000, lambda s: s.active[1] == [1])  # the bath is warm
    session.do("hand", "StartButton", 1)
    dip = next(x.index for x in session.program.sequences[0].steps if x.name == "Dip")
    session.run_to(60_000, lambda s: s.active[0] == [dip])
    (way,) = next(w for w in waiting(session.program, session.situation) if w.step == "Dip").ways
    assert [r.name for r in way.missing[0].readings] == ["Dip.T", "Plan[1].Dip", "Round"]
