"""The critical path of a cycle: at each join the thread that came last, so that a second less there is a second less of the cycle."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from spokeshave.engine.trace import Trace
from spokeshave.model.project import Project, Sequence, SignalClass, Transition
from spokeshave.verify.measure import Span, measure


@dataclass(frozen=True, slots=True)
class Leg:
    """A stay in a step on the path, in ms, and what ended it: a device, a time, a hand, or a number that was reached."""

    step: str
    begin: int
    end: int
    waited_on: str


def critical_path(project: Project, q: Sequence, trace: Trace) -> list[Leg]:
    """The legs of the first whole cycle, from leaving the initial step on. Empty if none came to its end."""
    stays = measure(trace, q).active
    rest = stays[q.initial]
    if len(rest) < 2:
        return []
    begin, legs, at, step = rest[0][1], [], rest[1][0], q.initial
    while at > begin:
        came = _came_from(q, stays, step, at)
        if came is None:
            return []
        way, step, (entered, left) = came
        legs.append(Leg(step, entered, left, _waited_on(project, q, step, way, trace, entered, left)))
        at = entered
    return legs[::-1]


def _came_from(
    q: Sequence, stays: Mapping[str, tuple[Span, ...]], step: str, at: int
) -> tuple[Transition, str, tuple[int, int]] | None:
    """The way by which a step was entered at a time; of a join the predecessor that was entered last."""
    for _, way in q.entering(step):
        ended = {s: next((x for x in stays[s] if x[1] == at), None) for s in way.sources}
        if all(ended.values()):
            last = max(way.sources, key=lambda s: (ended[s] or (0, 0))[0])
            return way, last, ended[last]  # type: ignore[return-value]
    return None


def _waited_on(project: Project, q: Sequence, step: str, way: Transition, trace: Trace, entered: int, left: int) -> str:
    """What of the condition came last: the device that gives the signal, the time, or the condition itself."""
    last, name = entered, ""
    for signal in _read(project, way.condition):
        changed = _last_change(trace, signal, entered, left)
        if changed is not None and changed > last:
            last, name = changed, signal
    timed = f"{step}.t".lower() in way.condition.lower().replace(" ", "")
    if timed and last < left - trace.period_ms:  # everything else had been there
        return "a time"
    if not name:
        return "a time" if timed else way.condition
    giver = next((d.name for d in project.devices if any(s.lower() == name.lower() for _, s in d.wires)), "")
    return f"{giver} ({name})" if giver else name


def _read(project: Project, condition: str) -> Iterator[str]:
    words = set(condition.lower().replace(".", " ").replace("(", " ").replace(")", " ").replace(",", " ").split())
    yield from (s.name for s in project.signals if s.name.lower() in words and s.cls is not SignalClass.SETTING)


def _last_change(trace: Trace, name: str, begin: int, end: int) -> int | None:
    """The last time in a span in ms at which a signal changed."""
    try:
        scans, _ = trace.changes(trace.column(name))
    except KeyError:  # not recorded
        return None
    at = int(scans.searchsorted(end // trace.period_ms, side="right")) - 1
    changed = int(scans[at]) * trace.period_ms if at >= 0 else -1
    return changed if changed >= begin else None
