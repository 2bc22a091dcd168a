"""Numbers that devices show, put into the trace in one go for a stretch of scans.

The levels and temperatures of a device of which only `thresholds` are looked at (see `LinkedDevice`) change in many
scans and turn a comparison in few. While such a stretch lasts, the device is read in the scans that its thresholds ask
for and no others; what it showed in between follows from its closed form, and goes into the trace when it turns, and
when the stretch ends.
"""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from spokeshave.engine.program import FIRST_RECORDED, LinkedDevice, Program
from spokeshave.engine.situation import Situation, set_times
from spokeshave.engine.trace import Trace
from spokeshave.machine.device import Motion

if TYPE_CHECKING:
    from spokeshave.engine.trace import Numbers


def begin_stretch(program: Program, s: Situation, trace: Trace) -> None:
    """From scan `s.k` on, devices with thresholds are only read where a threshold asks for it."""
    columns = []
    for i, d in enumerate(program.devices):
        if d.thresholds is not None:
            s.told_from[i] = s.k
            s.dev_next[i], s.dev_ahead[i] = s.dev_wake[i], ()
            columns.append(d.number - FIRST_RECORDED)
    s.next_reading = min(s.dev_next, default=s.next_reading)
    trace.tell_later(columns)


def end_stretch(program: Program, s: Situation, trace: Trace, stopped: bool) -> None:
    """Before scan `s.k`, puts down what devices have shown since the stretch began; all values are as in every scan.

    A scan that was `stopped` on its way has set the step times already.
    """
    trace.scan_count = s.k
    if not stopped:
        for seq in program.sequences:
            set_times(program, s, seq.index, s.k - 1)
    if not trace.told_later:
        return
    for i, d in enumerate(program.devices):
        if s.told_from[i] < 0:
            continue
        tell(s, d, i, s.k)
        s.told_from[i] = -1
        s.dev_ahead[i] = plan = d.device.ahead(s.dev_state[i], s.k - 1)
        s.dev_next[i] = plan[0][0]
        if s.dev_wake[i] == s.k and d.device.jumps:  # turned in the last scan: what that changed is still to be read
            s.dev_next[i], s.dev_ahead[i] = s.k, ()
        if d.number not in s.taken and d.number not in s.forces:
            s.v[d.number] = d.device.number(s.dev_state[i], s.k - 1)
    s.next_reading = min(s.dev_next, default=s.next_reading)
    rows = []
    for i, motions in s.untold.items() if trace.keeps_changes and trace.keeps_numbers else ():
        d = program.devices[i]
        rows.append((d.number - FIRST_RECORDED, *_readings(d, motions)))
    s.untold = {}
    trace.take_in(rows, s.v)


FEW, FEWER = 20_000, 150
"""Scans of which each is looked at sooner than NumPy is loaded, and than it answers."""


def _readings(d: LinkedDevice, motions: list[Motion]) -> tuple[Numbers, Numbers]:
    """What a device showed: in one go, or scan by scan if these are few and NumPy is not there yet."""
    if sum(high - low for _, low, high in motions) > (FEWER if "numpy" in sys.modules else FEW):
        return d.device.readings(motions)
    scans: list[int] = []
    numbers: list[float] = []
    was = d.device.number(motions[0][0], motions[0][1] - 1)
    for state, low, high in motions:
        for k in range(low, high):
            if (now := d.device.number(state, k)) != was:
                was = now
                scans.append(k)
                numbers.append(now)
    return scans, numbers


def tell(s: Situation, d: LinkedDevice, i: int, end: int) -> None:
    """The device has been in its present state from scan `told_from` to before `end`."""
    low, state = s.told_from[i], s.dev_state[i]
    if low < end:
        s.told_from[i] = end
        if d.number not in s.taken and d.number not in s.forces:
            s.untold.setdefault(i, []).append((state, low, end))
