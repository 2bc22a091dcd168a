"""Accepted runs: a run is kept, and a later one is compared with it step by step and edge by edge.

Steps are compared by how long each stay lasted, so that one step that takes longer is one difference and not one for each
that follows. Edges of signals are compared where they should be then, as far as the steps before them have moved.
"""

from __future__ import annotations

import itertools
from bisect import bisect_right
from collections.abc import Callable, Container, Iterable
from dataclasses import dataclass, replace
from difflib import SequenceMatcher

from spokeshave.engine.trace import Trace
from spokeshave.model.project import Accepted, Project, Scenario, Type
from spokeshave.verify.scenarios import Result, Run

Lanes = tuple[tuple[str, str], ...]
"""A signal or step flag each, with its changes as `ms:value`."""

Change = tuple[int, float]
"""Time in ms and the value from then on."""


@dataclass(frozen=True, slots=True)
class Difference:
    """What differs on one lane. Times in ms: of the run, and of the accepted one (-1 where one of them has nothing)."""

    lane: str
    time_ms: int
    accepted_ms: int
    text: str


@dataclass(frozen=True, slots=True)
class Stay:
    """One stay in a step, in ms from the start of the scenario."""

    step: str
    begin_ms: int
    end_ms: int
    whole: bool
    """Whether it ended before the run did."""


def accept(scenario: Scenario, run: Run, within_ms: int = 50, within: float = 1.0, note: str = "") -> Accepted:
    """What is kept of a run: every change of BOOL and whole numbers, REAL numbers as they were when a step was entered."""
    lanes, reals = kept(lanes_of(run)), _reals(run)
    flags = (f"{q.name}.{s.name}.X" for q in run.project.sequences for s in q.steps)
    entries = sorted({t for flag in flags for t, v in lanes.get(flag, ()) if v})
    few = ((n, _text(_sampled(c, entries) if n in reals else c)) for n, c in lanes.items())
    return Accepted(scenario.name, run.label, within_ms, within, length_of(run), tuple(few), note)


def lanes_of(run: Run) -> Lanes:
    """Every change of everything but settings, as text; times count from the start of the scenario."""
    if run.lanes is not None:
        return run.lanes
    trace, start = run.session().trace, run.start_ms
    return tuple((r.name, _text(_changes(trace, r.name, start))) for r in trace.recorded if r.kind != "setting")


def changes_of(run: Run, names: Container[str]) -> dict[str, list[Change]]:
    """The changes of some lanes by their names; times count from the start of the scenario."""
    trace, start = run.session().trace, run.start_ms
    return {r.name: _changes(trace, r.name, start) for r in trace.recorded if r.name in names}


def _text(changes: list[Change]) -> str:
    return " ".join(f"{t}:{number_text(v)}" for t, v in changes)


def number_text(value: float) -> str:
    """A number in the shortest form that reads back as the same."""
    return str(int(value)) if float(value).is_integer() and abs(value) < 1e16 else repr(float(value))


def _reals(run: Run) -> set[str]:
    return {s.name for s in run.project.signals if s.type is Type.REAL}


def length_of(run: Run) -> int:
    """How long a run lasted from the start of its scenario, in ms."""
    return run.scans * run.project.period_ms - run.start_ms


def keep(project: Project, accepted: Accepted) -> Project:
    """The machine file with this accepted run in the place of the one of the same scenario and choice."""
    others = tuple(a for a in project.accepted if (a.scenario, a.label) != (accepted.scenario, accepted.label))
    return replace(project, accepted=(*others, accepted))


def kept(lanes: Lanes) -> dict[str, list[Change]]:
    """The lanes as changes, by name."""
    out: dict[str, list[Change]] = {}
    for name, text in lanes:
        pairs = (part.split(":") for part in text.split())
        out[name] = [(int(t), float(v)) for t, v in pairs]
    return out


def compare(accepted: Accepted, run: Run) -> list[Difference]:
    """The differences in the order of time; empty when the runs agree within the tolerances."""
    then, now, end_ms = kept(accepted.lanes), kept(lanes_of(run)), length_of(run)
    found: list[Difference] = []
    shifts: list[Change] = [(0, 0)]
    flags: set[str] = set()
    for q in run.project.sequences:
        names = [s.name for s in q.steps]
        flags |= {f"{q.name}.{n}.X" for n in names}
        before = _stays(then, q.name, names, accepted.length_ms)
        found += _compare_stays(q.name, before, _stays(now, q.name, names, end_ms), accepted.within_ms, shifts)
    shifts.sort()
    expected = _expectation(shifts)
    reals = _reals(run)
    for name, changes in then.items():
        if name not in now:
            found.append(Difference(name, -1, 0, "is no longer there"))
        elif name in reals:
            found += _compare_numbers(name, changes, now[name], accepted.within, expected)
        elif name not in flags:
            found += _compare_edges(name, changes, now[name], accepted, expected, end_ms)
    found += [Difference(name, 0, -1, "is new") for name in now if name not in then and name not in flags]
    return sorted(found, key=lambda d: (max(d.time_ms, d.accepted_ms), d.lane))


def _stays(lanes: dict[str, list[Change]], sequence: str, steps: list[str], length_ms: int) -> list[Stay]:
    """The stays in a sequence's steps in the order in which they began."""
    out = []
    for step in steps:
        begin = -1
        for t, value in lanes.get(f"{sequence}.{step}.X", ()):
            if value and begin < 0:
                begin = t
            elif not value and begin >= 0:
                out.append(Stay(step, begin, t, True))
                begin = -1
        if begin >= 0:
            out.append(Stay(step, begin, length_ms, False))
    return sorted(out, key=lambda s: (s.begin_ms, steps.index(s.step)))


def _compare_stays(
    sequence: str, before: list[Stay], now: list[Stay], within_ms: int, shifts: list[Change]
) -> list[Difference]:
    """Stays that are missing, came besides, or lasted otherwise; fills in how far each step has moved."""
    out = []
    matcher = SequenceMatcher(None, [s.step for s in before], [s.step for s in now], autojunk=False)
    for kind, a, a_end, b, b_end in matcher.get_opcodes():
        if kind == "equal":
            for old, new in zip(before[a:a_end], now[b:b_end]):
                shifts.append((old.begin_ms, new.begin_ms - old.begin_ms))
                lasted, did = old.end_ms - old.begin_ms, new.end_ms - new.begin_ms
                if old.whole and new.whole and abs(did - lasted) > within_ms:
                    word = "longer" if did > lasted else "less"
                    text = f"lasted {_s(abs(did - lasted))} {word}: {_s(did)}, accepted {_s(lasted)}"
                    out.append(Difference(f"{sequence}.{old.step}", new.end_ms, old.end_ms, text))
                elif old.whole is not new.whole:
                    text = "was left" if new.whole else "was not left"
                    out.append(Difference(f"{sequence}.{old.step}", new.end_ms, old.end_ms, text))
            continue
        out += [Difference(f"{sequence}.{s.step}", -1, s.begin_ms, "was not entered") for s in before[a:a_end]]
        out += [Difference(f"{sequence}.{s.step}", s.begin_ms, -1, "was entered besides") for s in now[b:b_end]]
    return out


def _expectation(shifts: list[Change]) -> Callable[[int], list[int]]:
    """From a time of the accepted run to the times at which the same may be in the run: as the last steps have moved."""
    times = [t for t, _ in shifts]

    def expected(t: int) -> list[int]:
        last = bisect_right(times, t)
        return list(dict.fromkeys(int(t + shift) for _, shift in reversed(shifts[max(0, last - 4) : last + 1])))

    return expected


def _near(times: list[int], t: int) -> int:
    """How far `t` is from the nearest of some times."""
    return min((abs(t - e) for e in times), default=0)


def _compare_edges(
    name: str,
    before: list[Change],
    now: list[Change],
    accepted: Accepted,
    expected: Callable[[int], list[int]],
    end_ms: int,
) -> list[Difference]:
    """The changes of a BOOL or whole number, in pairs as long as both have the same ones."""
    out, i, j = [], 0, 0
    within, same = accepted.within_ms, [v for _, v in before] == [v for _, v in now]
    while i < len(before) or j < len(now):
        old = before[i] if i < len(before) else None
        new = now[j] if j < len(now) else None
        if (
            old is not None
            and new is not None
            and (same or (old[1] == new[1] and _near(expected(old[0]), new[0]) <= within))
        ):
            off = _near(expected(old[0]), new[0])
            if off > within:
                word = "later" if new[0] > min(expected(old[0])) else "earlier"
                out.append(Difference(name, new[0], old[0], f"{_edge(old[1])} {_s(off)} {word}"))
            i, j = i + 1, j + 1
        elif new is not None and (old is None or new[0] < min(expected(old[0]))):
            if old is not None or new[0] < accepted.length_ms:
                out.append(Difference(name, new[0], -1, f"{_edge(new[1])} besides"))
            j += 1
        elif old is not None:
            if new is not None or old[0] < end_ms:
                out.append(Difference(name, -1, old[0], f"{_edge(old[1])} is missing"))
            i += 1
    return out


def _compare_numbers(
    name: str, before: list[Change], now: list[Change], within: float, expected: Callable[[int], list[int]]
) -> list[Difference]:
    """A number as it was when each step was entered."""
    times = [t for t, _ in now]
    out = []
    for t, value in before:
        there = [(e, now[max(0, bisect_right(times, e) - 1)][1]) for e in expected(t)]
        at, nearest = min(there, key=lambda x: abs(x[1] - value))
        if abs(nearest - value) > within:
            out.append(Difference(name, at, t, f"was {number_text(nearest)}, accepted {number_text(value)}"))
    return out


def _changes(trace: Trace, name: str, start_ms: int) -> list[Change]:
    """The changes of a column from a time on; the first is its value then."""
    scans, values = trace.changes(trace.column(name))
    period = trace.period_ms
    out: list[Change] = []
    for k, value in zip(scans.tolist(), values.tolist()):
        t = max(0, k * period - start_ms)
        if out and out[-1][0] == t:
            out.pop()
        out.append((t, value))
    return out


def _sampled(changes: list[Change], times: list[int]) -> list[Change]:
    known = [t for t, _ in changes]
    return [(t, changes[max(0, bisect_right(known, t) - 1)][1]) for t in times]


def _edge(value: float) -> str:
    return {0.0: "off", 1.0: "on"}.get(value, number_text(value))


def _s(ms: int) -> str:
    return f"{ms / 1000:g} s"


def label_of(accepted: Accepted) -> str:
    """`Light roast` or `Light roast [T = 3 s]`."""
    return accepted.scenario + (f" [{accepted.label}]" if accepted.label else "")


Span = tuple[int, int]
"""From and to in ms of the scenario."""


def apart(accepted: Accepted, run: Run) -> dict[str, list[Span]]:
    """By lane, the spans in which a BOOL signal or step flag was otherwise than in the accepted run."""
    then, now = kept(accepted.lanes), kept(lanes_of(run))
    numbers = {s.name for s in run.project.signals if s.type is not Type.BOOL}
    end = min(accepted.length_ms, length_of(run))
    found = {n: _spans_apart(then[n], now[n], end) for n in then if n in now and n not in numbers}
    return {n: spans for n, spans in found.items() if spans}


def _spans_apart(before: list[Change], now: list[Change], end_ms: int) -> list[Span]:
    times = sorted({t for t, _ in before} | {t for t, _ in now} | {end_ms})
    out: list[Span] = []
    known, present = [t for t, _ in before], [t for t, _ in now]
    for t, after in itertools.pairwise(times):
        old = before[max(0, bisect_right(known, t) - 1)][1]
        new = now[max(0, bisect_right(present, t) - 1)][1]
        if old != new and t < end_ms:
            if out and out[-1][1] == t:
                out[-1] = (out[-1][0], min(after, end_ms))
            else:
                out.append((t, min(after, end_ms)))
    return out


def compared_runs(project: Project, results: Iterable[Result]) -> list[tuple[str, list[Difference]]]:
    """The accepted runs whose scenario was run, each with its differences; not those that are missing beside the file."""
    runs = {(r.scenario.name, run.label): run for r in results for run in r.runs}
    found = ((a, runs.get((a.scenario, a.label))) for a in project.accepted)
    return [(label_of(a), compare(a, run)) for a, run in found if run is not None and not a.stored]
