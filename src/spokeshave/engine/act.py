"""Phase 7: action control, then action bodies (semantics section 5).

What the blocks contribute changes only when a step comes or leaves, when a time is reached, when a sequence is held or
goes on, or when somebody changes a value by hand. So action control says at which scan it has to look again, and in
between only the bodies that are on run.
"""

from __future__ import annotations

from collections.abc import Iterable

from spokeshave.engine.program import Block, LinkedSequence, Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.engine.waits import first_at
from spokeshave.machine.device import NEVER
from spokeshave.model.qualifiers import By, When


def act(program: Program, s: Situation) -> None:
    """Assigns every BOOL target its Q, then runs each body whose Q is TRUE, once, in order."""
    if s.touched or s.k >= s.act_at or s.forces:
        _control(program, s)
    for run in s.bodies:
        run(s.v)


def _control(program: Program, s: Situation) -> None:
    s.touched, s.act_at = False, NEVER
    if program.guarded or program.has_bodies:
        true = _with_bodies_and_holds(program, s)
    else:
        on: set[int] = set()
        reset: set[int] = set()
        for seq in program.sequences:
            steps = seq.steps
            for a in s.active[seq.index]:
                step = steps[a]
                if step.constant:
                    on.update(step.always)
                if step.varying:
                    on.update([b.target for b in _acting(program, s, seq, a, step.varying, reset)])
            for a in s.left[seq.index]:
                if steps[a].parting:
                    on.update([b.target for b in _acting(program, s, seq, a, steps[a].parting, reset)])
        if s.stored:
            on.update([b.target for b in _stored(program, s, reset)])
        true = frozenset(on - reset) if reset else frozenset(on)
    if true != s.written:
        _assign(program, s, true)


def _with_bodies_and_holds(program: Program, s: Situation) -> frozenset[int]:
    """The targets that are on; notes which bodies are, and what each sequence keeps if it is held."""
    on: list[Block] = []
    reset: set[int] = set()
    silent: set[int] = set()
    for seq in program.sequences:
        i = seq.index
        mode = s.mode[i]
        if mode is Mode.RUN:
            now = _contributions(program, s, seq, reset)
            s.kept[i] = [b.order for b in now]
            on += now
        elif mode is Mode.TRIPPED:
            s.kept[i] = []
        else:
            silent.add(i)
            if not seq.drop:
                on += [program.by_order[order] for order in s.kept[i]]
                reset |= _resets(s, seq)
    if s.stored:
        on += _stored(program, s, reset)
    true = frozenset([b.target for b in on]) - reset
    s.bodies = []
    for target in dict.fromkeys(b.target for b in sorted(on, key=_order) if b.sequence not in silent):
        run = program.targets[target].run
        if run is not None and target in true:
            s.bodies.append(run)
    return true


def _order(b: Block) -> int:
    return b.order


def _assign(program: Program, s: Situation, true: frozenset[int]) -> None:
    v, changed = s.v, range(len(program.targets)) if s.written is None else true ^ s.written
    s.written = true
    if changed:
        s.moved = True
    for index in changed:
        target = program.targets[index]
        if target.run is None:
            v[target.slot] = q = index in true
            s.changed.append(target.slot)
            if target.final >= 0:
                v[target.final] = q
                s.changed.append(target.final)


def _contributions(program: Program, s: Situation, seq: LinkedSequence, reset: set[int]) -> list[Block]:
    """What the active and the just-left steps of a running sequence contribute; new stored blocks are noted."""
    on: list[Block] = []
    for a in s.active[seq.index]:
        step = seq.steps[a]
        on += step.constant
        if step.varying:
            on += _acting(program, s, seq, a, step.varying, reset)
    for a in s.left[seq.index]:
        on += _acting(program, s, seq, a, seq.steps[a].parting, reset)
    return on


def _acting(
    program: Program, s: Situation, seq: LinkedSequence, a: int, blocks: Iterable[Block], reset: set[int]
) -> list[Block]:
    """Which of some blocks of step `a` contribute, by their rules. What they store and reset is noted, and when they have
    to be looked at again.
    """
    i, v, k, period = seq.index, s.v, s.k, program.period_ms
    clock = k - s.lost[i]
    entered = a in s.came[i]
    on = []
    for b in blocks:
        rule = b.rule
        if rule.when is When.ENTERED and not entered:
            continue
        if rule.in_step is not None:
            wait = first_at((clock - s.entered[i][a]) * period, b.time.ms(v), period)
            if wait and k + wait < s.act_at:
                s.act_at = k + wait
            if (wait > 0) is (rule.in_step is By.SINCE):
                continue
        if rule.resets:
            reset.add(b.target)
        elif not rule.stored:
            on.append(b)
            if rule.when is not When.ACTIVE:
                s.act_at = k + 1
        elif not rule.once:
            s.stored.setdefault(b.order, clock)
        elif b.order not in s.spent:
            s.spent.add(b.order)
            s.stored.setdefault(b.order, clock)
    return on


def _resets(s: Situation, seq: LinkedSequence) -> set[int]:
    """Targets that active steps reset: a held sequence that keeps its outputs keeps its resets."""
    return {b.target for a in s.active[seq.index] for b in seq.steps[a].varying if b.rule.resets}


def _stored(program: Program, s: Situation, reset: set[int]) -> list[Block]:
    """Stored blocks that are on now. Their times count in scans of their sequence without those held."""
    if reset:
        for order in [o for o in s.stored if program.by_order[o].target in reset]:
            del s.stored[order]
    on = []
    for order, since in s.stored.items():
        b = program.by_order[order]
        if b.rule.since_stored is not None:
            passed = (s.k - s.lost[b.sequence] - since) * program.period_ms
            wait = first_at(passed, b.time.ms(s.v), program.period_ms)
            if wait and s.mode[b.sequence] is Mode.RUN and s.k + wait < s.act_at:
                s.act_at = s.k + wait
            if (wait > 0) is (b.rule.since_stored is By.SINCE):
                continue
        on.append(b)
    return on
