"""RISING, FALLING and HELD in the expectations of a scenario: they look at the ends of scans, as everything else there does."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from spokeshave.engine.program import Program
from spokeshave.engine.situation import Situation
from spokeshave.language import checked as ck
from spokeshave.language.compile import compile_units
from spokeshave.language.functions import RunStop
from spokeshave.verify.scenario_language import SheetEdge

UNKNOWN = -1


class SheetEdges:
    """Keeps them from scan to scan, with times in ms since the scenario began. In its first scan nothing has risen or fallen."""

    def __init__(self, edges: Sequence[SheetEdge], program: Program) -> None:
        self.edges, self.period = edges, program.period_ms
        self.operands = [compile_units([(0, e.operand)])[0] for e in edges]
        self.times = [compile_units([(0, e.time)])[0] if e.time is not None else None for e in edges]
        self.was: list[bool | None] = [None] * len(edges)
        self.since = [UNKNOWN] * len(edges)
        """Since when the operand of a HELD is TRUE."""
        self.due_ms: list[int | None] = [None] * len(edges)
        self.faults: dict[int, RunStop] = {}

    def see(self, s: Situation, now: int) -> None:
        """Works them out at the end of a scan, inner ones first. One that has no value is FALSE, see `fault_in`."""
        for n, edge in enumerate(self.edges):
            try:
                self._see(n, edge, s, now)
            except RunStop as stop:
                s.v[edge.slot] = False
                self.faults.setdefault(edge.slot, stop)

    def fault_in(self, trees: Iterable[ck.Checked]) -> RunStop | None:
        """What keeps an edge of some conditions from having a value, since it first did not."""
        if not self.faults:
            return None
        return next((stop for t in trees for e in ck.edges(t) if (stop := self.faults.get(e.slot)) is not None), None)

    def _see(self, n: int, edge: SheetEdge, s: Situation, now: int) -> None:
        on, was = bool(self.operands[n](s.v)), self.was[n]
        self.was[n], self.due_ms[n] = on, None
        if edge.kind != "HELD":
            s.v[edge.slot] = was is (edge.kind == "FALLING") and on is (edge.kind == "RISING")
            if s.v[edge.slot]:
                self.due_ms[n] = now + self.period  # it is gone with the next scan, whatever happens there
            return
        self.since[n] = UNKNOWN if not on else now if self.since[n] == UNKNOWN else self.since[n]
        time = self.times[n]
        over = self.since[n] + int(time(s.v)) if on and time is not None else 0
        s.v[edge.slot] = on and now >= over
        if on and now < over:
            self.due_ms[n] = over

    def due(self) -> list[int]:
        """Times at which one of them changes by itself."""
        return [t for t in self.due_ms if t is not None]
