"""How long the cycles of a sequence take: `expect cycle of Carousel takes 26 s`."""

from __future__ import annotations

from spokeshave.engine.program import Program
from spokeshave.engine.situation import Situation
from spokeshave.language import checked as ck
from spokeshave.language.literals import time_text
from spokeshave.language.scenario_rows import ExpectRow
from spokeshave.language.timed import ends_ms, times_of
from spokeshave.verify.expectations import Outcome, Watcher, entered


class Cycles(Watcher):
    """cycle of Seq takes t; also at least and at most. Every cycle that ends in the run counts.

    A purely timed sequence goes round from one entry of its initial step to the next. In another that step waits for somebody, so a
    cycle begins when it is left and ends when it is entered.
    """

    def __init__(self, row: ExpectRow, program: Program, trees: tuple[ck.Checked, ...]) -> None:
        super().__init__(row, program, trees)
        self.seq = next(q for q in program.sequences if q.name.lower() == row.names[0].lower())
        sequence = program.project.sequence(self.seq.name)
        assert sequence is not None
        self.round = ends_ms(sequence, times_of(program.project)) is not None
        self.began = -1
        self.took: list[int] = []

    def look(self, s: Situation) -> None:
        first = self.seq.initial
        if first in entered(s, self.seq.index):
            if self.began >= 0:
                self._ended(self.now - self.began)
            self.began = self.now if self.round else -1
        elif not self.round and first in s.left[self.seq.index]:
            self.began = self.now

    def _ended(self, took: int) -> None:
        self.took.append(took)
        kind, wanted, slack = self.row.kind, self.row.ms, self.slack_ms
        if (took > wanted + slack and kind != "cycle_least") or (took < wanted - slack and kind != "cycle_most"):
            self.decide(Outcome.FAIL, f"cycle {len(self.took)} took {time_text(took)[2:]}")

    def end(self) -> None:
        if not self.took:
            self.decide(Outcome.NOT_REACHED, f"no cycle of {self.seq.name} came to its end")
            return
        least, most = (time_text(t)[2:] for t in (min(self.took), max(self.took)))
        count = f"{len(self.took)} cycle{'s' if len(self.took) > 1 else ''}"
        self.decide(Outcome.PASS, f"{count}, {least}" + (f" to {most}" if least != most else ""))
