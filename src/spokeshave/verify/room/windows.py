"""Measured times of passing runs against their limits: time windows of steps, fixed waiting times."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from spokeshave.engine.trace import Trace
from spokeshave.language.timed import said_ms, times_of
from spokeshave.machine.kinds import drives_of, sensors_of
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Sequence, Step
from spokeshave.verify.measure import measure

_WAIT = re.compile(r"(?:\w+\.)?(?P<step>\w+)\.T\s*>=?\s*(?P<time>T#[\w.]+|[A-Za-z_][\w.\[\]]*)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Window:
    """A limit in ms and what was measured, in the run that came nearest to it. `left` is how much more there would be room for.

    `kind` is longest, shortest (time windows), or wait (a fixed waiting time: `limit` is the time waited, `measured` when what the step
    had set going was there, so that `left` of the wait was not needed).
    """

    place: Place
    kind: str
    limit: int
    measured: int
    scenario: str
    what: str = ""

    @property
    def left(self) -> int:
        """In ms; of a window the distance to its limit, of a wait what is waited beyond what is waited for."""
        return self.measured - self.limit if self.kind == "shortest" else self.limit - self.measured

    @property
    def share(self) -> float:
        """`left` as a part of the limit, 0 to 1 where nothing is late."""
        return self.left / self.limit if self.limit > 0 else 1.0


def windows(project: Project, runs: Iterable[tuple[str, Trace]]) -> list[Window]:
    """The nearest that each window and each fixed wait came to its limit in passing runs, as (scenario, trace); tightest first."""
    times = times_of(project)
    found: dict[tuple[str, str, str], Window] = {}
    for scenario, trace in runs:
        for w in _of_run(project, times, scenario, trace):
            key = (w.place.sequence, w.place.item, w.kind)
            if key not in found or w.left < found[key].left:
                found[key] = w
    return sorted(found.values(), key=lambda w: (w.kind == "wait", w.share))


def _of_run(project: Project, times: dict[str, int], scenario: str, trace: Trace) -> Iterator[Window]:
    late = {e.text for e in trace.events if e.kind == "late"}  # a stay that was late on purpose says nothing of room
    for q in project.sequences:
        stood, stays = _stood(trace, q.name), measure(trace, q)
        for s in q.steps:
            here = Place("step", q.name, s.name)
            ended = [(a, b) for a, b in stays.active[s.name] if b < trace.end_ms]
            lasted = [b - a - sum(max(0, min(b, d) - max(a, c)) for c, d in stood) for a, b in ended]
            if not lasted:
                continue
            if s.longest and (longest := _time(s.longest, times)) and f"{q.name}.{s.name}" not in late:
                yield Window(here, "longest", longest, max(lasted), scenario)
            if s.shortest and (shortest := _time(s.shortest, times)):
                yield Window(here, "shortest", shortest, min(lasted), scenario)
            wait = _wait_of(q, s, times)
            if wait and f"{q.name}.{s.name}" not in late:
                yield from _unneeded(project, q, s, wait, scenario, trace, ended)


def _stood(trace: Trace, sequence: str) -> list[tuple[int, int]]:
    """When a sequence was held or tripped, so that its times stood still, in ms."""
    out: list[tuple[int, int]] = []
    since: int | None = None
    for e in trace.events:
        if e.place.kind == "sequence" and e.place.item == sequence and e.kind in ("runs", "held", "tripped"):
            if since is not None:
                out.append((since, e.k * trace.period_ms))
            since = None if e.kind == "runs" else e.k * trace.period_ms
    return out if since is None else [*out, (since, trace.end_ms)]


def _wait_of(q: Sequence, s: Step, times: dict[str, int]) -> int:
    """The fixed time after which a step is left; 0 if none of its ways waits for one."""
    for _, way in q.leaving(s.name):
        for m in _WAIT.finditer(way.condition):
            if m["step"].lower() == s.name.lower():
                return _time(m["time"], times)
    return 0


def _time(text: str, times: dict[str, int]) -> int:
    try:
        return said_ms(text, times)
    except ValueError:
        return 0


def _unneeded(
    project: Project, q: Sequence, s: Step, wait: int, scenario: str, trace: Trace, stays: Iterable[tuple[int, int]]
) -> Iterator[Window]:
    """A fixed wait beside the switches of what the step drives: the last of them to come says how much was not needed."""
    driven = {a.target.lower() for a in s.actions}
    known = {r.name.lower() for r in trace.recorded}
    switches = {
        d.wired(t.name)
        for d in project.devices
        if any(d.wired(t.name).lower() in driven for t in drives_of(d))
        for t in sensors_of(d)
        if t.type == "BOOL" and d.wired(t.name).lower() in known
    }
    asked = " ".join(way.condition.lower() for _, way in q.leaving(s.name))
    worst: Window | None = None
    for begin, end in stays:
        if end - begin < wait:
            continue
        came = [(t * trace.period_ms, name) for name in switches for t, _ in trace.windows(name)]
        inside = [(t - begin, name) for t, name in came if begin < t <= end]
        if not inside:
            continue
        last, name = max(inside)
        what = f"{name} had come" + ("" if re.search(rf"\b{name.lower()}\b", asked) else ", and is not asked for")
        w = Window(Place("step", q.name, s.name), "wait", wait, last, scenario, what)
        if worst is None or w.left < worst.left:
            worst = w
    if worst is not None:
        yield worst
