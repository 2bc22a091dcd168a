"""Phase 7: action control, then action bodies (semantics section 5).

What the blocks contribute changes only when a step comes or leaves, when a time is reached, when a sequence is held or
goes on, or when somebody changes a value by hand. So action control says at which scan it has to look again, and in
between only the bodies that are on run.
"""

from __future__ import annotations

from collections.abc import Iterable

from spokeshave.engine.program import Block, LinkedSequence, LinkedStep, Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.engine.waits import first_at
from spokeshave.machine.device import NEVER
from spokeshave.model.project import Qualifier


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
                    on.update([b.target for b in _varying(program, s, seq, step, reset)])
            for a in s.left[seq.index]:
                if steps[a].parting:
                    on.update([b.target for b in _parting(s, steps[a])])
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
        elif mode is Mode.HELD:
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
            on += _varying(program, s, seq, step, reset)
    for a in s.left[seq.index]:
        on += _parting(s, seq.steps[a])
    return on


def _parting(s: Situation, step: LinkedStep) -> tuple[Block, ...]:
    if step.parting:
        s.act_at = s.k + 1
    return step.parting


def _varying(program: Program, s: Situation, seq: LinkedSequence, step: LinkedStep, reset: set[int]) -> Iterable[Block]:
    i, v, k, period = seq.index, s.v, s.k, program.period_ms
    clock = k - s.lost[i]
    time = (clock - s.entered[i][step.index]) * period
    entered = step.index in s.came[i]
    on = []
    for b in step.varying:
        q = b.qualifier
        if q is Qualifier.R:
            reset.add(b.target)
        elif q is Qualifier.P or q is Qualifier.P1:
            if entered:
                on.append(b)
                s.act_at = k + 1
        elif q is Qualifier.L or q is Qualifier.D or q is Qualifier.DS:
            wait = first_at(time, b.time.ms(v), period)
            if wait and k + wait < s.act_at:
                s.act_at = k + wait
            if q is Qualifier.DS:
                if not wait and b.order not in s.spent:
                    s.spent.add(b.order)
                    s.stored.setdefault(b.order, clock)
            elif (wait > 0) is (q is Qualifier.L):
                on.append(b)
        elif entered:
            s.stored.setdefault(b.order, clock)
    return on


def _resets(s: Situation, seq: LinkedSequence) -> set[int]:
    """Targets of the R blocks of active steps: a held sequence that keeps its outputs keeps its resets."""
    return {b.target for a in s.active[seq.index] for b in seq.steps[a].varying if b.qualifier is Qualifier.R}


def _stored(program: Program, s: Situation, reset: set[int]) -> list[Block]:
    """Stored blocks that are on now. Their times count in scans of their sequence without those held."""
    if reset:
        for order in [o for o in s.stored if program.by_order[o].target in reset]:
            del s.stored[order]
    on = []
    for order, since in s.stored.items():
        b = program.by_order[order]
        q = b.qualifier
        if q is Qualifier.SD or q is Qualifier.SL:
            passed = (s.k - s.lost[b.sequence] - since) * program.period_ms
            wait = first_at(passed, b.time.ms(s.v), program.period_ms)
            if wait and s.mode[b.sequence] is Mode.RUN and s.k + wait < s.act_at:
                s.act_at = s.k + wait
            if (wait > 0) is (q is Qualifier.SD):
                continue
        on.append(b)
    return on
