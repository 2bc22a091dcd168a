"""Phase 7: action control, then action bodies (semantics section 5)."""

from __future__ import annotations

from spokeshave.engine.program import Block, LinkedSequence, Program
from spokeshave.engine.situation import Mode, Situation
from spokeshave.model.project import Qualifier


def act(program: Program, s: Situation) -> None:
    """Assigns every BOOL target its Q, then runs each body whose Q is TRUE, once, in order."""
    on: list[Block] = []
    reset: set[int] = set()
    silent: set[int] = set()
    for seq in program.sequences:
        mode = s.mode[seq.index]
        if mode is Mode.RUN:
            now = _contributions(program, s, seq, reset)
            s.kept[seq.index] = [b.order for b in now]
            on += now
        elif mode is Mode.HELD and not seq.drop:
            kept = set(s.kept[seq.index])
            on += [b for b in program.blocks if b.order in kept]
            silent.add(seq.index)
            reset |= _resets(s, seq)
        elif mode is Mode.HELD:
            silent.add(seq.index)
    if reset:
        for b in program.blocks:
            if b.target in reset:
                s.stored.pop(b.order, None)
    if s.stored:
        on += _stored(program, s)
    true = {b.target for b in on} - reset
    v, bodies = s.v, False
    for index, target in enumerate(program.targets):
        if target.run is None:
            v[target.slot] = index in true
        elif index in true:
            bodies = True
    if bodies:
        done: set[int] = set()
        for b in sorted(on, key=lambda b: b.order):
            run = program.targets[b.target].run
            if run is not None and b.target in true and b.target not in done and b.sequence not in silent:
                done.add(b.target)
                run(v)


def _contributions(program: Program, s: Situation, seq: LinkedSequence, reset: set[int]) -> list[Block]:
    """What the active and the just-left steps of a running sequence contribute; new stored blocks are noted."""
    on = []
    i, v, period = seq.index, s.v, program.period_ms
    clock, came = s.clock[i], s.came[i]
    for a in s.active[i]:
        blocks = seq.steps[a].blocks
        if not blocks:
            continue
        time = (clock - s.entered[i][a]) * period
        entered = a in came
        for b in blocks:
            q = b.qualifier
            if q is Qualifier.N:
                on.append(b)
            elif q is Qualifier.L:
                if time < b.time.ms(v):
                    on.append(b)
            elif q is Qualifier.D:
                if time >= b.time.ms(v):
                    on.append(b)
            elif q is Qualifier.P or q is Qualifier.P1:
                if entered:
                    on.append(b)
            elif q is Qualifier.R:
                reset.add(b.target)
            elif q is Qualifier.DS:
                if b.order not in s.spent and time >= b.time.ms(v):
                    s.spent.add(b.order)
                    s.stored.setdefault(b.order, clock)
            elif q is not Qualifier.P0 and entered:
                s.stored.setdefault(b.order, clock)
    for a in s.left[i]:
        on += [b for b in seq.steps[a].blocks if b.qualifier is Qualifier.P0]
    return on


def _resets(s: Situation, seq: LinkedSequence) -> set[int]:
    """Targets of the R blocks of active steps: a held sequence that keeps its outputs keeps its resets."""
    return {b.target for a in s.active[seq.index] for b in seq.steps[a].blocks if b.qualifier is Qualifier.R}


def _stored(program: Program, s: Situation) -> list[Block]:
    """Stored blocks that are on now. Their times count in scans of their sequence without those held."""
    on = []
    for b in program.blocks:
        since = s.stored.get(b.order)
        if since is None:
            continue
        passed = (s.clock[b.sequence] - since) * program.period_ms
        q = b.qualifier
        if (q is Qualifier.SD and passed < b.time.ms(s.v)) or (q is Qualifier.SL and passed >= b.time.ms(s.v)):
            continue
        on.append(b)
    return on
