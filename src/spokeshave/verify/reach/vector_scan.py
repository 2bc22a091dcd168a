"""One scan of many situations at once: the phases of `engine.scan` on columns, with inputs and times as they are chosen.

A situation has, beside its carried variables, a *code* for each step: 0 while it is not active, else one more than the
number of its time thresholds that have passed. RISING, FALLING and HELD are chosen too, as far as what they look at lets.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spokeshave.engine.program import Block, LinkedSequence, LinkedStep
from spokeshave.engine.waits import first_at
from spokeshave.language import checked as ck
from spokeshave.model.qualifiers import By, When
from spokeshave.verify.reach.packing import Key, Layout
from spokeshave.verify.reach.studied import COUNTS, LOWEST, Studied
from spokeshave.verify.reach.vectorized import Env, evaluate, run

Bools = NDArray[np.bool_]
Columns = dict[Key, NDArray[np.int32]]
Choice = Key
"""What is chosen in a scan: ("value", slot, 0), ("edge", slot, 0), ("passes", sequence, step), ("stored", order, 0), and
("last", sequence, step): the time that a step which is not active has kept."""


def layout_of(studied: Studied) -> Layout:
    """The cells of a situation."""
    program, layout = studied.program, Layout()
    for q in program.sequences:
        for x in q.steps:
            layout.add(("code", q.index, x.index), len(studied.thresholds[q.index, x.index]) + 2)
            if studied.keeps_late(x):
                layout.add(("late", q.index, x.index), 2)
        if any(x.response == "hold" for x in q.steps):
            layout.add(("hold", q.index, 0), 2)
    for b in stored_blocks(studied):
        layout.add(("stored", b.order, 0), 3 if b.rule.since_stored is not None else 2)
        if b.rule.once:
            layout.add(("spent", b.order, 0), 2)
    for b in kept_blocks(studied):
        if b.rule.pulse:
            layout.add(("kept", b.order, 0), 2)
    for i in sorted({b.sequence for b in kept_blocks(studied) if not b.rule.pulse}):
        layout.add(("keeps", i, 0), 2)
    for slot in studied.carried:
        is_bool = isinstance(studied.start[slot], bool)
        layout.add(("var", slot, 0), 2 if is_bool else COUNTS, 0 if is_bool else LOWEST)
    for t in program.trips:
        layout.add(("trip", t.index, 0), 2)
        if any(x.trip == t.index for q in program.sequences for x in q.steps):
            layout.add(("raised", t.index, 0), 2)
        for i in t.scope:
            layout.add(("effected", t.index, i), 2)
    return layout


def stored_blocks(studied: Studied) -> list[Block]:
    """The blocks that store, of targets that matter to the study."""
    return [b for b in studied.program.blocks if b.target in studied.targets and b.rule.stored]


def kept_blocks(studied: Studied) -> list[Block]:
    """The blocks whose outputs a held sequence keeps. Of a pulse it is carried whether it was on in the last scan that the
    sequence ran; the others are as they were, since steps and times stand still, unless what is kept was given up.
    """
    keeping = {q.index for q in studied.program.sequences if q.can_hold and not q.drop}
    bodies = {n for n in studied.targets if studied.program.targets[n].run is not None}  # they rest in a hold
    return [
        b
        for b in studied.program.blocks
        if b.target in set(studied.targets) - bodies and b.sequence in keeping and not (b.rule.stored or b.rule.resets)
    ]


@dataclass
class Told:
    """What happened in a scan, by row: transitions that cleared, steps entered while active, outputs of pairs as asked for
    and as they went out, numbers that went beyond what is followed.
    """

    cleared: dict[tuple[int, int], Bools] = field(default_factory=dict)
    unsafe: dict[tuple[int, int], Bools] = field(default_factory=dict)
    asked: dict[int, Bools] = field(default_factory=dict)
    out: dict[int, Bools] = field(default_factory=dict)
    beyond: Bools | None = None
    beyond_names: list[str] = field(default_factory=list)


class Scan:
    """One scan. `columns` are changed into those after it."""

    def __init__(
        self, studied: Studied, columns: Columns, rows: int, chosen: dict[Choice, Any], cold: bool = False
    ) -> None:
        self.studied, self.program, self.c, self.n, self.cold = studied, studied.program, columns, rows, cold
        self.chosen, self.told = chosen, Told()
        self.env: Env = dict(enumerate(studied.start))
        none = np.zeros(rows, np.bool_)
        steps = [(q.index, x.index) for q in self.program.sequences for x in q.steps]
        self.came = dict.fromkeys(steps, none)
        self.left = dict.fromkeys(steps, none)
        self.mode_run: dict[int, Bools] = {}
        self.mode_held: dict[int, Bools] = {}
        self.jumped = {q.index: none for q in self.program.sequences}
        self.first = {key: 1 + sum(t <= 0 for t in th) for key, th in studied.thresholds.items()}
        if cold:
            for q in self.program.sequences:
                self.came[q.index, q.initial] = ~none

    def _true(self, tree: ck.Checked) -> Bools:
        """Where a condition holds."""
        return np.broadcast_to(np.asarray(evaluate(tree, self.env), np.bool_), (self.n,))

    def _at(self, slot: int) -> Bools:
        return np.broadcast_to(np.asarray(self.env[slot], np.bool_), (self.n,))

    def run(self) -> Told:
        self._opening()
        self._decide()
        for q in self.program.sequences:
            self._evolve(q)
            self._late(q)
        self._act()
        run(self.studied.closing, self.env, np.ones(self.n, np.bool_))
        self._outputs()
        self._keep()
        return self.told

    def standing_still(self) -> dict[int, Bools]:
        """Where each sequence is held or stands under a trip, after phases 1 to 5."""
        self._opening()
        self._decide()
        return {i: ~runs for i, runs in self.mode_run.items()}

    def _active(self, i: int, a: int) -> Bools:
        return self.c["code", i, a] > 0

    # -- phases 1 to 4

    def _opening(self) -> None:
        env, studied = self.env, self.studied
        for slot in studied.carried:
            column = self.c["var", slot, 0]
            env[slot] = column.astype(bool) if isinstance(studied.start[slot], bool) else column
        for (what, slot, _), value in self.chosen.items():
            if what in ("value", "edge"):
                env[slot] = value
        self.before = {key: column for key, column in self.c.items() if key[0] == "code"}
        for (what, i, a), value in self.chosen.items():
            if what == "passes":
                most = len(studied.thresholds[i, a]) + 1
                code = self.c["code", i, a]
                self.c["code", i, a] = np.where((code > 0) & (code < most) & np.asarray(value, bool), code + 1, code)
        for q in self.program.sequences:
            self._show(q)
            for x in q.steps:
                if ("late", q.index, x.index) in self.c:
                    env[x.late] = self.c["late", q.index, x.index].astype(bool)
        run(studied.opening, env, np.ones(self.n, np.bool_))

    def _show(self, q: LinkedSequence) -> None:
        """Step flags, times and the state of a sequence into `env`."""
        wanted = self.studied.wanted
        for x in q.steps:
            code = self.c["code", q.index, x.index]
            self.env[x.x] = code > 0
            if x.t in wanted:
                times = self.studied.times(q.index, x.index)
                last = self.chosen.get(("last", q.index, x.index), 0)
                self.env[x.t] = np.where(code > 0, np.array((0, 0, *times[2:]) if self.cold else times)[code], last)
        if q.state in wanted:
            state = np.full(self.n, 1 << 40)
            for x in q.steps:
                state = np.where(self.env[x.x] & (x.number < state), x.number, state)
            self.env[q.state] = np.where(state == 1 << 40, -1, state)

    # -- phase 5

    def _decide(self) -> None:
        program, c = self.program, self.c
        none = np.zeros(self.n, np.bool_)
        reset = self._at(program.reset) if program.reset >= 0 else none
        on: dict[int, Bools] = {}
        for t in program.trips:
            was = c["trip", t.index, 0].astype(bool)
            condition = self._true(self.studied.trips[t.index])
            raised = c["raised", t.index, 0].astype(bool) if ("raised", t.index, 0) in c else none
            comes = ~was & (condition | raised)
            goes = was & ~condition & (reset if t.latching else ~none)
            on[t.index] = (was | comes) & ~goes
            for i in t.scope:  # of a trip that does not stand nobody asks: the situations are the same
                c["effected", t.index, i] = np.where(comes | ~on[t.index], 0, c["effected", t.index, i])
            c["trip", t.index, 0] = on[t.index].astype(np.int32)
            if ("raised", t.index, 0) in c:
                c["raised", t.index, 0] = np.zeros(self.n, np.int32)
        for q in program.sequences:
            self._decide_for(q, on, reset)

    def _decide_for(self, q: LinkedSequence, on: dict[int, Bools], reset: Bools) -> None:
        i, c = q.index, self.c
        free, tripped = np.ones(self.n, np.bool_), np.zeros(self.n, np.bool_)
        if ("hold", i, 0) in c:
            c["hold", i, 0] = np.where(reset, 0, c["hold", i, 0])
        for t in sorted(self.program.trips, key=lambda t: (t.rank, t.index)):
            if i not in t.scope:
                continue
            decides = on[t.index] & free
            free = free & ~on[t.index]
            fresh = decides & (c["effected", t.index, i] == 0)
            c["effected", t.index, i] = np.where(fresh, 1, c["effected", t.index, i])
            goes = t.steps == "go to" and i in t.go_to
            if fresh.any():
                self._take_effect(q, t, fresh, goes)
            if not goes:
                tripped = tripped | decides
        hold = self._true(self.studied.holds[i]) if i in self.studied.holds else np.zeros(self.n, np.bool_)
        if ("hold", i, 0) in c:
            hold = hold | (c["hold", i, 0] > 0)
        self.mode_held[i] = held = hold & ~tripped
        self.mode_run[i] = ~held & ~tripped
        self._give_up(i, tripped)
        for x in q.steps:  # times stand still: what was chosen to pass has not, unless the step was entered just now
            keep = ~self.mode_run[i] & ~self.came[i, x.index] & self._active(i, x.index)
            c["code", i, x.index] = np.where(keep & (self.before["code", i, x.index] > 0), self.before["code", i, x.index],
                                             c["code", i, x.index])  # fmt: skip
        if q.restart >= 0:
            restarts = self._at(q.restart) & ~tripped
            if restarts.any():
                self._clear_stored(i, restarts)
                self._go_to(q, q.initial, restarts)
                self.jumped[i] = self.jumped[i] | restarts
        self._show(q)

    def _take_effect(self, q: LinkedSequence, t: Any, fresh: Bools, goes: bool) -> None:
        i = q.index
        if t.clear_stored:
            self._clear_stored(i, fresh)
        if t.steps == "restart":
            self._go_to(q, q.initial, fresh)
        elif goes:
            self._go_to(q, t.go_to[i], fresh)
            self.jumped[i] = self.jumped[i] | fresh
        if t.zero_times and not goes:
            for x in q.steps:
                key = ("code", i, x.index)
                self.c[key] = np.where(fresh & (self.c[key] > 0), self.first[i, x.index], self.c[key])
                self.before[key] = np.where(fresh & (self.before[key] > 0), self.first[i, x.index], self.before[key])
        for slot, zero in t.zeroed:
            if slot in self.env:
                self.env[slot] = np.where(fresh, zero, self.env[slot])

    def _clear_stored(self, i: int, where: Bools) -> None:
        for b in stored_blocks(self.studied):
            if b.sequence == i:
                self.c["stored", b.order, 0] = np.where(where, 0, self.c["stored", b.order, 0])

    def _give_up(self, i: int, where: Bools) -> None:
        """What a hold would keep."""
        for key in [k for k in self.c if k[0] == "kept" and self.program.by_order[k[1]].sequence == i]:
            self.c[key] = np.where(where, 0, self.c[key])
        if ("keeps", i, 0) in self.c:
            self.c["keeps", i, 0] = np.where(where, 0, self.c["keeps", i, 0])

    def _go_to(self, q: LinkedSequence, step: int, where: Bools) -> None:
        self._give_up(q.index, where)
        for x in q.steps:
            self._leave(q, x.index, where & self._active(q.index, x.index))
        self._enter(q, step, where)

    def _leave(self, q: LinkedSequence, a: int, where: Bools) -> None:
        key = (q.index, a)
        self.c["code", *key] = np.where(where, 0, self.c["code", *key])
        self.left[key] = self.left[key] | where
        if ("late", *key) in self.c:
            self.c["late", *key] = np.where(where, 0, self.c["late", *key])
        self._unspend(q, a, where)

    def _unspend(self, q: LinkedSequence, a: int, where: Bools) -> None:
        """What a step has stored once counts as long as it is active."""
        for b in q.steps[a].blocks:
            if ("spent", b.order, 0) in self.c:
                self.c["spent", b.order, 0] = np.where(where, 0, self.c["spent", b.order, 0])

    def _enter(self, q: LinkedSequence, a: int, where: Bools) -> None:
        key = (q.index, a)
        self.c["code", *key] = np.where(where, self.first[key], self.c["code", *key])
        self.came[key] = self.came[key] | where
        self._unspend(q, a, where)

    # -- phase 6

    def _evolve(self, q: LinkedSequence) -> None:
        i = q.index
        may = self.mode_run[i] & ~self.jumped[i]
        if self.cold or not may.any():
            return
        given = {x.index: np.zeros(self.n, np.bool_) for x in q.steps}
        chosen: list[tuple[Any, Bools]] = []
        for w in self.studied.ways[i]:
            here = may
            for a in w.sources:
                here = here & self._active(i, a) & ~given[a]
            if not here.any():
                continue
            for tree in self.studied.conditions(w):
                here = here & self._true(tree)
            for a in w.sources:
                given[a] = given[a] | here
            if here.any():
                chosen.append((w, here))
                self.told.cleared[i, w.index] = here
        for w, here in chosen:
            for a in w.sources:
                self._leave(q, a, here)
        for w, here in chosen:
            for a in w.targets:
                twice = here & self._active(i, a)
                if twice.any():
                    self.told.unsafe[i, a] = self.told.unsafe.get((i, a), np.zeros(self.n, np.bool_)) | twice
                self._enter(q, a, here)
        if chosen:
            self._show(q)

    def _late(self, q: LinkedSequence) -> None:
        i = q.index
        for x in q.steps:
            if ("late", i, x.index) not in self.c:
                continue
            at, thresholds = self.studied.late_at(x), self.studied.thresholds[i, x.index]
            code = 1 + sum(t < at for t in thresholds) + (1 if at > 0 else 0)
            late = self.mode_run[i] & (self.c["code", i, x.index] >= code)
            fresh = late & (self.c["late", i, x.index] == 0)
            self.c["late", i, x.index] = np.where(fresh, 1, self.c["late", i, x.index])
            if x.trip >= 0:
                self.c["raised", x.trip, 0] = np.where(fresh, 1, self.c["raised", x.trip, 0])
            elif x.response == "hold":
                self.c["hold", i, 0] = np.where(fresh, 1, self.c["hold", i, 0])

    # -- phases 7 to 10

    def _act(self) -> None:
        studied, program = self.studied, self.program
        none = np.zeros(self.n, np.bool_)
        on: dict[int, Bools] = dict.fromkeys(studied.targets, none)
        loud: dict[int, Bools] = dict.fromkeys(studied.targets, none)
        reset: dict[int, Bools] = dict.fromkeys(studied.targets, none)
        for q in program.sequences:
            if ("keeps", q.index, 0) in self.c:
                self.c["keeps", q.index, 0] = np.where(self.mode_run[q.index], 1, self.c["keeps", q.index, 0])
            for x in q.steps:
                for b in x.blocks:
                    if b.target in on:
                        self._contribute(q, x, b, on, loud, reset)
        for b in stored_blocks(studied):
            state = np.where(reset[b.target], 0, self.c["stored", b.order, 0])
            passes = self.chosen.get(("stored", b.order, 0))
            if passes is not None:
                state = np.where((state == 1) & self.mode_run[b.sequence] & np.asarray(passes, bool), 2, state)
            self.c["stored", b.order, 0] = state
            since = b.rule.since_stored
            shown = state > 0 if since is None else state == (2 if since is By.SINCE else 1)
            on[b.target] = on[b.target] | shown
            loud[b.target] = loud[b.target] | (shown & ~self.mode_held[b.sequence])
        order = {n: min(b.order for b in program.blocks if b.target == n) for n in studied.targets}
        for n in sorted(studied.targets, key=order.__getitem__):
            true = on[n] & ~reset[n]
            if n in studied.bodies:
                run(studied.bodies[n], self.env, true & loud[n])
            else:
                self.env[program.targets[n].slot] = true

    def _contribute(self, q: LinkedSequence, x: LinkedStep, b: Block, on: Any, loud: Any, reset: Any) -> None:
        """One action block, by its rule (semantics section 5)."""
        i, key, rule = q.index, (q.index, x.index), b.rule
        runs, active = self.mode_run[i], self._active(*key)
        now = {When.ENTERED: self.came[key] & active, When.ACTIVE: active, When.LEFT: self.left[key]}[rule.when]
        if rule.in_step is not None:
            at = first_at(0, b.time.ms(list(self.studied.start)), self.program.period_ms)
            code = 1 + sum(t < at for t in self.studied.thresholds[key]) + (1 if at > 0 else 0)
            reached = self.c["code", *key] >= code
            now = now & (reached if rule.in_step is By.SINCE else ~reached)
        keeps = self.mode_held[i] & (not q.drop)
        if rule.resets:
            reset[b.target] = reset[b.target] | (now & (runs | keeps))
            return
        if rule.stored:
            fresh, stored = now & runs, self.c["stored", b.order, 0]
            if rule.once:
                fresh = fresh & (self.c["spent", b.order, 0] == 0)
                self.c["spent", b.order, 0] = np.where(fresh, 1, self.c["spent", b.order, 0])
            self.c["stored", b.order, 0] = np.where(fresh & (stored == 0), 1, stored)
            return
        if ("kept", b.order, 0) in self.c:
            self.c["kept", b.order, 0] = kept = np.where(runs, now, self.c["kept", b.order, 0])
            on[b.target] = on[b.target] | (kept.astype(bool) & keeps)
        elif ("keeps", i, 0) in self.c and not rule.pulse:
            on[b.target] = on[b.target] | (now & keeps & (self.c["keeps", i, 0] > 0))
        now = now & runs
        on[b.target] = on[b.target] | now
        loud[b.target] = loud[b.target] | now

    def _outputs(self) -> None:
        """Phase 9, for the outputs that are asked about."""
        program, env, told = self.program, self.env, self.told
        for final in {slot for pair in self.studied.pairs for slot in pair}:
            asked = np.broadcast_to(np.asarray(env[program.asked[final]], bool), (self.n,))
            told.asked[final] = told.out[final] = asked
            for lock in program.interlocks:
                if lock.final == final:
                    told.out[final] = told.out[final] & self._true(lock.checked)
        for pair in program.pairs:
            a, b = pair.final
            if a in told.out and b in told.out:
                both = told.asked[a] & told.asked[b]
                told.out[a], told.out[b] = told.out[a] & ~both, told.out[b] & ~both
                # One goes off before the other comes on: in the scan between them neither is on.
                told.out[b] = told.out[b] & ~told.out[a]

    def _keep(self) -> None:
        """Carried variables back into the situation; rows with numbers beyond what is followed are noted."""
        for slot in self.studied.carried:
            value = np.broadcast_to(np.asarray(self.env[slot]), (self.n,))
            if not isinstance(self.studied.start[slot], bool):
                outside = (value < LOWEST) | (value >= LOWEST + COUNTS)
                if outside.any():
                    self.told.beyond = outside if self.told.beyond is None else self.told.beyond | outside
                    self.told.beyond_names.append(self.studied.of_slot[slot].name)
                    value = np.clip(value, LOWEST, LOWEST + COUNTS - 1)
            self.c["var", slot, 0] = value.astype(np.int32)
