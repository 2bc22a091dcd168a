"""Carrying a run over to an edited machine file, by name: values, active steps, stored actions, devices, the trace."""

from __future__ import annotations

from spokeshave.engine.program import Program
from spokeshave.engine.situation import PARTS, Of, Situation, set_state
from spokeshave.engine.trace import Trace
from spokeshave.language.function_blocks import BLOCKS


def carry_over(old: Program, was: Situation, new: Program, now: Situation) -> None:
    """Puts the situation `was` of `old` into the fresh situation `now` of `new`; what is new starts as it would at first."""
    same = _same(old, new)
    for of, pairs in same.items():
        for name in (name for name, part in PARTS.items() if part.by_name and part.of is of):
            before, after = getattr(was, name), getattr(now, name)
            for i, j in pairs:
                after[i] = before[j].copy() if PARTS[name].deep else before[j]
    _carry_values(old, was, new, now)
    _carry_sequences(old, was, new, now, dict(same[Of.SEQUENCE]))
    now.raised |= {i for i, j in same[Of.TRIP] if j in was.raised}
    _carry_devices(old, was, new, now)


def _same(old: Program, new: Program) -> dict[Of, list[tuple[int, int]]]:
    """What has the same name in both: the index in the new program and in the old one."""
    sequences = {q.name.lower(): q.index for q in old.sequences}
    trips = {t.name: t.index for t in old.trips}
    return {
        Of.SEQUENCE: [(q.index, sequences[q.name.lower()]) for q in new.sequences if q.name.lower() in sequences],
        Of.TRIP: [(t.index, trips[t.name]) for t in new.trips if t.name in trips],
    }


def _carry_values(old: Program, was: Situation, new: Program, now: Situation) -> None:
    for name, slot in new.slots.items():
        if name in old.slots and old.types[name] is new.types[name]:
            before = old.project.signal(name)
            after = new.project.signal(name)
            assert before is not None and after is not None
            if before.start == after.start or after.cls.value != "setting":
                now.v[slot] = was.v[old.slots[name]]
                now.v[new.asked[slot]] = was.v[old.asked[old.slots[name]]]
            if old.slots[name] in was.taken:
                now.taken.add(slot)
            if old.slots[name] in was.forces:
                now.forces[slot] = was.forces[old.slots[name]]
    for name, slot in new.machine.items():
        if name in old.machine and type(was.v[old.machine[name]]) is type(now.v[slot]):
            now.v[slot] = was.v[old.machine[name]]
    _carry_edges(old, was, new, now)
    now.by_hand = was.by_hand
    if was.hand is not None:
        names = {old.asked[slot]: name for name, slot in old.slots.items()}
        asked = {names[slot]: value for slot, value in was.hand.items()}
        now.hand = {new.asked[new.slots[n]]: value for n, value in asked.items() if n in new.slots}
    for name, (kind, base) in new.instances.items():
        if old.instances.get(name, ("", 0))[0] == kind:
            size = len(BLOCKS[kind].members()) + len(BLOCKS[kind].memory)
            start = old.instances[name][1]
            now.v[base : base + size] = was.v[start : start + size]
    if [p.names for p in old.pairs] == [p.names for p in new.pairs]:
        now.pair_on = [list(x) for x in was.pair_on]
    there = new.alarm_idents()
    now.alarms = {name: a for name, a in was.alarms.items() if name in there or a.cleared >= 0}
    now.shelved = was.shelved & there


def _carry_edges(old: Program, was: Situation, new: Program, now: Situation) -> None:
    """An edge that was not edited remembers; another starts from its present value, so that an edit makes no pulse."""
    known: dict[str, list[int]] = {}
    for j, e in enumerate(old.edges):
        known.setdefault(e.form, []).append(j)
    for i, e in enumerate(new.edges):
        same = known.get(e.form)
        if same:
            j = same.pop(0)
            now.edge_was[i], now.held_from[i] = was.edge_was[j], was.held_from[j]
            now.v[e.slot] = was.v[old.edges[j].slot]
        else:
            now.edge_was[i] = bool(e.operand(now.v))
            now.held_from[i] = now.k if now.edge_was[i] else -1


def _carry_sequences(old: Program, was: Situation, new: Program, now: Situation, same: dict[int, int]) -> None:
    for q in new.sequences:
        i = q.index
        if i not in same:
            now.lost[i] = 0 if now.cold else now.k - 1
            continue
        j = same[i]
        before = old.sequences[j]
        index = {s.name.lower(): s for s in q.steps}
        kept = [(before.steps[a], index[before.steps[a].name.lower()]) for a in was.active[j]
                if before.steps[a].name.lower() in index]  # fmt: skip
        for o in before.steps:
            n = index.get(o.name.lower())
            if n is not None:
                now.v[n.t], now.v[n.late] = was.v[o.t], was.v[o.late]
        if kept:
            for s in q.steps:
                now.v[s.x] = False
            now.active[i], now.entered[i], now.came[i] = [], {}, []
            for o, n in kept:
                now.active[i].append(n.index)
                now.entered[i][n.index] = was.entered[j][o.index]
                now.v[n.x] = True
                if o.index in was.came[j]:
                    now.came[i].append(n.index)
        there = {(b.step, b.position): b.order for b in new.blocks if b.sequence == i}
        for b in old.blocks:
            if b.sequence == j and b.order in was.stored and (b.step, b.position) in there:
                now.stored[there[b.step, b.position]] = was.stored[b.order]
        set_state(new, now, i)
    if [(b.sequence, b.step, b.position) for b in old.blocks] == [(b.sequence, b.step, b.position) for b in new.blocks]:
        now.spent, now.kept = set(was.spent), [list(x) for x in was.kept]
    if [i.output for i in old.interlocks] == [i.output for i in new.interlocks]:
        now.blocked = set(was.blocked)


def _carry_devices(old: Program, was: Situation, new: Program, now: Situation) -> None:
    index = {(d.name.lower(), d.device.kind): i for i, d in enumerate(old.devices)}
    drives: list[object] = []
    for i, d in enumerate(new.devices):
        j = index.get((d.name.lower(), d.device.kind))
        same = j is not None and old.devices[j].device.value == d.device.value
        # A device with other parameters begins anew from now; its failures and the operator's hand stay.
        now.dev_state[i] = was.dev_state[j] if j is not None and same else (now.k, *now.dev_state[i][1:])
        if j is not None:
            now.dev_hand[i], now.dev_failed[i] = was.dev_hand[j], was.dev_failed[j]
        now.dev_next[i] = now.dev_wake[i] = now.next_reading = now.k
        drives += [None] * len(d.drives)
    # No drive matches, so that every device is turned to its drives at the end of the next scan.
    now.drives = tuple(drives)


def carried_trace(old: Trace, program: Program) -> Trace:
    """The trace going on under the columns of another program; columns that are gone are dropped."""
    new = Trace(program)
    index = {r.name.lower(): i for i, r in enumerate(new.recorded)}
    to = [index.get(r.name.lower(), -1) for r in old.recorded]
    for k, column, value in zip(old.scans, old.columns, old.values):
        if to[column] >= 0:
            new.scans.append(k)
            new.columns.append(to[column])
            new.values.append(value)
            new._last[to[column]] = value
    new.events = list(old.events)
    new.scan_count = old.scan_count
    if len(old.motions) == len(new.motions):
        new.motions = old.motions
    return new
