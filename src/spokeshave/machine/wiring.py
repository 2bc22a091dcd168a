"""Wiring by names: which signal most likely belongs to which terminal, what is left over, what looks exchanged.

A signal's name has words of its device (`Drop` in `DropClosed` for `DropGate`) and words of the terminal (`Closed`).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from itertools import combinations

from spokeshave.machine.device import Terminal
from spokeshave.machine.kinds import KINDS, drives_of, one_of, sensors_of, terminals_of
from spokeshave.model.edits import EditError, add_item, change_item, free_name, taken_names
from spokeshave.model.project import Device, Project, Signal, SignalClass

_WORDS = re.compile(r"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
LIKELY = 0.45
"""From this score on a signal is proposed for a terminal."""


@dataclass(frozen=True, slots=True)
class Proposal:
    """A signal for a terminal, and how likely it is: 0 to 1."""

    device: str
    terminal: str
    signal: str
    score: float


@dataclass(frozen=True, slots=True)
class Unwired:
    """What is left over on both sides: terminals as (device, terminal), inputs nobody gives, outputs nobody takes."""

    terminals: tuple[tuple[str, str], ...]
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]


def words_of(name: str) -> list[str]:
    """The words of a name in lower case.

    >>> words_of("DropDoor2Closed")
    ['drop', 'door', '2', 'closed']
    """
    return [w.lower() for w in _WORDS.findall(name)]


def alike(a: str, b: str) -> bool:
    """Whether two words are the same but for an ending."""
    n = min(len(a), len(b))
    return a == b or (n >= 4 and a[:n] == b[:n]) or (n >= 5 and a[:4] == b[:4])


def _known(word: str, words: Iterable[str]) -> bool:
    return any(alike(word, w) for w in words)


def terminal_score(terminal: Terminal, words: Sequence[str]) -> float:
    """How well the words fit a terminal: its own name counts most."""
    if not words:
        return 0.0
    own, also = words_of(terminal.name), terminal.also.split()
    return max(1.0 if _known(w, own) else 0.8 if _known(w, also) else 0.0 for w in words)


def score(device: Device, terminal: Terminal, signal: Signal) -> float:
    """How likely a signal belongs to a terminal: half from the device's words in its name, half from the terminal's."""
    mine = words_of(device.name)
    words = words_of(signal.name)
    shared = [w for w in words if _known(w, mine)]
    if not shared:
        return 0.0
    rest = [w for w in words if w not in shared]
    own = sum(_known(m, words) for m in mine) / len(mine)
    if rest:
        fits = terminal_score(terminal, rest)
        # An output may have a word of its own for what the device is: `DropDoor` drives `DropGate`.
        if not fits and terminal.drive and terminal is drives_of(device)[0]:
            fits = 0.4
    else:
        fits = 0.8 if terminal is (drives_of(device) if terminal.drive else sensors_of(device))[0] else 0.0
    return 0.0 if not fits else (own + fits) / 2


def _fits(terminal: Terminal, signal: Signal) -> bool:
    wanted = SignalClass.OUTPUT if terminal.drive else SignalClass.INPUT
    return signal.cls is wanted and terminal.takes(signal.type)


def proposals(project: Project, devices: Iterable[str] | None = None) -> tuple[Proposal, ...]:
    """The most likely signal of each terminal that has none, best first; each input once."""
    names = None if devices is None else {d.lower() for d in devices}
    given = {s.lower() for d in project.devices for _, s in d.wires}
    ends = (SignalClass.INPUT, SignalClass.OUTPUT)
    free = [s for s in project.signals if s.cls in ends and s.name.lower() not in given]
    found: list[Proposal] = []
    for d in project.devices:
        if d.kind not in KINDS or (names is not None and d.name.lower() not in names):
            continue
        for t in terminals_of(d):
            if not d.wired(t.name):
                scores = ((s.name, score(d, t, s)) for s in free if _fits(t, s))
                found += [Proposal(d.name, t.name, name, likely) for name, likely in scores if likely >= LIKELY]
    found.sort(key=lambda p: -p.score)
    out: list[Proposal] = []
    taken: set[object] = set()
    for p in found:
        ends_of_it = {(p.device, p.terminal), p.signal}
        if taken.isdisjoint(ends_of_it):
            taken |= ends_of_it
            out.append(p)
    return tuple(out)


def wire(project: Project, chosen: Iterable[Proposal]) -> Project:
    """The machine file with these wires."""
    for p in chosen:
        index = next(i for i, d in enumerate(project.devices) if d.name == p.device)
        kept = tuple(w for w in project.devices[index].wires if w[0] != p.terminal)
        project = change_item(project, "devices", index, wires=(*kept, (p.terminal, p.signal)))
    return project


def unwired(project: Project) -> Unwired:
    """What is left over on both sides. A second inlet or switch that is not there is no loose end: of a device only its
    first drive and sensor count, and others that its kind cannot do without.
    """
    given = {s.lower() for d in project.devices for _, s in d.wires}
    coupled = {(c.target.lower(), c.takes) for c in project.connections} | {
        (c.source.lower(), c.gives) for c in project.connections
    }
    loose: list[tuple[str, str]] = []
    for d in project.devices:
        for side in (drives_of(d), sensors_of(d)):
            named = side if d.kind == "own" else side[:1]
            any_wired = any(d.wired(t.name) or (d.name.lower(), t.name) in coupled for t in side)
            if d.kind == "own":
                loose += [(d.name, t.name) for t in named if not d.wired(t.name)]
            elif not any_wired:
                loose += [(d.name, t.name) for t in named]
    return Unwired(
        tuple(loose),
        tuple(s.name for s in project.signals if s.cls is SignalClass.INPUT and s.name.lower() not in given),
        tuple(s.name for s in project.signals if s.cls is SignalClass.OUTPUT and s.name.lower() not in given),
    )


def exchanged(project: Project) -> tuple[tuple[str, str, str], ...]:
    """Pairs of terminals of a device whose signals would fit better the other way round: (device, one, other)."""
    out: list[tuple[str, str, str]] = []
    for d in project.devices:
        if d.kind not in KINDS:
            continue
        for side in (drives_of(d), sensors_of(d)):
            wired = [t for t in side if d.wired(t.name)]
            for one, other in combinations(wired, 2):
                if one.type is not other.type:
                    continue
                a, b = words_of(d.wired(one.name)), words_of(d.wired(other.name))
                a, b = [w for w in a if w not in b], [w for w in b if w not in a]
                if d.kind == "actuator" and _against_its_drive(d, one, other):
                    out.append((d.name, one.name, other.name))
                    continue
                if d.kind == "actuator" and _goes_up_or_down(d.wired(one.name), d.wired(other.name)):
                    continue  # what drives out may lift as well as lower
                now = terminal_score(one, a) + terminal_score(other, b)
                then = terminal_score(one, b) + terminal_score(other, a)
                if now == 0 and then > 1:
                    out.append((d.name, one.name, other.name))
    return tuple(out)


_WAYS = (("up raise raised top upper high above", "down lower lowered bottom low below"),
         ("open opened opening", "close closed closing shut"),
         ("out extend extended forward forwards front advance advanced", "in back retract retracted backward rear"),
         ("left", "right"))  # fmt: skip
"""Words for one way and the other."""


def _way_of(name: str) -> tuple[int, int] | None:
    """Which way a name speaks of: the pair of ways, and which of the two; None for none or both."""
    words = set(words_of(name))
    found = [(i, side) for i, pair in enumerate(_WAYS) for side in (0, 1) if words & set(pair[side].split())]
    return found[0] if len(found) == 1 else None


def _goes_up_or_down(one: str, other: str) -> bool:
    """Whether two names speak of up and down: the one of one way, the other of the other."""
    return {_way_of(one), _way_of(other)} == {(0, 0), (0, 1)}


def _against_its_drive(device: Device, one: Terminal, other: Terminal) -> bool:
    """Whether both end switches speak of the other way than the drive that moves to them: `Up` leads to `AtBottom`."""
    if {one.name, other.name} != {"extended", "retracted"}:
        return False
    out, back = (_way_of(device.wired(n)) for n in ("extend", "retract"))
    there, rest = (_way_of(device.wired(n)) for n in ("extended", "retracted"))
    if out is None and back is not None:
        out = (back[0], 1 - back[1])
    return out is not None and there == (out[0], 1 - out[1]) and rest == out


def exchange(project: Project, device: str, one: str, other: str) -> Project:
    """The signals of two terminals the other way round."""
    index = next(i for i, d in enumerate(project.devices) if d.name == device)
    names = {one: other, other: one}
    wires = tuple((names.get(t, t), s) for t, s in project.devices[index].wires)
    return change_item(project, "devices", index, wires=wires)


def device_of(project: Project, kind: str, signals: Sequence[str], at: tuple[int, int] = (0, 0)) -> Device:
    """A new device of a kind for chosen signals, wired to them. Raises `EditError` if one finds no terminal.

    Two drives make an actuator stay where it is when neither is on.
    """
    chosen = [s for s in (project.signal(n) for n in signals) if s is not None]
    if kind not in KINDS or kind == "own":
        raise EditError(f"a device of signals cannot be of the kind {kind}")
    name, taken = _common_name(signals), taken_names(project)
    if not name or name.lower() in taken:  # a device is not called as its signal
        name += kind.capitalize()
    name = free_name(name, taken)
    device = Device(name, kind, at=at)
    free = list(terminals_of(device))
    wires: list[tuple[str, str]] = []
    common = set(words_of(signals[0])).intersection(*(words_of(s) for s in signals)) if signals else set()
    ranked = sorted(
        ((terminal_score(t, [w for w in words_of(s.name) if w not in common]) - 0.01 * free.index(t), i, t)
         for i, s in enumerate(chosen) for t in free if _fits(t, s)),
        key=lambda x: -x[0],
    )  # fmt: skip
    done: set[int] = set()
    for _, i, t in ranked:
        if i not in done and t in free:
            wires.append((t.name, chosen[i].name))
            done.add(i)
            free.remove(t)
    left = [s.name for i, s in enumerate(chosen) if i not in done]
    if left or not chosen:
        what = f"{', '.join(left)} finds no terminal" if left else "choose the signals it is wired to"
        raise EditError(f"{what}; {_terminals_text(kind)}")
    order = [t.name for t in terminals_of(device)]
    wires.sort(key=lambda w: order.index(w[0]))
    drives = sum(t in ("extend", "retract") for t, _ in wires)
    parameters = (("two_drives", 1.0),) if kind == "actuator" and drives == 2 else ()
    return replace(device, wires=tuple(wires), parameters=parameters)


def make_device(project: Project, kind: str, signals: Sequence[str], at: tuple[int, int] = (0, 0)) -> Project:
    """The machine file with a new device for chosen signals; see `device_of`."""
    return add_item(project, "devices", device_of(project, kind, signals, at))


def likely_kind(project: Project, signals: Sequence[str]) -> str:
    """The kind chosen signals speak of most: by how well their words fit its terminals, of which a few say more."""
    best, best_score = "", 0.0
    for kind in (k for k in KINDS if k != "own"):
        try:
            device = device_of(project, kind, signals)
        except EditError:
            continue
        by_name = {t.name: t for t in terminals_of(device)}
        mean = sum(terminal_score(by_name[t], words_of(s)) for t, s in device.wires) / len(device.wires)
        fits = mean + 2 / len(by_name)
        if fits > best_score:
            best, best_score = kind, fits
    return best


def _common_name(signals: Sequence[str]) -> str:
    """The words all names begin with, or the first word of the first."""
    lists = [words_of(s) for s in signals]
    common: list[str] = []
    for words in zip(*lists):
        if len(set(words)) > 1:
            break
        common.append(words[0])
    return "".join(w.capitalize() for w in (common or lists[0][:1])) if lists else ""


def _terminals_text(kind: str) -> str:
    named = [f"{'output' if t.drive else 'input'} {t.name} {t.type}" for t in KINDS[kind].terminals]
    return f"{one_of(kind)} has {', '.join(named)}"
