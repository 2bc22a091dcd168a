"""Whether a run is safe: outputs are off while a stop acts, and nothing starts by itself when it ends.

Looked at in every scan of a cell: while an emergency stop or a latching trip acts, each output in its scope is off, but
for those that are said to stay on; from the reset that ends a trip, or the return of power, until a hand does something,
nothing is driven that is not driven at rest (semantics 9.3, 9.4).
"""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation
from spokeshave.model.project import Device, Project, Trip
from spokeshave.verify.scenario_names import reset_hands
from spokeshave.verify.sweep.phrases import ON, WHILE_PRESSED
from spokeshave.verify.turned_off import TurnedOff

Outputs = tuple[tuple[str, int], ...]
"""Names of outputs, and the slots of what goes out."""


@dataclass(frozen=True, slots=True)
class Stop:
    """An emergency stop: the slot of its contact and its level when it acts."""

    name: str
    slot: int
    acting: bool


class Safety:
    """What has to be off when, for one program. `rest` is the situation in which the reference cycle begins."""

    def __init__(self, program: Program, rest: Situation) -> None:
        self.program, project = program, program.project
        off = TurnedOff(project)
        self.stays = {n.lower() for t in project.trips for n in t.stays}
        moving = [s.name for s in off.outputs if s.name.lower() not in self.stays]
        self.outputs: Outputs = tuple((n, program.slots[n.lower()]) for n in moving)
        self.at_rest = {slot for _, slot in self.outputs if rest.v[slot]}
        self.trips = tuple((t.index, t.name, self._in_scope(project, off, project.trips[t.index]))
                           for t in program.trips if t.latching)  # fmt: skip
        self.stops = tuple(s for d in project.devices if d.kind == "emergency" and (s := self._stop(d)) is not None)
        self.resets = {h.name.lower() for h in reset_hands(project)}

    def _in_scope(self, project: Project, off: TurnedOff, trip: Trip) -> Outputs:
        """What a trip has to turn off: all that the sequences in its scope write, but what it keeps stored or leaves to
        a step that it goes to.
        """
        gone = {g.partition(".")[0].lower() for g in trip.go_to} if trip.steps == "go to" else set()
        found = []
        for name, slot in self.outputs:
            writers = {u.place.sequence.lower() for u in off.writers[name.lower()]}
            inside = {w for w in writers if w and trip.acts_on(w)}
            if inside and not writers & gone and not (trip.stored == "keep" and off.stores_any(inside, name.lower())):
                found.append((name, slot))
        return tuple(found)

    def _stop(self, device: Device) -> Stop | None:
        slot = self.program.slots.get(device.wired("contact").lower())
        closed = bool(dict(device.parameters).get("normally_closed", 1.0))
        return None if slot is None else Stop(device.name, slot, not closed)


class Guard:
    """Looks at one run. `broken` is the first scan in which something was on that had to be off, and what."""

    def __init__(self, safety: Safety, session: Session) -> None:
        self.safety, self.session = safety, session
        self.broken: tuple[int, str] | None = None
        self._why, self._hands = "", 0
        self._quiet: Outputs = ()
        self._standing: tuple[tuple[int, str, Outputs], ...] = ()

    def power_returns(self) -> None:
        """From now on nothing may be driven until a hand does something."""
        self._begin("when power is back, before a hand starts it", self.safety.outputs)

    def resets(self) -> None:
        """The reset is about to come: what it ends may not start by itself."""
        s = self.session.situation
        self._standing = tuple(t for t in self.safety.trips if s.trip_on[t[0]])
        self._why, self._quiet, self._hands = "", (), self.session.next_stimulus

    def _begin(self, why: str, outputs: Outputs) -> None:
        rest = self.safety.at_rest
        self._quiet = tuple((n, slot) for n, slot in outputs if slot not in rest)
        self._why, self._hands = why, self.session.next_stimulus

    def see(self, s: Situation) -> None:
        """Looks at the situation at the end of scan `s.k - 1`."""
        if self.broken is not None:
            return
        on = self._still_on(s)
        if on:
            self.broken = (s.k - 1, ON.say(output=on[0], ms=self._ms(s.k - 1), why=on[1]))

    def _ms(self, k: int) -> int:
        return k * self.session.program.period_ms

    def _still_on(self, s: Situation) -> tuple[str, str] | None:
        safety, v = self.safety, s.v
        for stop in safety.stops:
            if v[stop.slot] is stop.acting:
                for name, slot in safety.outputs:
                    if v[slot] and slot not in safety.at_rest and not self._led(s, name):
                        return name, WHILE_PRESSED.say(stop=stop.name)
        for index, trip, outputs in safety.trips:
            if s.trip_on[index]:
                for name, slot in outputs:
                    if v[slot]:
                        return name, f"while the trip {trip} stands"
        ended = [t for t in self._standing if not s.trip_on[t[0]]]
        if ended:
            self._standing = tuple(t for t in self._standing if t not in ended)
            new = tuple(o for t in ended for o in t[2] if o[1] not in safety.at_rest)
            self._why, self._quiet = "after the reset, before a hand starts it", (*self._quiet, *new)
        if self._quiet:
            if self._a_hand_came():
                self._quiet = ()
            for name, slot in self._quiet:
                if v[slot]:
                    return name, self._why
        return None

    def _led(self, s: Situation, output: str) -> bool:
        """Whether a standing trip has led the sequences that write an output to a step of its choice, or keeps it stored."""
        trips = self.safety.program.project.trips
        standing = [trips[i] for i in range(len(trips)) if s.trip_on[i]]
        outputs = {n.lower() for t in self.safety.trips if s.trip_on[t[0]] for n, _ in t[2]}
        return bool(standing) and output.lower() not in outputs and any(
            t.steps == "go to" or t.stored == "keep" for t in standing)  # fmt: skip

    def _a_hand_came(self) -> bool:
        """Whether a hand has pressed or set something since that is not the reset."""
        done = self.session.log[self._hands : self.session.next_stimulus]
        return any(
            st.do in ("hand", "set") and st.value and st.target.lower() not in self.safety.resets for st, _ in done
        )
