"""Every expectation against a slow, obvious reading of the whole trace, on random machine files and random hands."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.model.project import Project, Scenario, Signal, SignalClass, Type
from spokeshave.verify.expectations import Outcome
from spokeshave.verify.probe import probe
from spokeshave.verify.scenarios import run_scenario
from tests.core.projects import INPUTS, OUTPUTS, PERIOD, projects

PASS, FAIL, NOT = Outcome.PASS, Outcome.FAIL, Outcome.NOT_REACHED
SCANS = 60


class Seen:
    """Each column's value at the end of each scan, and the scans in which each step was entered and left."""

    def __init__(self, session: Session) -> None:
        trace = session.trace
        self.values = {r.name: [trace.at(r.name, k) for k in range(SCANS)] for r in trace.recorded}

    def bools(self, name: str, negated: bool) -> list[bool]:
        return [bool(v) is not negated for v in self.values[name]]


def rises(bools: list[bool]) -> list[int]:
    """Scans in which it is TRUE and was not before."""
    return [k for k, b in enumerate(bools) if b and (k == 0 or not bools[k - 1])]


def edged(edge: str, bools: list[bool], held: int) -> list[bool]:
    """RISING, FALLING or HELD (for so many scans) of what is seen at the ends of scans; nothing has risen in the first."""
    if edge == "HELD":
        since = [next((j + 1 for j in range(k, -1, -1) if not bools[j]), 0) for k in range(len(bools))]
        return [b and k - since[k] >= held for k, b in enumerate(bools)]
    rising = edge == "RISING"
    return [k > 0 and b is rising and bools[k - 1] is not rising for k, b in enumerate(bools)]


def obvious(kind: str, a: list[bool], b: list[bool], number: int, other: int) -> Outcome:
    """What a person would say who has the whole recording. `number` and `other` are scans, or a count."""
    if kind in ("always", "never"):
        return PASS if all(x is (kind == "always") for x in a) else FAIL
    if kind == "finally":
        return PASS if a[-1] else FAIL
    if kind == "at":
        return NOT if number >= SCANS else PASS if a[number] else FAIL
    if kind == "by":
        return PASS if any(a[: number + 1]) else NOT if number >= SCANS else FAIL
    if kind == "from":
        span = a[number : other + 1]
        return FAIL if not all(span) else NOT if other > SCANS or not span else PASS
    if kind == "while":
        there = [y for x, y in zip(a, b) if x]
        return NOT if not there else PASS if all(there) else FAIL
    if kind == "not before":
        return NOT if not any(a) else FAIL if a.index(True) < number else PASS
    if kind == "count":
        return FAIL if len(rises(a)) > number else NOT if len(rises(a)) < number else PASS
    assert kind == "whenever"
    found = NOT
    k = 0
    starts = rises(a)
    while starts and k < SCANS:
        start = next((s for s in starts if s >= k), None)
        if start is None:
            break
        met = next((j for j in range(start, SCANS) if b[j]), None)
        if met is None or met > start + number:
            return FAIL if start + number < SCANS else NOT
        found, k = PASS, met + 1
    return found


@settings(max_examples=120, deadline=None)
@given(projects(), st.data())
def test_a_verdict_is_what_a_person_would_say_who_sees_every_scan(project: Project, data: st.DataObject) -> None:
    steps = [f"{q.name}.{s.name}.X" for q in project.sequences for s in q.steps]
    names = st.tuples(st.sampled_from([*INPUTS, *OUTPUTS, *steps]), st.booleans())
    (one, not_one), (two, not_two) = data.draw(names), data.draw(names)
    number = data.draw(st.integers(0, SCANS + 3))
    other = data.draw(st.integers(number, SCANS + 3))
    kind = data.draw(
        st.sampled_from(["always", "never", "finally", "at", "by", "from", "while", "count", "whenever", "not before"])
    )
    a, b = ("NOT " * not_one + one), ("NOT " * not_two + two)
    edges, held = (
        [data.draw(st.sampled_from(["", "", "RISING", "FALLING", "HELD"])) for _ in "ab"],
        data.draw(st.integers(0, 6)),
    )
    a, b = (f"{e}({x}{f', T#{held * PERIOD}ms' * (e == 'HELD')})" if e else x for e, x in zip(edges, (a, b)))
    number = number % 6 if kind in ("count", "whenever") else number
    rows = {
        "at": f"at {number * PERIOD} ms: {a}", "by": f"by {number * PERIOD} ms: {a}",
        "from": f"from {number * PERIOD} ms to {other * PERIOD} ms: {a}", "while": f"while {a}: {b}",
        "not before": f"not before {number * PERIOD} ms: {a}", "count": f"count {a}: {number} times",
        "whenever": f"whenever {a} then within {number * PERIOD} ms {b}",
    }  # fmt: skip
    times = sorted(data.draw(st.lists(st.integers(0, SCANS - 1), max_size=8)))
    hands = [
        f"at {t * PERIOD} ms: set {data.draw(st.sampled_from(INPUTS))} to {data.draw(st.booleans())}" for t in times
    ]
    text = "\n".join([*hands, f"run for {SCANS * PERIOD} ms", f"expect {rows.get(kind, f'{kind} {a}')}"])
    result = run_scenario(project, Scenario("Random", text))
    assert not result.problems, result.problems
    if result.stopped:
        return
    session = result.session
    assert session is not None
    seen = Seen(session)
    verdict = result.verdicts[0]
    bools = [seen.bools(one, not_one), seen.bools(two, not_two)]
    first, second = (edged(e, x, held) if e else x for e, x in zip(edges, bools))
    assert verdict.outcome is obvious(kind, first, second, number, other), text
    assert 0 <= verdict.time_ms < SCANS * PERIOD


def entered_while_active(session: Session, sequence: int, step: str) -> bool:
    """Whether a step was entered anew in a scan in which it was active before."""
    again = Session(session.program.project, [st for st, _ in session.log])
    index = next(s.index for s in session.program.sequences[sequence].steps if s.name == step)
    was = False
    for _ in range(SCANS):
        again.scan()
        s = again.situation
        if was and index in s.came[sequence]:
            return True
        was = index in s.active[sequence]
    return False


@settings(max_examples=40, deadline=None)
@given(projects(), st.data())
def test_what_is_said_of_steps_is_what_the_recording_shows(project: Project, data: st.DataObject) -> None:
    q = data.draw(st.sampled_from(project.sequences))
    step = data.draw(st.sampled_from(q.steps)).name
    limit = data.draw(st.integers(0, 30))
    hands = [f"at {k * PERIOD} ms: set {data.draw(st.sampled_from(INPUTS))} to TRUE" for k in range(1, 12, 3)]
    text = [*hands, f"run for {SCANS * PERIOD} ms", f"expect {q.name}.{step} lasts at most {limit * PERIOD} ms",
            f"expect {q.name}.{step} lasts at least {limit * PERIOD} ms", f"expect reach {q.name}.{step} within {limit * PERIOD} ms"]  # fmt: skip
    result = run_scenario(project, Scenario("Random", "\n".join(text)))
    session = result.session
    if result.stopped or session is None:
        return
    windows = session.trace.windows(f"{q.name}.{step}.X")
    most, least, reach = (v.outcome for v in result.verdicts)
    if entered_while_active(session, project.sequences.index(q), step):
        return  # the recording shows no edge then
    over = [b - a for a, b in windows if b < SCANS]
    assert (least is FAIL) is any(n < limit for n in over)
    assert (most is FAIL) is (
        any(n > limit for n in over) or any(b == SCANS and SCANS - 1 - a > limit for a, b in windows)
    )
    if windows:
        assert reach is (PASS if windows[0][0] <= limit else FAIL)
    else:
        assert reach is NOT


@settings(max_examples=120)
@given(projects(), st.data())
def test_scans_that_are_jumped_over_change_nothing_of_what_is_said(project: Project, data: st.DataObject) -> None:
    """The same verdicts, times and deciding values as with every scan, for every kind of row, with deeds that wait."""
    q = data.draw(st.sampled_from(project.sequences))
    names = [data.draw(st.sampled_from(q.steps)).name for _ in range(3)]
    one, two, three = (f"{q.name}.{name}" for name in names)
    a, b = (
        data.draw(st.sampled_from([*INPUTS, *OUTPUTS, f"{one}.X", f"NOT {two}.X", f"{one}.T >= T#130ms", "Count > 1"]))
        for _ in "ab"
    )
    t, more = data.draw(st.integers(0, 60)) * PERIOD, data.draw(st.integers(0, 60)) * PERIOD
    rows = [f"at {t} ms: set A to TRUE", f"on {two}: set B to TRUE", f"when {a}: set C to TRUE", "after 70 ms: set B to FALSE",
            f"when NOT ({b}): force C to TRUE", 'after 200 ms: mark "Here"', f"on {one}: set A to FALSE", "run for 1200 ms"]  # fmt: skip
    rows += [f"expect {row}" for row in (
        f"always {a} OR {b}", f"never {a} AND {b}", f"finally {a}", f"at {t} ms: {b}", f"by {t} ms: {a}", f"while {a}: {b}",
        f"from {t} ms to {t + more} ms: {a}", f"whenever {a} then within {more} ms {b}", f"count {a}: at least 2 times",
        f"{one} entered at most 2 times", f"{two} lasts at most {t} ms", f"{three} lasts at least {t} ms", f"order {q.name}: {names[0]}, {names[1]}",
        f"reach {two} within {t} ms", f"reach {one} within {more} ms of {two}",
        f'reach {two} within {more} ms of "Here"', "value Count from 0 to 3", "no alarms",
        f"value {one}.T from 0 to {more}", f"not before {t} ms: {b}", f"never RISING({a}) AND FALLING({b})", f"count HELD({b}, T#{t}ms): 2 times",
        f"while HELD({a}, T#50ms): {b}", f"whenever FALLING({b}) then within {more} ms RISING({a})", f"finally NOT HELD({a}, T#{more}ms)",
        f"count RISING(HELD({a}, T#30ms)): at least 2 times",
    )]  # fmt: skip
    scenario = Scenario("Random", "\n".join(rows))
    skipping, every = run_scenario(project, scenario), run_scenario(project, scenario, every_scan=True)
    assert not skipping.problems, [p.message for p in skipping.problems]
    for mine, other in zip(skipping.verdicts, every.verdicts):
        assert mine == other
    assert skipping.runs == every.runs
    assert skipping.runs[0].live.executed <= every.runs[0].live.executed


@settings(max_examples=40)
@given(
    st.lists(
        st.tuples(
            st.integers(15, 70),
            st.integers(0, 40),
            st.sampled_from(["", "Burner", "NOT Burner", "Roast.Preheat.X", "Roast.Preheat.T = T#0s", "BeanTemp > 40"]),
        ),
        min_size=1,
        max_size=6,
    )
)
def test_a_number_of_the_machine_is_judged_as_if_each_value_had_been_looked_at(roastery, spans) -> None:
    """It changes in hundreds of scans that nobody runs, and is judged by its trace."""
    rows = ["at 500 ms: press Start", "on Roast.Preheat, 3 s later: hold Emergency", "run for 9 s"]
    rows += [
        f"expect value BeanTemp from {low} to {low + more}{f' while {when}' * bool(when)}" for low, more, when in spans
    ]
    scenario = Scenario("Heated and let cool", "\n".join(rows))
    skipping, every = run_scenario(roastery, scenario), run_scenario(roastery, scenario, every_scan=True)
    assert not skipping.problems, [p.message for p in skipping.problems]
    assert skipping.verdicts == every.verdicts
    assert "BeanTemp > 40" in scenario.text or skipping.runs[0].live.executed * 10 < every.runs[0].live.executed


def test_an_edge_that_has_no_value_fails_its_row_alone_and_a_moment_has_none():
    project = Project("Two", signals=(Signal("Up", SignalClass.INPUT), Signal("N", SignalClass.INTERNAL, Type.INT)))
    rows = [
        "at 100 ms: set Up to TRUE",
        "run for 1 s",
        "expect never RISING(1 / N > 0)",
        "expect count RISING(Up): 1 times",
    ]
    result = run_scenario(project, Scenario("Edges", "\n".join(rows)))
    assert (
        [v.outcome for v in result.verdicts] == [FAIL, PASS]
        and "has no value" in result.verdicts[0].because
        and not result.stopped
    )
    told = run_scenario(project, Scenario("Moment", "\n".join(["when RISING(Up): set Up to FALSE", *rows])))
    assert [p.line for p in told.problems] == [1] and "write the condition alone" in told.problems[0].advice


@settings(max_examples=60)
@given(
    projects(),
    st.integers(0, 40),
    st.sampled_from(["Y1", "NOT Y2 AND Y3", "P.P20.X", "P.P10.T >= T#140ms", "Count = 3", "Mark OR C"]),
)
def test_a_condition_that_is_run_to_has_come_in_its_first_scan(project: Project, begin: int, text: str) -> None:
    hands = [Stimulus(PERIOD * k, "set", INPUTS[k % 3], k % 2 == 0) for k in range(1, 60, 7)]
    session, slow = Session(project, hands), Session(project, hands, every_scan=True)
    for s in (session, slow):
        s.run_scans(begin)
    holds = probe(session, text)
    found = session.run_to(200, holds)
    while slow.k < 200 and slow.scan() and not holds(slow.situation):
        pass
    assert (session.k == slow.k and found is holds(slow.situation)) or slow.stopped
    assert list(session.trace.values) == list(slow.trace.values)
