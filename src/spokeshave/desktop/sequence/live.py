"""What the run says of one sequence, for the sheet and the chart to show."""

from __future__ import annotations

import re

from spokeshave.desktop.runner import Runner
from spokeshave.engine.explain import Waiting

_WORD = re.compile(r"[A-Za-z_]\w*")


class Live:
    """What the run says of one sequence, read once a tick: active steps, steps that were, what is waited on."""

    def __init__(self) -> None:
        self.waiting: dict[str, Waiting] = {}
        self.was: set[str] = set()
        self.on: set[str] = set()
        self.forced: set[str] = set()

    def read(self, runner: Runner, sequence: str) -> bool:
        """Takes the present state; TRUE if a view needs repainting."""
        session, shown = runner.session, runner.shown()
        waiting = {w.step: w for w in runner.waiting() if w.sequence.lower() == sequence.lower()}
        was: set[str] = set()
        on: set[str] = set()
        forced: set[str] = set()
        if session is not None and shown is not None and session.trace.scan_count:
            program, situation = shown
            v = situation.v
            for q in program.sequences:
                if q.name.lower() == sequence.lower():
                    entered = situation.entered[q.index]
                    was = {s.name for s in q.steps if s.index in entered and s.name not in waiting}
            on = {r.name.lower() for r in program.recorded if r.kind == "output" and v[r.slot] is True}
            by_slot = {slot: name for name, slot in program.slots.items()}
            forced = {by_slot[slot] for slot in situation.forces}
        same = waiting == self.waiting and was == self.was and on == self.on and forced == self.forced
        self.waiting, self.was, self.on, self.forced = waiting, was, on, forced
        return not same

    def forced_words(self, text: str) -> list[tuple[int, str]]:
        """Where the names of forced signals stand in a condition, and the names as they are written."""
        if not self.forced:
            return []
        found = ((m.start(), m[0]) for m in _WORD.finditer(text) if m[0].lower() in self.forced)
        return [(at, word) for at, word in found if at == 0 or text[at - 1] != "."]
