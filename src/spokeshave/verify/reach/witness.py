"""The way to a situation as a scenario: inputs that are set at their times, tried out on the program itself.

Times are free in a study, so that a way found there may ask for an order of times that does not come. The way is played
on the real program; only if it leads there is it a proof.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import pairwise
from typing import Any

import numpy as np

from spokeshave.engine.session import Session
from spokeshave.engine.situation import situation_of
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language import checked as ck
from spokeshave.model.project import Type, Value
from spokeshave.verify.reach.explore import Explorer, Found
from spokeshave.verify.reach.packing import as_keys
from spokeshave.verify.reach.vector_scan import Choice, Scan
from spokeshave.verify.reach.vectorized import evaluate

MOST_PATHS = 24
"""So many other ways that are as short are tried where one does not play."""

Picked = dict[Choice, Any]
MOST_TRIED = 1 << 14
"""So many values of inputs are tried at most for a scan in which nothing is to happen."""


@dataclass(frozen=True, slots=True)
class Way:
    """`text` is a scenario; `replays` whether it leads to the same situation on the bench."""

    text: str
    replays: bool
    steps: tuple[str, ...]
    """What is active at its end, as `Sequence.Step`."""
    end_ms: int
    done: tuple[Stimulus, ...] = ()


Event = tuple[str, tuple[int, int]]
"""What has to happen in the last scan of a way: `asked`, `out` or `unsafe`, and to what."""


def way_to(explorer: Explorer, found: Found, ends: Sequence[tuple[int, ...]], event: Event | None = None) -> Way:
    """The shortest way to one of some ends: a situation, or one and the next, where `event` happens between them.

    The first end comes first; where the way there does not play, those to the others, then others that are as short.
    """
    first: Way | None = None
    for path in _paths(found, ends):
        way = _Player(explorer, found).play(path, event)
        if way.replays:
            return way
        first = first or way
    assert first is not None
    return first


def _paths(found: Found, ends: Sequence[tuple[int, ...]]) -> Iterator[list[int]]:
    """Shortest ways to each end by which it was first come to, then others to the first by chance, always the same."""
    for last in ends:
        yield _path(found, last, lambda at: int(found.parents[at]))
    if not found.links:
        return
    chance, known = random.Random(ends[0][0]), {tuple(_path(found, ends[0], lambda at: int(found.parents[at])))}
    before = cache(lambda at: _predecessors(found, at))
    for _ in range(MOST_PATHS):
        path = _path(found, ends[0], lambda at: chance.choice(before(at)))
        if tuple(path) not in known:
            known.add(tuple(path))
            yield path


def _path(found: Found, last: tuple[int, ...], parent: Callable[[int], int]) -> list[int]:
    """From one of the first situations to the last ones."""
    path = list(last[::-1])
    while found.parents[path[-1]] >= 0:
        path.append(parent(path[-1]))
    return path[::-1]


def _predecessors(found: Found, at: int) -> list[int]:
    """The situations of the frontier before from which one leads here."""
    level = int(np.searchsorted(found.borders, at, side="right"))
    low, high = (int(found.borders[level - 2]) if level > 1 else 0), int(found.borders[level - 1])
    out: list[int] = []
    for links in found.links:
        if links[-1, 0] >= low and links[0, 0] < high:
            out += links[(links[:, 1] == at) & (links[:, 0] >= low) & (links[:, 0] < high), 0].tolist()
    return out


class _Player:
    def __init__(self, explorer: Explorer, found: Found) -> None:
        self.explorer, self.found, self.studied = explorer, found, found.studied
        self.session = Session(self.studied.texts.project, every_scan=True)
        self.names = {slot: self.studied.of_slot[slot].name for slot in self.studied.inputs}
        self.values: dict[int, Value] = {}
        self.rows: list[tuple[int, str, Value]] = []

    def play(self, path: list[int], event: Event | None) -> Way:
        packed, chosen = self.explorer.begin()
        row = np.flatnonzero(as_keys(packed) == as_keys(self.found.situations[path[0]][None, :])[0])[0]
        for slot in self.studied.inputs:  # all are taken over from their devices
            self.values.setdefault(slot, self._usual(slot))
        columns = self.explorer.layout.unpack(self.found.situations[path[0]][None, :])
        for slot in self.studied.varied:
            if slot in self.studied.carried:
                name, value = self.studied.of_slot[slot].name, columns["var", slot, 0][0].item()
                plain = bool(value) if isinstance(self.studied.start[slot], bool) else value
                self.rows.append((0, name, plain))
                self.session.do("set", name, plain)
        self._scan({key: column[row] for key, column in chosen.items()}, all_inputs=True)
        for n, (here, there) in enumerate(pairwise(path)):
            last = event if n == len(path) - 2 else None
            self._move(here, there, last)
        end = self.session.time_ms
        wanted = self._active(path[-1])
        everywhere = situation_of(self.session.program, self.session.situation)
        active = {q: names for q, names in everywhere.items() if q in wanted}
        steps = tuple(f"{q}.{s}" for q, names in active.items() for s in names)
        replays = {q: set(names) for q, names in active.items()} == wanted and self._variables_agree(path[-1])
        done = tuple(Stimulus(t, "set", name, value) for t, name, value in self.rows)
        return Way(self._text(wanted, end), replays, steps, end, done)

    def _usual(self, slot: int) -> Value:
        """What an input is before anything is chosen: as assumed, else as it starts."""
        signal = self.studied.project.signal(self.names[slot])
        if signal is not None and signal.type is Type.BOOL:
            return signal.contact == "nc" or bool(signal.home)
        value: Value = self.studied.domains[slot][0]
        return value

    # -- scans

    def _move(self, here: int, there: int, event: Event | None) -> None:
        """From one situation of the path to the next, waiting before it where times or edges ask for it."""
        _, after, told, chosen = self.explorer.go_on(self.found.situations[here][None, :])
        keys = as_keys(after)
        leads = keys == as_keys(self.found.situations[there][None, :])[0]
        if event is not None:
            pair = event[1]
            kind = getattr(told, event[0])
            leads = leads & (kind[pair[0]] & kind[pair[1]] if event[0] in ("asked", "out") else kind[pair])
        rows = np.flatnonzero(leads)
        costs = [self._cost({key: c[r] for key, c in chosen.items()}) for r in rows]
        move = {key: c[rows[int(np.argmin(costs))]] for key, c in chosen.items()}
        self._wait(here, move)
        self._scan(move)

    def _cost(self, picked: Picked) -> int:
        changed: int = sum(bool(self.values.get(key[1]) != v) for key, v in picked.items() if key[0] == "value")
        return changed + 10 * sum(bool(v) for key, v in picked.items() if key[0] not in ("value", "last"))

    def _wait(self, here: int, move: Picked) -> None:
        """Scans in which nothing happens, until the times of the move have passed and its edges can come."""
        need = self._passing(move)
        operands: list[tuple[ck.Checked, bool]] = []
        for key, value in move.items():
            if key[0] != "edge":
                continue
            kind, operand = self.studied.edges[key[1]]
            now = self._operand(operand, move)
            if kind == "HELD":
                if value:
                    operands.append((operand, True))
                    need = max(need, self._held_scans(key[1]))
            else:
                before = now != bool(value)
                operands.append((operand, before))
                if self._was(key[1]) != before:
                    need = max(need, 1)
        if need <= 0:
            return
        quiet = self._quiet(here, operands)
        if quiet is None:
            return
        self._scan(quiet)
        for _ in range(min(need - 1, 1_000_000)):
            if not self.session.scan():
                return

    def _quiet(self, here: int, operands: list[tuple[ck.Checked, bool]]) -> Picked | None:
        """Inputs under which the situation stays as it is, and operands of edges are as they have to be before a move.

        The fewest inputs change: those that the operands read, and where that is not enough all that anybody looks at here.
        """
        studied, explorer = self.studied, self.explorer
        _, _, _, chosen = explorer.go_on(self.found.situations[here][None, :])
        read = {x.slot for tree, _ in operands for x in ck.loads(tree)} & studied.inputs
        for slots in (read, read | {key[1] for key in chosen if key[0] == "value" and key[1] in studied.inputs}):
            found = self._among(here, sorted(slots), operands, set(chosen))
            if found is not None:
                return found
        return None

    def _among(
        self, here: int, slots: list[int], operands: list[tuple[ck.Checked, bool]], looked_at: set[Choice]
    ) -> Picked | None:
        """The choice of these inputs that changes the fewest; all others are as they are."""
        studied, explorer = self.studied, self.explorer
        many = int(np.prod([len(studied.domains[s]) for s in slots])) if slots else 1
        if many > MOST_TRIED:
            return None
        values: dict[int, Any] = {s: np.full(many, v) for s, v in self.values.items()}
        rest = np.arange(many)
        for slot in slots:
            domain = np.array(studied.domains[slot])
            values[slot] = domain[rest % len(domain)]
            rest = rest // len(domain)
        packed = np.repeat(self.found.situations[here][None, :], many, axis=0)
        columns = explorer.layout.unpack(packed)
        picked: Picked = {("value", s, 0): column for s, column in values.items()}
        picked |= {key: np.zeros(many, bool) for key in looked_at if key[0] not in ("value", "last")}
        env: dict[int, Any] = dict(enumerate(self.session.situation.v)) | values
        fits = np.ones(many, bool)
        for tree, want in operands:
            fits &= np.broadcast_to(np.asarray(evaluate(tree, env), bool), (many,)) == want
        for tree in studied.assumptions:
            fits &= np.broadcast_to(np.asarray(evaluate(tree, env), bool), (many,))
        Scan(studied, columns, many, dict(picked)).run()
        fits &= as_keys(explorer.layout.pack(columns, many)) == as_keys(packed)
        rows = np.flatnonzero(fits)
        if not len(rows):
            return None
        changes = sum((values[s] != self.values[s]).astype(int) for s in slots) if slots else np.zeros(many, int)
        row = rows[int(np.argmin(np.asarray(changes)[rows]))]
        return {("value", s, 0): column[row] for s, column in values.items()}

    def _passing(self, move: Picked) -> int:
        """Scans to wait so that the times of steps that pass in the move have passed."""
        s, need = self.session.situation, 0
        for (what, i, a), value in move.items():
            if what == "passes" and value and a in s.entered[i]:
                thresholds = self.studied.thresholds[i, a]
                lasted = s.k - s.lost[i] - s.entered[i][a]
                ahead = [t for t in thresholds if t > lasted - 1] or [0]
                need = max(need, ahead[0] - lasted)
            elif what == "stored" and value and i in s.stored:
                block = self.session.program.by_order[i]
                need = max(
                    need,
                    -(-block.time.ms(s.v) // self.session.program.period_ms)
                    - (s.k - s.lost[block.sequence] - s.stored[i]),
                )
        return need

    def _number(self, slot: int) -> int:
        return next(n for n, e in enumerate(self.session.program.edges) if e.slot == slot)

    def _was(self, slot: int) -> bool:
        return bool(self.session.situation.edge_was[self._number(slot)])

    def _held_scans(self, slot: int) -> int:
        """Scans that what HELD looks at has to be TRUE before it holds."""
        n, s = self._number(slot), self.session.situation
        time = self.session.program.edges[n].time
        assert time is not None
        need = -(-int(time(s.v)) // self.session.program.period_ms)
        since: int = s.held_from[n]
        return need if since < 0 else int(need - (s.k - since))

    def _operand(self, operand: ck.Checked, picked: Picked) -> bool:
        env: dict[int, Any] = dict(enumerate(self.session.situation.v))
        env |= self.values | {key[1]: v for key, v in picked.items() if key[0] == "value"}
        return bool(evaluate(operand, env))

    def _scan(self, picked: Picked, all_inputs: bool = False) -> None:
        for key, value in picked.items():
            slot = key[1]
            if key[0] == "value" and slot in self.studied.inputs:
                plain = value.item() if isinstance(value, np.generic) else value
                if self.values.get(slot) != plain:
                    self.values[slot] = plain
                    if not all_inputs:
                        self._set(slot)
        if all_inputs:
            for slot in sorted(self.values):
                self._set(slot)
        self.session.scan()

    def _set(self, slot: int) -> None:
        value, name = self.values[slot], self.names[slot]
        self.rows.append((self.session.time_ms, name, value))
        self.session.do("set", name, value)

    # -- what came of it

    def _active(self, target: int) -> dict[str, set[str]]:
        columns = self.explorer.layout.unpack(self.found.situations[target][None, :])
        return {
            q.name: {x.name for x in q.steps if columns["code", q.index, x.index][0]}
            for q in self.studied.program.sequences
        }

    def _variables_agree(self, target: int) -> bool:
        columns = self.explorer.layout.unpack(self.found.situations[target][None, :])
        v = self.session.situation.v
        return all(int(v[slot]) == int(columns["var", slot, 0][0]) for slot in self.studied.carried)

    def _text(self, wanted: dict[str, set[str]], end: int) -> str:
        lines = [f"at {t} ms: set {name} to {_shown(value, self.studied, name)}" for t, name, value in self.rows]
        lines.append(f"run for {end} ms")
        flags = " AND ".join(f"{q}.{s}.X" for q, names in wanted.items() for s in sorted(names))
        lines.append(f"expect finally {flags}")
        return "\n".join(lines) + "\n"


def _shown(value: Value, studied: Any, name: str) -> str:
    signal = studied.project.signal(name)
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if signal is not None and signal.type is Type.TIME:
        return f"{value} ms"
    return repr(value)
