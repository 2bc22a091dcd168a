"""What a run says of the times of a sequence: how long steps lasted, the cycle, and when outputs were on in it."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass, field

from spokeshave.engine.trace import Trace
from spokeshave.model.project import Sequence

Span = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Lasted:
    """Times in ms of the stays in a step that have ended; `count` of them."""

    count: int
    least: int
    mean: float
    greatest: int


@dataclass(frozen=True, slots=True)
class Measured:
    """Spans in ms. `cycle` goes from one entry of the initial step to the next: the last whole one, else the run."""

    lasted: dict[str, Lasted]
    active: dict[str, tuple[Span, ...]]
    cycle: Span
    whole: bool
    on: dict[str, tuple[Span, ...]] = field(default_factory=dict)
    """For each signal its windows in the cycle, as spans from the cycle's begin."""

    @property
    def cycle_ms(self) -> int:
        return self.cycle[1] - self.cycle[0]


def measure(trace: Trace, sequence: Sequence, signals: tuple[str, ...] = ()) -> Measured:
    """Measures a sequence in a trace; names that were not recorded are left out."""
    period, end = trace.period_ms, trace.end_ms
    known = {r.name.lower() for r in trace.recorded}
    active: dict[str, tuple[Span, ...]] = {}
    lasted: dict[str, Lasted] = {}
    for s in sequence.steps:
        name = f"{sequence.name}.{s.name}.X"
        spans = [(a * period, b * period) for a, b in trace.windows(name)] if name.lower() in known else []
        active[s.name] = tuple(spans)
        stays = [b - a for a, b in spans if b < end]
        if stays:
            lasted[s.name] = Lasted(len(stays), min(stays), sum(stays) / len(stays), max(stays))
    entries = [a for a, _ in active.get(sequence.initial, ())]
    whole = len(entries) > 1
    cycle = (entries[-2], entries[-1]) if whole else (0, end)
    on: dict[str, tuple[Span, ...]] = {}
    for name in signals:
        if name.lower() in known:
            spans = [(a * period, b * period) for a, b in trace.windows(name)]
            on[name] = _within(spans, cycle)
    return Measured(lasted, active, cycle, whole, on)


def _within(spans: list[Span], cycle: Span) -> tuple[Span, ...]:
    low, high = cycle
    first = bisect_right([b for _, b in spans], low)
    last = bisect_left([a for a, _ in spans], high)
    return tuple((max(a, low) - low, min(b, high) - low) for a, b in spans[first:last])
