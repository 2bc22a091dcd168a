"""Sequences that have nothing to do with each other are explored by themselves: their situations multiply, the work adds."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator

from spokeshave.language import checked as ck
from spokeshave.verify.reach.studied import Studied
from spokeshave.verify.reach.vectorized import reads_of, slots_of, writes_of


class _Joined:
    """Sets of things that hang together."""

    def __init__(self) -> None:
        self.of: dict[object, object] = {}

    def root(self, x: object) -> object:
        while self.of.setdefault(x, x) != x:
            x = self.of[x]
        return x

    def join(self, things: Iterable[object]) -> None:
        roots = [self.root(x) for x in things]
        for r in roots[1:]:
            self.of[self.root(r)] = self.root(roots[0])


def groups_of(
    studied: Studied,
    together: Iterable[tuple[str, str]],
    before: Iterable[tuple[str, str]],
    through_inputs: bool = True,
) -> list[tuple[str, ...]]:
    """The names of sequences that share an input, a variable, a trip, or a question; in the order of the file. Without
    `through_inputs` those that share nothing but inputs are apart: whatever one of them comes to, it comes to with inputs
    that may be as they like, so that nobody else keeps it from that.
    """
    program, joined = studied.program, _Joined()
    fixed = {r.slot for r in program.recorded if r.kind == "setting"}
    if not through_inputs:
        fixed |= _as_inputs(studied, fixed)
    flags = {slot: q.name for q in program.sequences for x in q.steps for slot in (x.x, x.t, x.late)}
    flags |= {q.state: q.name for q in program.sequences}

    def hangs(slots: Iterable[int]) -> list[object]:
        return [flags.get(s, s) for s in _through_edges(studied, slots) if s not in fixed]

    for q in program.sequences:
        reads = [s for w in studied.ways[q.index] for tree in studied.conditions(w) for s in slots_of(tree)]
        if q.index in studied.holds:
            reads += slots_of(studied.holds[q.index])
        reads += [q.restart] if q.restart >= 0 else []
        blocks = [b for x in q.steps for b in x.blocks if b.target in studied.targets]
        for b in blocks:
            statements = studied.bodies.get(b.target, ())
            reads += [s for x in statements for s in reads_of(x) | writes_of(x)]
            reads += [program.targets[b.target].slot] if not statements else []
        joined.join([q.name, *hangs(reads)])
    asked = {slot for pair in studied.pairs for slot in pair}
    for lock in program.interlocks:
        if lock.final in asked:
            acting = [q.name for q in program.sequences for x in q.steps for b in x.blocks
                      if program.targets[b.target].slot == lock.asked]  # fmt: skip
            joined.join([*acting, *hangs(slots_of(lock.checked))])
    for s in (*studied.opening, *studied.closing):
        joined.join(hangs(reads_of(s) | writes_of(s)))
    for tree in studied.assumptions:
        joined.join(hangs(slots_of(tree)))
    for trip in program.trips:
        scope = [studied.sequences[i].name for i in trip.scope]
        raising = [q.name for q in program.sequences if any(x.trip == trip.index for x in q.steps)]
        reset = [program.reset] if program.reset >= 0 and trip.latching else []
        zeroed = [slot for slot, _ in trip.zeroed if slot in studied.wanted]
        others = [*raising, *hangs([*slots_of(studied.trips[trip.index]), *reset, *zeroed])]
        if through_inputs or others:  # one that follows inputs alone is the same for each of them
            joined.join([*scope, *others])
    _join_questions(studied, joined, together, before)
    found: dict[object, list[str]] = {}
    for q in program.sequences:
        found.setdefault(joined.root(q.name), []).append(q.name)
    return [tuple(names) for names in found.values()]


def _as_inputs(studied: Studied, fixed: set[int]) -> set[int]:
    """Slots that are free in each scan: inputs, what is not followed, and what opening logic makes of these alone and nobody else
    writes.
    """
    found = studied.inputs | studied.free
    written = Counter(slot for s in _statements(studied) for slot in writes_of(s))
    written.update(studied.program.targets[n].slot for n in studied.targets)
    written.update(slot for trip in studied.program.trips for slot, _ in trip.zeroed)
    made = {
        s.slot: set(reads_of(s))
        for s in studied.opening
        if isinstance(s, ck.Store) and s.slot not in studied.carried and written[s.slot] == 1
    }
    while True:
        more = {e for e, (_, operand) in studied.edges.items() if set(slots_of(operand)) <= found | fixed}
        more |= {slot for slot, read in made.items() if read <= found | fixed}
        if more <= found:
            return found
        found |= more


def _statements(studied: Studied) -> Iterator[ck.CheckedStatement]:
    yield from studied.opening
    yield from studied.closing
    for body in studied.bodies.values():
        yield from body


def _through_edges(studied: Studied, slots: Iterable[int]) -> set[int]:
    """With what RISING, FALLING and HELD look at."""
    found, todo = set(), list(slots)
    while todo:
        slot = todo.pop()
        if slot not in found:
            found.add(slot)
            todo += slots_of(studied.edges[slot][1]) if slot in studied.edges else []
    return found


def _join_questions(
    studied: Studied, joined: _Joined, together: Iterable[tuple[str, str]], before: Iterable[tuple[str, str]]
) -> None:
    """Sequences that one question asks about at once."""
    owners: dict[str, list[str]] = {}
    for q in studied.project.sequences:
        for step in q.steps:
            for a in step.actions:
                owners.setdefault(a.target.lower(), []).append(q.name)
    for pair in together:
        joined.join([name for out in pair for name in owners.get(out.lower(), ())])
    for steps in before:
        names = [s.partition(".")[0].lower() for s in steps]
        joined.join([q.name for q in studied.project.sequences if q.name.lower() in names])
