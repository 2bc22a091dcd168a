"""The stages of the window in the order people work: what each is called, how its page is made, what it shows.

A page is made when it is first looked at, or asked for by a command: a window that opens on the sequence has made nothing else.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize
from PySide6.QtWidgets import QStackedWidget, QWidget

from spokeshave.desktop.bench.page import BenchPage
from spokeshave.desktop.brief.page import BriefPage
from spokeshave.desktop.machine_board.page import MachinePage
from spokeshave.desktop.proof.page import ProofPage
from spokeshave.desktop.sequence.page import SequencePage
from spokeshave.desktop.signals.page import SignalsPage
from spokeshave.desktop.stage_page import StagePage

if TYPE_CHECKING:
    from spokeshave.desktop.window import MainWindow


@dataclass(frozen=True)
class Stage:
    """A stage: `make` gives its page with the page's signals led to the window, `shows` are the kinds of places that are looked at
    there.
    """

    title: str
    make: Callable[[MainWindow], StagePage]
    manual: str
    """Where it stands in the manual."""
    shows: tuple[str, ...]
    outline: bool = True
    details: bool = False
    """Whether these panels stand beside it before somebody folds or opens them."""


def _brief(w: MainWindow) -> StagePage:
    return BriefPage(w.document, w.selection)


def _signals(w: MainWindow) -> StagePage:
    page = SignalsPage(w.document, w.selection)

    def pin() -> None:
        page.list.table.pin(w.runner.forced_names())

    def take(recipe: str) -> None:
        w.show_stage(BENCH)
        w.bench.bar.recipes.take(recipe)

    w.runner.advanced.connect(pin)
    pin()
    page.recipes.bench_asked.connect(take)
    return page


def _sequence(w: MainWindow) -> StagePage:
    page = SequencePage(w.document, w.runner, w.selection)
    page.show_asked.connect(w.showing.run)
    return page


def _machine(w: MainWindow) -> StagePage:
    page = MachinePage(w.document, w.runner, w.selection)
    page.scene.failed.connect(w.say_fault)
    return page


def _bench(w: MainWindow) -> StagePage:
    page = BenchPage(w.document, w.runner, w.selection)
    page.machine_asked.connect(lambda: w.show_stage(3))
    if w.settings is not None:
        page.take_sizes(w.settings)
    return page


def _proof(w: MainWindow) -> StagePage:
    page = ProofPage(w.document, w.runner, w.selection, w.tasks)
    page.runs_changed.connect(w.table.refresh)
    page.show_asked.connect(w.showing.run)
    page.sweep.show_asked.connect(w.showing.fault)
    return page


STAGES = (
    Stage("Brief", _brief, "desktop#Brief", ("requirement",)),
    Stage("Signals", _signals, "desktop#Signals", ("signal", "opening", "closing", "table", "routine", "recipe")),
    Stage("Sequence", _sequence, "desktop#Sequence", ("step", "transition", "action", "body", "sequence")),
    Stage("Machine", _machine, "machine#Wiring", ("device",), details=True),
    Stage("Bench", _bench, "machine#The bench", (), outline=False),
    Stage(
        "Proof",
        _proof,
        "scenarios#In the desktop",
        ("interlock", "trip", "opposed", "alarm", "scenario"),
        outline=False,
    ),
)
BENCH, PROOF = 4, 5
TITLES = tuple(stage.title for stage in STAGES)
STAGE_OF = {kind: i for i, stage in enumerate(STAGES) for kind in stage.shows}
"""The stage in which a place is looked at, by the place's kind."""


class Pages(QStackedWidget):
    """The pages of the stages, as narrow as the one that shows can be: a wide one does not press on the panels of the others."""

    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self._window = window
        self.made: dict[int, StagePage] = {}
        """The pages that are there, by the place of their stage in `STAGES`."""
        for _ in STAGES:
            self.addWidget(QWidget())
        self.currentChanged.connect(lambda _: self.updateGeometry())

    def page(self, index: int) -> StagePage:
        """The page of a stage."""
        if index not in self.made:
            selection = self._window.selection
            selected = selection.place, selection.steps
            page = self.made[index] = STAGES[index].make(self._window)
            held = self.widget(index)
            assert held is not None
            self.insertWidget(index, page)
            self.removeWidget(held)
            held.deleteLater()
            selection.set(*selected)  # lists select what they begin with
            page.go_to(selection.place)
        return self.made[index]

    def show_start(self, page: QWidget) -> None:
        """Brings the start page before the stages, none of which is made for it."""
        if self.indexOf(page) < 0:
            self.addWidget(page)
        self.setCurrentWidget(page)

    def minimumSizeHint(self) -> QSize:
        page = self.currentWidget()
        return super().minimumSizeHint() if page is None else page.minimumSizeHint()
