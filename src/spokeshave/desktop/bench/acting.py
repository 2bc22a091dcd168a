"""What acts now of all that protects: rules that keep something off or back in the scan on the screen."""

from __future__ import annotations

from spokeshave.desktop.place_lists import PlaceList
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.model.diagnostics import Place
from spokeshave.verify.cause_effect import matrix
from spokeshave.verify.protection import Key


class ActingList(PlaceList):
    """One row a rule that acts; a click leads to it in the matrix, or to its step. Filled while it is looked at."""

    def __init__(self, runner: Runner, selection: Selection) -> None:
        super().__init__("Acting now", ["What acts, and what it does"], [], selection)
        self.header().hide()
        self.setUniformRowHeights(False)
        self.runner = runner
        self._shown: frozenset[Key] | None = None
        runner.advanced.connect(self._see)

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        self.refresh()

    def _see(self) -> None:
        if self.isVisible():
            self.refresh()

    def texts(self) -> list[str]:
        """The names of the rules that act in the situation on the screen."""
        return sorted(name for name, _ in self.runner.acting())

    def refresh(self) -> None:
        shown, keys = self.runner.shown(), self.runner.acting()
        if keys == self._shown:
            return
        self._shown = keys
        self.clear()
        for cause in matrix(shown[0].project).causes if shown is not None and keys else ():
            if any(key in keys for key in cause.keys):
                does = "".join(f"\n     {s}" for s in dict.fromkeys(c.sentence for c in cause.cells.values()))
                self.add(
                    [f"{cause.kind}  {cause.text}{does}"], cause.place, "late" if cause.kind == "trip" else "false"
                )
        if not keys:
            self.add(["No rule keeps anything off or back now"], Place(), "faint")
