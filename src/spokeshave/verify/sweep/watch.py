"""What is noted of a run with skip-ahead: steps as they come and go, where devices are then, rules that are broken."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from spokeshave.engine.program import Program
from spokeshave.engine.session import Session
from spokeshave.engine.situation import Situation, show_times
from spokeshave.language.compile import Compiled
from spokeshave.machine.device import true_values
from spokeshave.model.project import Value
from spokeshave.verify.script import Script
from spokeshave.verify.sweep.safety import Guard

Entry = tuple[int, int]
"""A step by sequence and index."""

Truth = tuple[tuple[Value, ...], ...]
"""Of each device, what its sensors would show if none failed."""


class Watched:
    """A run on its way, with the hands of a script. `rules` are conditions that must never hold, each with its text."""

    def __init__(self, session: Session, script: Script, rules: tuple[tuple[str, Compiled], ...]) -> None:
        self.session, self.script, self.rules = session, script, rules
        n = len(session.program.sequences)
        self.entries: list[list[int]] = [[] for _ in range(n)]
        """Of each sequence, the steps as they were entered."""
        self.leavings: list[tuple[Entry, int, Truth, tuple[bool, ...]]] = []
        """Steps as they were left and for which time, where devices were, and which of them were driven until then."""
        self.last_entry = -1
        """The scan in which a step was entered last."""
        self.broken: tuple[int, str] | None = None
        """The first scan in which a rule was broken, and which."""
        self.goal: tuple[int, ...] | None = None
        """So many entries of each sequence end the run."""
        self.awaits: Callable[[Situation], bool] | None = None
        """What ends the run when it holds; it may turn with steps, trips and what the program reads."""
        self.matters: dict[Entry, list[tuple[int, ...]]] | None = None
        """Of each step the devices to look at when it is left for the first, second, ... time; all of them without it."""
        self.guard: Guard | None = None
        """Looks whether what has to be off is off."""
        self.timed = True
        """Whether a condition that is looked at reads step times."""
        self._came: list[list[int]] = [[] for _ in range(n)]
        self._came_in = -1
        self._clocks: list[dict[int, int]] = [dict(session.situation.entered[i]) for i in range(n)]
        self._drives = session.situation.drives
        self._plain = session.plain
        self._visits: dict[Entry, int] = {}

    def fork(self) -> Watched:
        """Another run that goes on from here by itself. It notes leavings from now on."""
        session = self.session.fork()
        session.trace.keeps_changes = False
        other = Watched(session, self.script.fork(session), self.rules)
        other.entries = [list(e) for e in self.entries]
        other.last_entry, other.broken = self.last_entry, self.broken
        other.matters, other.timed = self.matters, self.timed
        other._came, other._came_in = [list(c) for c in self._came], self._came_in
        other._clocks, other._drives = [dict(c) for c in self._clocks], self._drives
        other._visits = dict(self._visits)
        return other

    def take(self, script: Script) -> None:
        """Goes on with other hands, and notes steps anew."""
        self.script = script
        self.entries = [[] for _ in self.entries]
        self.leavings, self._visits = [], {}

    def run_to(self, end: int, next_entry: bool = False) -> bool:
        """On to scan `end`, or to the goal, or to the next entry of a step: then TRUE."""
        session, script = self.session, self.script
        session.look_anew()
        while session.k < end and session.stopped is None:
            if self.reached() or self._holds(session.situation):
                return True
            script.before_scan(self._just_came)
            until = max(session.k + 1, min(end, script.next_scan()))
            session.run_scans(until - session.k, self._look_for_steps if next_entry else self._look)
            if next_entry and self.last_entry == session.k - 1:
                return True
        return self.reached() or self._holds(session.situation)

    def _look_for_steps(self, s: Situation) -> bool:
        return self._look(s) or self.last_entry == s.k - 1

    def reached(self) -> bool:
        return self.goal is not None and all(len(e) >= n for e, n in zip(self.entries, self.goal))

    def _holds(self, s: Situation) -> bool:
        return self.awaits is not None and self.awaits(s)

    def _just_came(self, i: int) -> Iterable[int]:
        return self._came[i] if self._came_in == self.session.k - 1 else ()

    def _look(self, s: Situation) -> bool:
        """After each scan in which anything happened: TRUE if the script or the goal has to be looked at."""
        program = self.session.program
        if self.timed:
            show_times(program, s)
        moved = self._see_steps(program, s)
        self._drives = s.drives
        if self.guard is not None:
            self.guard.see(s)
        if self.broken is None:
            for text, holds in self.rules:
                if holds(s.v):
                    self.broken = (s.k - 1, text)
                    break
        return (moved and self.reached()) or self._holds(s) or self.script.has_come(self._just_came)

    def _see_steps(self, program: Program, s: Situation) -> bool:
        """Notes the steps that came and left in the last scan."""
        moved = False
        for q in program.sequences:
            i = q.index
            self._came[i], gone = self._moves(s, i)
            if self._came[i]:
                moved = True
                self.entries[i] += q.by_number(self._came[i])
                self.last_entry = s.k - 1
            for a in gone:
                self._leave(program, s, (i, a))
        self._came_in = s.k - 1
        return moved

    def _leave(self, program: Program, s: Situation, step: Entry) -> None:
        visit = self._visits[step] = self._visits.get(step, -1) + 1
        if self.matters is None:
            self.leavings.append((step, visit, truth(program, s), driven_devices(program, self._drives)))
            return
        stays = self.matters.get(step, [])
        if visit < len(stays):
            self.leavings.append((step, visit, truth(program, s, stays[visit]), ()))

    def _moves(self, s: Situation, i: int) -> tuple[list[int], list[int]]:
        """Steps that came and left. A scan done by rote does not tell them, but then nothing else sets a step's clock."""
        if not self._plain:
            return (list(s.came[i]), list(s.left[i])) if s.k > 1 else ([], [])  # not those it begins with
        before, now, active = self._clocks[i], s.entered[i], s.active[i]
        if len(active) == 1 == len(before) and before.get(active[0]) == now[active[0]]:
            return [], []
        came = [a for a in active if before.get(a) != now[a]]
        gone = [a for a in before if a not in active or a in came]
        if came or gone:
            self._clocks[i] = {a: now[a] for a in active}
        return came, gone


def truth(program: Program, s: Situation, devices: Iterable[int] | None = None) -> Truth:
    """Where devices are at the end of scan `s.k - 1`: all of them, or those."""
    chosen = range(len(program.devices)) if devices is None else devices
    return tuple(true_values(program.devices[d].device, s.dev_state[d], s.k - 1) for d in chosen)


def driven_devices(program: Program, drives: tuple[Any, ...]) -> tuple[bool, ...]:
    """Which devices are driven."""
    return tuple(any(drives[d.first_drive : d.first_drive + len(d.drives)]) for d in program.devices)
