"""One scan: the ten phases of semantics section 3 in their order.

sample -> force -> opening -> edges -> trips, holds -> evolve -> act -> closing -> outputs -> record, move
"""

from __future__ import annotations

from collections.abc import Sequence

from spokeshave.engine.act import act
from spokeshave.engine.evolve import evolve
from spokeshave.engine.finish import move, outputs, overflows
from spokeshave.engine.phases import decide, edges, force_inputs, opening, run_own, sample
from spokeshave.engine.program import Program
from spokeshave.engine.situation import Situation
from spokeshave.engine.stimuli import Stimulus
from spokeshave.engine.trace import Trace


def scan(program: Program, s: Situation, due: Sequence[Stimulus], trace: Trace) -> None:
    """Runs scan `s.k` with the stimuli that are due, and leaves the situation before the next one.

    Raises `RunStop` with the place of a numeric fault; the trace then ends with the scan before.
    """
    sample(program, s, due)
    if s.forces:
        force_inputs(program, s)
    opening(program, s)
    if program.edges:
        edges(program, s)
    decide(program, s)
    evolve(program, s)
    act(program, s)
    if program.closing is not None:
        program.closing(s.v)
    outputs(program, s)
    if s.v[0]:
        overflows(program, s)
    move(program, s)
    if program.own:
        run_own(program, s)
    # Values that somebody sets or forces are among those to look for, and those of a first scan.
    trace.record(s, program.transparent and not (due or s.forces or s.by_hand or s.cold))
    s.cold = False
    s.k += 1
