"""One cell of the matrix: the reference cycle with a fault in one step, cleared and reset, and a clean cycle behind it.

as in the reference ──> fault ──> the cycle, or as far as it comes ──> cleared, reset ──> home ──> clean cycle
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.engine.explain import waiting
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Event, Situation
from spokeshave.engine.stimuli import Stimulus
from spokeshave.language.scenario import PRESS_MS as RESET_MS
from spokeshave.model.project import Device, Value
from spokeshave.verify.scenario_names import reset_hands
from spokeshave.verify.script import Script
from spokeshave.verify.sweep.faults import PRESS_MS, Fault
from spokeshave.verify.sweep.phrases import STANDS, WAITS
from spokeshave.verify.sweep.reference import Reference
from spokeshave.verify.sweep.safety import Guard
from spokeshave.verify.sweep.watch import Entry


@dataclass(frozen=True, slots=True)
class Seen:
    """What was seen of a trial, in scans; -1 for what did not come.

    `pointing` is the first alarm that points at the fault, `other` the first that does not. `astray` says how the cycle
    went wrong, `unclean` the one behind it, both empty texts if they did not.
    """

    injected: int
    cleared: int
    again: int
    end: int
    ended: bool
    """Whether the cycle was gone through to its end."""
    astray: str
    hazard: str
    pointing: Event | None
    other: Event | None
    unclean: str
    done: tuple[Stimulus, ...]
    stands: str = ""
    """In which steps it stood before the fault was cleared, where it did not come to its end, and what they waited on."""


MOST_TOLD = 2
SLOWER = 5
"""So many times as long as its reference a cycle may take that goes on all the time, and each stay in it where a device is slow."""


class Trial:
    """See the module's text. `run` does it all; `session` is the run, for looking at."""

    def __init__(
        self, reference: Reference, fault: Fault, step: Entry, known_harm: frozenset[str] = frozenset()
    ) -> None:
        """`known_harm` is what comes to harm without any fault too, and is none of this one's doing."""
        self.reference, self.fault, self._known_harm = reference, fault, known_harm
        self.watched = reference.at[step].fork()
        self.watched.matters = reference.matters
        self.session: Session = self.watched.session
        self.guard = self.watched.guard = Guard(reference.safety, self.session)
        self.hand = 0.0
        if fault.device:
            names = [d.name for d in reference.program.devices]
            self.hand = self.session.situation.dev_hand[names.index(fault.device)]

    def run(self) -> Seen:
        reference, session, watched = self.reference, self.session, self.watched
        injected = session.k
        self._inject()
        watched.goal = tuple(map(len, reference.entries))
        ended = self._through(reference.total)
        if ended:
            watched.goal = None
            watched.run_to(session.k + reference.tail)
        stands = "" if ended else self._stands()
        astray = self._astray(ended)
        watched.goal = None
        cleared = session.k
        self._clear()
        again, unclean = self._go_again()
        first, other = self._alarms(injected, cleared)
        done = tuple(st for st, _ in session.log[: session.next_stimulus])
        return Seen(
            injected, cleared, again, session.k, ended, astray, self._hazard(), first, other, unclean, done, stands
        )

    def _through(self, end: int) -> bool:
        """Through the cycle to its last step, with some patience; with more as long as it only is slower, and goes its way."""
        reference, session, watched = self.reference, self.session, self.watched
        ended = watched.run_to(end + reference.patience)
        while not ended and session.stopped is None and session.k < end + (SLOWER - 1) * reference.total:
            if (
                session.k - watched.last_entry > SLOWER * reference.longest_stay + reference.patience
                or reference.other_step(watched)
            ):
                return False
            ended = watched.run_to(session.k + reference.patience)
        return ended

    def _inject(self) -> None:
        fault, do, script = self.fault, self.session.do, self.watched.script
        if fault.kind == "none":
            return
        if fault.kind == "power":
            do("power")
            self.guard.power_returns()
        elif fault.kind == "failure":
            do("fail", fault.device, fault.failure)
        else:
            do("hand", fault.device, 1)
            if fault.kind == "press":
                now = self.session.time_ms - script.start_ms
                script.later.append((now + PRESS_MS, "hand", fault.device, 0))

    def _stands(self) -> str:
        """The steps that stand otherwise than at the end of the reference, and what they wait on."""
        program, s = self.reference.program, self.session.situation
        end = self.reference.end.active
        others = {
            (q.name, q.steps[a].name) for q, active, home in zip(program.sequences, s.active, end)
            for a in active if a not in home
        }  # fmt: skip
        found = []
        for w in waiting(program, s):
            if (w.sequence, w.step) in others or not others:
                terms = dict.fromkeys(t.short for way in w.ways for t in way.missing)
                step = f"{w.sequence}.{w.step}"
                found.append(WAITS.say(step=step, terms=" and ".join(terms)) if terms else f"{step} waits")
        return "; ".join(found[:MOST_TOLD])

    def _astray(self, ended: bool, before: tuple[Value, ...] | None = None) -> str:
        """How the cycle differs from the reference: another step, a device that is elsewhere, another end."""
        reference, watched = self.reference, self.watched
        found = reference.other_step(watched) or reference.astray(watched, numbers=before is None)
        if found or not ended:
            return found
        counts = reference.first_counts if before is None else before
        return reference.ended_otherwise(self.session.situation, counts, numbers=before is None)

    def _clear(self) -> None:
        """The fault goes, then the machine is reset: as the project's scenario says, or reset and acknowledged."""
        fault, do, session = self.fault, self.session.do, self.session
        if fault.kind == "failure":
            do("heal", fault.device, fault.failure)
        elif fault.kind == "hold":
            do("hand", fault.device, self.hand)
        watched, pause = self.watched, RESET_MS // session.program.period_ms + 1
        watched.script.at = len(watched.script.rows)  # nothing more is done but what is held is let go of
        watched.run_to(session.k + pause)
        self.guard.resets()
        if self.reference.reset is not None:
            script = Script(session, self.reference.reset)
            script.begin()
            watched.take(script)
            watched.run_to(session.k + self.reference.reset.sheet.length_ms // session.program.period_ms)
            return
        for on in (True, False):
            for hand in reset_hands(session.program.project):
                what = "hand" if isinstance(hand, Device) else "set"
                do(what, hand.name, on if what == "set" else int(on))
            if not on:
                do("ack")
            watched.run_to(session.k + pause)

    def _go_again(self) -> tuple[int, str]:
        """Waits until the machine stands as at the beginning, then plays the cycle: its first scan, and what was wrong."""
        reference, session, watched = self.reference, self.session, self.watched
        if not reference.returns:
            return -1, ""
        if not self._comes_home():
            names = [reference.name((i, a)) for i, active in enumerate(session.situation.active) for a in active]
            return -1, STANDS.say(steps=" and ".join(names))
        again, events, before = session.k, len(session.trace.events), reference.counts(session.situation)
        script = Script(session, reference.checked)
        script.begin()
        watched.take(script)
        watched.goal = tuple(map(len, reference.entries))
        ended = self._through(again + reference.total)
        if ended:
            watched.goal = None
            watched.run_to(session.k + reference.tail)
        alarm = next((e for e in session.trace.events[events:] if e.kind in ("alarm", "hazard")), None)
        if alarm is not None:
            return again, f"the cycle behind it is not clean: {alarm.text}"
        if session.stopped is not None:
            return again, f"the cycle behind it stops: {session.stopped}"
        astray = self._astray(ended, before)
        if astray:
            return again, f"the cycle behind it is not clean: {astray}"
        return again, "" if ended else "the cycle behind it does not come to its end"

    def _comes_home(self) -> bool:
        """Whether it stands in its first steps, at home if the machine file says what that is, within the time of a cycle."""
        session, reference, watched = self.session, self.reference, self.watched
        watched.awaits = self._is_home
        home = watched.run_to(session.k + reference.total + reference.patience)
        watched.awaits = None
        return home

    def _is_home(self, s: Situation) -> bool:
        program = self.reference.program
        at_rest = not any(s.trip_on) and tuple(tuple(sorted(a)) for a in s.active) == self.reference.initial
        return at_rest and (program.home is None or bool(program.home(s.v)))

    def harms(self) -> Iterator[Event]:
        """What came to harm, in the order of time."""
        return (e for e in self.session.trace.events if e.kind == "hazard")

    def _hazard(self) -> str:
        """A device that came to harm, a rule that was broken, an output that was on when it had to be off."""
        harmed = next((e for e in self.harms() if e.text not in self._known_harm), None)
        unsafe = self.guard.broken
        if unsafe is not None and all(unsafe[0] <= k for k in (
            harmed.k if harmed is not None else unsafe[0], self.watched.broken[0] if self.watched.broken else unsafe[0]
        )):  # fmt: skip
            return unsafe[1]
        if self.watched.broken is not None and (harmed is None or self.watched.broken[0] <= harmed.k):
            return f"never {self.watched.broken[1]}"
        return harmed.text if harmed is not None else ""

    def _alarms(self, injected: int, cleared: int) -> tuple[Event | None, Event | None]:
        """The first alarm that points at the fault, and the first that does not, before it was cleared."""
        found: list[Event | None] = [None, None]
        for e in self.session.trace.events:
            if e.kind == "alarm" and injected <= e.k < cleared:
                elsewhere = self.fault.kind != "power" and not self.reference.concerns.points_at(
                    e.place, self.fault.device
                )
                if found[elsewhere] is None:
                    found[elsewhere] = e
        return found[0], found[1]
