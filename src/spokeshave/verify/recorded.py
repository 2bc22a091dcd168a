"""A recording of a real machine beside a run: its inputs are given to the machine file, and all else is compared with what
the machine file does then, like an accepted run.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from spokeshave.engine.session import Session
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.literals import read_value
from spokeshave.model.project import Accepted, Project, SignalClass, Type
from spokeshave.verify import VerifyError
from spokeshave.verify.accepted import Change, Difference, compare, kept, lanes_of, number_text
from spokeshave.verify.scenarios import Run

Recorded = Mapping[str, list[Change]]
"""Names with their changes."""


class RecordedError(VerifyError):
    """What was recorded can be no value of what it is said to be."""


@dataclass(frozen=True, slots=True)
class Beside:
    """A run and the recording it was laid beside, as an accepted run, with what differs."""

    run: Run
    recorded: Accepted
    differences: tuple[Difference, ...]


def matched(project: Project, names: Iterable[str], given: Mapping[str, str] | None = None) -> dict[str, str]:
    """Names of a recording with the lanes they are: as `given` says (an empty text leaves one out), or by name without case,
    blanks and underscores, with or without what stands before it, or by address. A lane is taken once.
    """
    known: dict[str, str] = {}
    for q in project.sequences:
        for s in q.steps:
            known[_plain(f"{q.name}.{s.name}")] = known[_plain(f"{q.name}.{s.name}.X")] = f"{q.name}.{s.name}.X"
    for v in project.variables:
        if v.address:
            known.setdefault(_plain(v.address), v.name)
    known |= {_plain(v.name): v.name for v in project.variables}
    chosen = {k.lower(): v for k, v in (given or {}).items()}
    out: dict[str, str] = {}
    for name in sorted(names, key=lambda n: n.lower() not in chosen):  # what is said goes before what is guessed
        if name.lower() in chosen:
            lane = known.get(_plain(chosen[name.lower()]), "")
        else:
            parts = name.split(".")
            lane = next((known[p] for i in range(len(parts)) if (p := _plain(".".join(parts[i:]))) in known), "")
        if lane and lane not in out.values():
            out[name] = lane
    return out


def _plain(name: str) -> str:
    return re.sub(r"[\s_%-]", "", name.lower())


def put_in_place(recorded: Recorded, names: Mapping[str, str], shift_ms: int = 0) -> dict[str, list[Change]]:
    """The lanes of a recording by our names, later by `shift_ms`; what comes before 0 then is only where a lane begins, and
    what a recording begins with was so before it too.
    """
    out: dict[str, list[Change]] = {}
    for theirs, ours in names.items():
        moved = [(t + shift_ms, v) for t, v in recorded[theirs]]
        before = [v for (t, v), (was, _) in zip(moved, recorded[theirs]) if t <= 0 or was == 0]
        moved = moved[1:] if recorded[theirs] and recorded[theirs][0][0] == 0 else moved
        out[ours] = [*([(0, before[-1])] if before else []), *((t, v) for t, v in moved if t > 0)]
    return out


def stimuli_of(project: Project, lanes: Recorded) -> list[Stimulus]:
    """What inputs and settings were, in the order of time. Raises `RecordedError` for a value that the type cannot have."""
    out = []
    for name, changes in lanes.items():
        signal = project.signal(name)
        if signal is not None and signal.cls in (SignalClass.INPUT, SignalClass.SETTING):
            for t, v in changes:
                try:
                    value = v if signal.type is Type.REAL else read_value(number_text(v), signal.type)
                except ValueError as error:
                    raise RecordedError(f"{signal.name} at {t} ms: {error}") from None
                out.append(Stimulus(t, "set", signal.name, value))
    return sorted(out, key=lambda s: s.time_ms)


def lay_beside(
    project: Project, lanes: Recorded, length_ms: int, within_ms: int = 50, within: float = 1.0, run: Run | None = None
) -> Beside:
    """Runs the machine file with the inputs of a recording, or takes `run`, and compares what else was recorded.

    Numbers are compared where a BOOL changes. A BOOL that is recorded only from its first change on was the other before.
    `length_ms` is the last moment of the recording. Raises `LinkError` for a file that cannot run,
    `RecordedError` for a value that an input cannot have.
    """
    given: set[str] = set()
    if run is None:
        done = tuple(stimuli_of(project, lanes))
        given = {s.target for s in done}
        session = Session(project, done)
        session.run_for(length_ms + 1)
        stopped = str(session.stopped) if session.stopped is not None else ""
        run = Run("", (), project, done, session.k, 0, stopped, live=session)
    reals = {v.name for v in project.variables if v.type is Type.REAL}
    settings = {v.name for v in project.variables if v.cls is SignalClass.SETTING}
    all_lanes = lanes_of(run)
    ours = kept(all_lanes)
    compared = {n: _begun(c, ours.get(n, [])) for n, c in lanes.items() if c and n not in given | settings}
    edges = sorted({t for n, c in compared.items() if n not in reals for t, _ in c} | {0})
    texts = [
        (n, " ".join(f"{t}:{number_text(v)}" for t, v in (_at(c, edges) if n in reals else c)))
        for n, c in compared.items()
    ]
    recorded = Accepted("recording", "", within_ms, within, length_ms + 1, tuple(texts))
    there = {n for n, _ in texts}
    short = replace(run, lanes=tuple(lane for lane in all_lanes if lane[0] in there))
    found = [replace(d, text=d.text.replace("accepted", "recorded")) for d in compare(recorded, short)]
    return Beside(run, recorded, tuple(found))


def _begun(changes: list[Change], ours: list[Change]) -> list[Change]:
    """A lane from 0 on, also where it is recorded from its first change on."""
    if changes[0][0] == 0:
        return changes
    value = changes[0][1]
    first = 1 - value if value in (0, 1) else ours[0][1] if ours else value
    return [(0, first), *changes] if first != value else [(0, value), *changes[1:]]


def lay_beside_elsewhere(project: Project, lanes: Recorded, length_ms: int, within_ms: int, within: float) -> Beside:
    """As `lay_beside`, for another process: the run is run again where it is looked at."""
    found = lay_beside(project, lanes, length_ms, within_ms, within)
    return replace(found, run=replace(found.run, live=None))


def _at(changes: list[Change], times: list[int]) -> list[Change]:
    """The values at some times, from the first change on."""
    out, i = [], 0
    for t in times:
        while i + 1 < len(changes) and changes[i + 1][0] <= t:
            i += 1
        if changes[i][0] <= t:
            out.append((t, changes[i][1]))
    return out or changes[:1]
