"""Phases 1 to 5 of a scan (semantics section 3): sample, force, opening logic, edges, trips and holds.

Each phase is a function of the program and the situation, which it changes. Phase 6 is in `evolve`, 7 in `act`,
8 to 10 in `finish`.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from spokeshave.engine import EngineError
from spokeshave.engine.alarms import acknowledge, raise_alarm, see_alarms, shelve, tell_hold
from spokeshave.engine.crossings import next_wake
from spokeshave.engine.program import INNER, LinkedDevice, LinkedTrip, Program
from spokeshave.engine.sensor_trace import tell
from spokeshave.engine.situation import (
    Mode,
    Situation,
    clear_alarm,
    clear_stored,
    event,
    go_to,
    power_cycle,
    set_times,
)
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.function_blocks import BLOCKS, TIME
from spokeshave.language.functions import TURNS
from spokeshave.model.diagnostics import Place


class StimulusError(EngineError, ValueError):
    """A stimulus that names nothing there is."""


def sample(program: Program, s: Situation, due: Sequence[Stimulus]) -> None:
    """Phase 1: hands and failures reach the devices, devices give the input image, then values are set."""
    for st in due:
        if st.do == "power":
            power_cycle(program, s)
        elif st.do in ("hand", "fail", "heal"):
            _touch(program, s, st)
    if s.next_reading <= s.k:
        read_devices(program, s)
    if program.own:
        read_own(program, s)
    for st in due:
        _set(program, s, st)


def _set_block(program: Program, s: Situation, st: Stimulus) -> None:
    """A count, or the time that a timer has run for, set by hand: it goes on from there."""
    name, _, member = st.target.lower().partition(".")
    kind, base = program.instances.get(name, ("", 0))
    names = [n.lower() for n, _ in BLOCKS[kind].members()] if kind else []
    if member not in names or member not in ("et", "cv"):
        raise StimulusError(f"{st.target} is no count and no time of a block")
    s.v[base + names.index(member)] = st.value
    if member == "et":  # timers remember when they began
        s.v[base + len(names)] = s.k * program.period_ms - int(st.value or 0)


def elapsed_ms(program: Program, s: Situation, base: int) -> int:
    """What a TON or TP shows as ET at the end of scan `s.k - 1`, also where nothing had to be run since."""
    on, needed, _, shown = s.v[base : base + 4]
    runs = on and shown < needed
    return int(min((s.k - 1) * program.period_ms - s.v[base + 4], needed) if runs else shown)


def _finite(st: Stimulus) -> None:
    """A NaN or infinity never enters a variable (semantics section 2)."""
    if isinstance(st.value, float) and not math.isfinite(st.value):
        raise StimulusError(f"{st.value} is no value for {st.target}; a REAL is a finite number")


def check_value(program: Program, st: Stimulus) -> None:
    """Raises `StimulusError` for a value that cannot be set or forced: no such signal, or a REAL that is not finite."""
    _slot(program, st.target)
    _finite(st)


def _set(program: Program, s: Situation, st: Stimulus) -> None:
    """Values that are set, forces, acknowledgements. Action control looks at its settings again."""
    s.touched = True
    if st.do == "set" and "." in st.target and st.target.lower() not in program.slots:  # no cell of a table
        _set_block(program, s, st)
    elif st.do == "set":
        slot = _slot(program, st.target)
        _finite(st)
        s.v[slot] = st.value
        s.taken.add(slot)
        for i, d in enumerate(program.devices):
            if d.thresholds:  # they may be settings
                s.dev_course[i] = None
                s.dev_wake[i] = next_wake(s, d, i)
    elif st.do == "force":
        _finite(st)
        s.forces[_slot(program, st.target)] = st.value
        event(s, "forced", f"{st.target} is forced", Place("signal", item=st.target))
    elif st.do == "unforce":
        s.written = None
        _unforce(program, s, _slot(program, st.target))
    elif st.do == "drive":
        s.hand = {} if st.value else None
        s.written = None
        event(s, "hand drive" if st.value else "hand drive ends", "outputs by hand" if st.value else "", Place())
    elif st.do == "ask":
        _ask(program, s, st)
    elif st.do == "ack":
        acknowledge(s, st.target)
    elif st.do == "shelve":
        if st.value and st.target not in program.alarm_idents():
            raise StimulusError(f"there is no alarm {st.target}")
        shelve(s, st.target, bool(st.value))


def read_devices(program: Program, s: Situation) -> None:
    """What devices show in scan `k` becomes inputs, unless somebody has set those by hand."""
    k, v, dev_next, following = s.k, s.v, s.dev_next, s.next_reading
    while following <= k:
        i = dev_next.index(following)
        d, plan = program.devices[i], s.dev_ahead[i]
        for index, value in plan[0][1] if plan else enumerate(d.device.sense(s.dev_state[i], k)):
            slot = d.slots[index]
            if slot >= 0:
                if v[slot] != value and slot not in s.taken:
                    v[slot] = value
                    s.changed.append(slot)
            elif slot == INNER and (value or s.hazards or d.inner):
                _inward(s, d, i, index, value)
        if len(plan) > 1:
            s.dev_ahead[i] = plan = plan[1:]
            dev_next[i] = plan[0][0]
        else:
            plan_reading(s, d, i)
        following = min(dev_next)
    s.next_reading = following


def _inward(s: Situation, d: LinkedDevice, i: int, index: int, value: Any) -> None:
    """A value that another device takes, or the sign that a device comes to harm by itself, or no longer."""
    if index not in d.inner:
        _see_hazards(s, d, i, d.device.hazards(s.dev_state[i], s.k))
        return
    for slot in d.inner[index]:
        if s.v[slot] != value and slot not in s.taken:
            s.v[slot] = value
            s.changed.append(slot)


def read_own(program: Program, s: Situation) -> None:
    """What the texts of own devices gave at the end of the last scan becomes inputs."""
    for own in program.own:
        for kept, slot in own.outputs:
            if s.v[slot] != s.v[kept] and slot not in s.taken:
                s.v[slot] = s.v[kept]
                s.changed.append(slot)


def run_own(program: Program, s: Situation) -> None:
    """The end of phase 10: the texts of own devices, in their order, under the final outputs."""
    for own in program.own:
        for kept, slot in own.inputs:
            s.v[kept] = s.v[slot]
        failed = s.dev_failed[own.index]
        for name, slot in own.failures:
            s.v[slot] = name in failed
        own.run(s.v)


def _ask(program: Program, s: Situation, st: Stimulus) -> None:
    """An output by hand."""
    final = _slot(program, st.target)
    if program.asked[final] == final:
        raise StimulusError(f"{st.target} is not an output")
    if s.hand is None:
        raise StimulusError("outputs are asked for by hand in hand drive only")
    s.hand[program.asked[final]] = st.value


def plan_reading(s: Situation, d: LinkedDevice, i: int) -> None:
    """When a device shows something else, and what; and which scan has to be run because of it."""
    if d.thresholds is None:
        s.dev_ahead[i] = plan = d.device.ahead(s.dev_state[i], s.k)
        s.dev_next[i] = plan[0][0]
        return
    s.dev_ahead[i] = ()
    if s.dev_wake[i] <= s.k:
        s.dev_wake[i] = next_wake(s, d, i)
    s.dev_next[i] = s.dev_wake[i] if s.told_from[i] >= 0 else d.device.next_change(s.dev_state[i], s.k)


def _slot(program: Program, name: str) -> int:
    slot = program.slots.get(name.lower())
    if slot is None:
        raise StimulusError(f"there is no signal {name}")
    return slot


def _touch(program: Program, s: Situation, st: Stimulus) -> None:
    index = next((i for i, d in enumerate(program.devices) if d.name.lower() == st.target.lower()), None)
    if index is None:
        raise StimulusError(f"there is no device {st.target}")
    device = program.devices[index].device
    if st.do == "hand":
        s.dev_hand[index] = st.value
    else:
        if st.value not in device.failures:
            raise StimulusError(f"{st.target} has no failure {st.value!r}; it has {', '.join(device.failures)}")
        change = frozenset([st.value])
        s.dev_failed[index] = s.dev_failed[index] | change if st.do == "fail" else s.dev_failed[index] - change
        event(s, "failure" if st.do == "fail" else "repair", f"{st.target} {st.value}", Place("device", item=st.target))
    turn_device(program, s, index, by_hand=True)


def turn_device(program: Program, s: Situation, index: int, by_hand: bool = False) -> None:
    """Gives a device its drives, failures and hand from scan `k` on; a new hazard is an event.

    What is done `by_hand` comes before the device is read in this scan, new drives come after. With them, the least of
    `dev_next` has to be found again when all devices are turned.
    """
    d, k = program.devices[index], s.k
    if s.told_from[index] >= 0:
        tell(s, d, index, k if by_hand else k + 1)
    drives = s.drives[d.first_drive : d.first_drive + len(d.drives)]
    before = s.dev_state[index]
    s.dev_state[index] = state = d.device.turn(before, k, drives, s.dev_failed[index], s.dev_hand[index])
    s.dev_wake[index] = k
    s.dev_course[index] = None
    if by_hand:
        s.dev_next[index], s.dev_ahead[index] = k, ()
        s.next_reading = min(s.dev_next)
    else:
        plan_reading(s, d, index)
        if d.device.jumps and d.device.sense(before, k) != d.device.sense(state, k):
            s.dev_next[index], s.dev_ahead[index] = k + 1, ()
            s.dev_wake[index] = k + 1
    s.turned.append(index)
    now = d.device.hazards(state, k) if d.can_harm else ()
    if now or s.hazards:
        _see_hazards(s, d, index, now)


def _see_hazards(s: Situation, d: LinkedDevice, index: int, now: tuple[str, ...]) -> None:
    for text in now:
        if (index, text) not in s.hazards:
            event(s, "hazard", f"{d.name} is {text}", Place("device", item=d.name))
    s.hazards = {(i, t) for i, t in s.hazards if i != index} | {(index, t) for t in now}


def _unforce(program: Program, s: Situation, slot: int) -> None:
    """Ends a force; an input shows its device's value again, or keeps the last one without a device."""
    s.wished.pop(slot, None)
    if s.forces.pop(slot, None) is None:
        return
    for i, d in enumerate(program.devices):
        if any(at == slot for _, at in d.sensors):
            values = d.device.sense(s.dev_state[i], s.k)
            for index, at in d.sensors:
                if at == slot and at not in s.taken:
                    s.v[at] = values[index]


def force_inputs(program: Program, s: Situation) -> None:
    """Phase 2. Forced outputs are overwritten in phase 9, forced targets assigned again in phase 7."""
    s.written = None
    for slot, value in s.forces.items():
        if program.asked[slot] == slot:
            s.v[slot] = value


def opening(program: Program, s: Situation) -> None:
    """Phase 3: step times of this scan, Home, then the project's opening logic."""
    period = program.period_ms
    s.v[TIME] = s.k * period
    s.v[TURNS] = 0
    for seq in program.sequences:
        i = seq.index
        set_times(program, s, i, s.k)
    if program.home is not None:
        s.v[program.home_slot] = program.home(s.v)
    if program.opening is not None:
        program.opening(s.v)


def edges(program: Program, s: Situation) -> None:
    """Phase 4: every RISING, FALLING and HELD once; inner ones come first in the program (semantics section 7)."""
    v, k, was = s.v, s.k, s.edge_was
    for i, e in enumerate(program.edges):
        now = e.operand(v)
        if e.kind == "RISING":
            v[e.slot] = now and not was[i] and not s.cold
        elif e.kind == "FALLING":
            v[e.slot] = was[i] and not now and not s.cold
        else:
            if not now:
                s.held_from[i] = -1
            elif s.held_from[i] < 0:
                s.held_from[i] = k
            assert e.time is not None
            need = e.time(v)
            v[e.slot] = now and (k - s.held_from[i]) * program.period_ms >= need
        was[i] = now


def decide(program: Program, s: Situation) -> None:
    """Phase 5: trips come and go, the deciding one takes effect, holds are seen (semantics 9.2 to 9.4)."""
    if s.moved:
        s.moved = s.cold
        if not s.cold:
            forget_moves(s)
    if program.alarms:
        see_alarms(program, s)
    if not (program.guarded or s.by_hand or s.hand is not None):
        return
    s.by_hand = s.hand is not None
    v = s.v
    reset = program.reset >= 0 and v[program.reset]
    for trip in program.trips:
        _come_or_go(program, s, trip, trip.condition(v), reset)
    s.raised.clear()
    for seq in program.sequences:
        i = seq.index
        if reset and s.late_hold[i]:
            s.late_hold[i] = False
        standing = [t for t in program.trips if s.trip_on[t.index] and i in t.scope]
        decider = min(standing, key=lambda t: (t.rank, t.index)) if standing else None
        if decider is not None and i not in s.effected[decider.index]:
            s.effected[decider.index].add(i)
            _take_effect(program, s, decider, i)
        if decider is not None and not (decider.steps == "go to" and i in decider.go_to):
            mode = Mode.TRIPPED
        elif s.hand is not None or s.late_hold[i] or (seq.hold is not None and seq.hold(v)):
            mode = Mode.HELD
        else:
            mode = Mode.RUN
        if mode is not s.mode[i]:
            s.mode[i] = mode
            s.touched = True
            event(s, ("runs", "held", "tripped")[mode], seq.name, Place("sequence", item=seq.name))
            tell_hold(program, s, seq)
        if mode is not Mode.RUN and not s.cold:
            s.lost[i] += 1
            set_times(program, s, i, s.k)
        if seq.restart >= 0 and v[seq.restart] and mode is not Mode.TRIPPED:
            clear_stored(program, s, i)
            go_to(program, s, i, seq.initial)
            s.jumped[i] = True
            event(s, "restart", seq.name, Place("sequence", item=seq.name))


def forget_moves(s: Situation) -> None:
    """What came and left in the scan before."""
    for i in range(len(s.mode)):
        s.jumped[i] = False
        if s.came[i]:
            s.came[i] = []
        if s.left[i]:
            s.left[i] = []


def _come_or_go(program: Program, s: Situation, trip: LinkedTrip, condition: bool, reset: bool) -> None:
    if not s.trip_on[trip.index]:
        if condition or trip.index in s.raised:
            s.trip_on[trip.index] = True
            s.effected[trip.index] = set()
            raise_alarm(program, s, f"trip:{trip.name}", f"trip {trip.name}", Place("trip", item=trip.name))
    elif not condition and (reset or not trip.latching):
        s.trip_on[trip.index] = False
        clear_alarm(s, f"trip:{trip.name}")


def _take_effect(program: Program, s: Situation, trip: LinkedTrip, i: int) -> None:
    """The effects of a trip that now decides for sequence `i`."""
    if trip.clear_stored:
        clear_stored(program, s, i)
    if trip.steps == "restart":
        go_to(program, s, i, program.sequences[i].initial)
    elif trip.steps == "go to" and i in trip.go_to:
        go_to(program, s, i, trip.go_to[i])
        s.jumped[i] = True
    if trip.zero_times and not (trip.steps == "go to" and i in trip.go_to):  # a step that is entered has 0 already
        for a in s.active[i]:
            s.entered[i][a] = s.k - s.lost[i] - (0 if s.cold else 1)
            s.v[program.sequences[i].steps[a].t] = 0
    for slot, zero in trip.zeroed:
        s.v[slot] = zero
    s.touched, s.written = True, None
