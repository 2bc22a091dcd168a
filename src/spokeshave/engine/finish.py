"""Phases 9 and 10: interlocks and forced outputs, and the machine's move (semantics 3 and 8)."""

from __future__ import annotations

from itertools import compress
from operator import ne

from spokeshave.engine.explain import blockers
from spokeshave.engine.phases import turn_device
from spokeshave.engine.program import LinkedInterlock, Program
from spokeshave.engine.situation import Situation, event
from spokeshave.language.functions import Where
from spokeshave.model.diagnostics import Place


def outputs(program: Program, s: Situation) -> None:
    """Phase 9: what was asked for goes out, less what interlocks and opposed pairs forbid; then forces."""
    v = s.v
    if s.hand is not None:
        for final, asked in program.asked.items():
            if final != asked:
                v[asked] = v[final] = s.hand.get(asked, False if isinstance(v[asked], bool) else type(v[asked])())
    for asked, final in program.outputs:
        v[final] = v[asked]
        s.changed.append(final)
    for i, lock in enumerate(program.interlocks):
        if v[lock.asked]:
            if lock.condition(v):
                if s.blocked:
                    s.blocked.discard(i)
            else:
                v[lock.final] = False
                if i not in s.blocked:
                    s.blocked.add(i)
                    event(s, "blocked", f"{lock.output} is asked for, blocked by {_false_terms(lock, v)}", lock.place)
        else:
            if not lock.pure:
                lock.condition(v)
            if s.blocked:
                s.blocked.discard(i)
    for i, pair in enumerate(program.pairs):
        _oppose(program, s, i, pair.asked, pair.final, pair.dead_scans)
    if s.forces:
        s.wished = {slot: v[slot] for slot in s.forces if program.asked[slot] != slot}
        for slot in s.wished:
            v[slot] = s.forces[slot]


def _false_terms(lock: LinkedInterlock, v: list[object]) -> str:
    return " and ".join(t.short for t in blockers(lock.checked, lock.text, v)) or lock.text


def _oppose(program: Program, s: Situation, i: int, asked: tuple[int, int], final: tuple[int, int], dead: int) -> None:
    """Both asked means both off; after one went off, the other stays off for the dead time."""
    v, k, last = s.v, s.k, s.pair_on[i]
    key = len(program.interlocks) + i
    a, b = v[asked[0]], v[asked[1]]
    if a and b:
        v[final[0]] = v[final[1]] = False
        if key not in s.blocked:
            names = program.pairs[i].names
            text = f"{names[0]} and {names[1]} are both asked for: both stay off"
            event(s, "blocked", text, Place("opposed", item=", ".join(names)))
        s.blocked.add(key)
    else:
        s.blocked.discard(key)
    for mine, other in ((0, 1), (1, 0)):
        # The other was on through scan `last`, so it went off with the scan after it.
        if v[final[mine]] and last[other] >= 0 and k < last[other] + 1 + dead:
            v[final[mine]] = False
    for mine in (0, 1):
        if v[final[mine]]:
            last[mine] = k


def overflows(program: Program, s: Situation) -> None:
    """Numeric overflows of this scan become events (semantics section 2)."""
    where: Where
    for where in s.v[0]:
        place = program.places[where[0]].spot(where[1], where[2])
        event(s, "numeric overflow", "a result did not fit and wrapped", place)
    s.v[0].clear()


def move(program: Program, s: Situation) -> None:
    """The end of phase 10: devices whose drives changed move under the final outputs from `t_k` on."""
    drives = program.drives(s.v)
    before = s.drives
    if drives == before:
        return
    s.drives = drives
    for i in dict.fromkeys(compress(program.driven, map(ne, drives, before))):
        turn_device(program, s, i)
    s.next_reading = min(s.dev_next)
