"""A first machine in ten steps: what to do next in one's own file, ticked when it is done."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import StatusLabel, TextLabel
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.side_panel import SidePanel
from spokeshave.model.project import Project, SignalClass
from spokeshave.verify.usage import speaks_of_signals

WIDTH = 330


@dataclass(frozen=True)
class TourStep:
    """What to do, how, in which stage, and how one sees that it is done."""

    title: str
    says: str
    stage: int
    done: Callable[[Document, Runner], bool]


def _declared(document: Document, _: Runner) -> bool:
    return {SignalClass.INPUT, SignalClass.OUTPUT} <= {s.cls for s in document.project.signals}


def _steps(project: Project) -> int:
    return max((len(q.steps) for q in project.sequences), default=0)


def _mended(document: Document, _: Runner) -> bool:
    return (
        speaks_of_signals(document.project)
        and not document.checking
        and all(d.severity == "advice" for d in document.findings)
    )


def _moved(_: Document, runner: Runner) -> bool:
    session = runner.session
    if session is None:
        return False
    return any(session.situation.active[q.index] != [q.initial] for q in session.program.sequences)


def _wired(document: Document, _: Runner) -> bool:
    outputs = {s.name.lower() for s in document.project.signals if s.cls is SignalClass.OUTPUT}
    return any(signal.lower() in outputs for d in document.project.devices for _, signal in d.wires)


STEPS = (
    TourStep("Declare a switch and a drive", "Type a name into the line with the plus, Tab on to its class, Return to the next. One input that a "
             "limit switch gives, one output that drives what moves: class, type, a word about it.", 1, _declared),
    TourStep("Give the sequence a third step", "Type over the names of the two that are there. Insert puts a step behind the selected one.",
             2, lambda d, _: _steps(d.project) >= 3),
    TourStep("Say what a step drives", "Type X into the column of your output, in the row of a step: it is on while the step is active.",
             2, lambda d, _: any(s.actions for q in d.project.sequences for s in q.steps)),
    TourStep("Say what ends each step", "In Awaits type what the machine has to tell: the name of your switch, RISING(Start), Step.T >= T#2s. "
             "FALSE waits for ever.", 2, lambda d, _: bool(d.project.sequences) and not any(
                 t.condition.strip().upper() == "FALSE" for q in d.project.sequences for t in q.transitions)),
    TourStep("Say how long a step may take", "In Window type 5s: a step that lasts longer is late, and an alarm says what it waits for.",
             2, lambda d, _: any(s.longest for q in d.project.sequences for s in q.steps)),
    TourStep("Put the machine there", "Add a device that your output drives and whose switch gives your input; wire both in its form.", 3, _wired),
    TourStep("Leave nothing to mend", "F9 lists what the check finds. A click goes to the place; Mend does what is usual.", 2, _mended),
    TourStep("Let it run", "F5 starts the run. Press buttons and switches on the board; the waiting line above says what each step waits on.",
             4, _moved),
    TourStep("Prove it", "Add a scenario: what is done to the machine, and what you expect of it. Ctrl+R runs all.", 5,
             lambda d, _: d.has_passed),
    TourStep("Save it", "Ctrl+S. What was proven is kept beside the file.", 0,
             lambda d, _: d.path is not None and not d.dirty),
)  # fmt: skip


class Tour(SidePanel):
    """Emits `stage_asked` with the stage of a step. What is done stays done when it is closed."""

    stage_asked = Signal(int)

    def __init__(self, document: Document, runner: Runner) -> None:
        super().__init__("tour")
        self.document, self.runner = document, runner
        self.setFixedWidth(WIDTH)
        self._ran = False
        """Whether a step has changed in a run of this file: it stays done when the run is reset."""
        self.count = TextLabel()
        self.count.setObjectName("heading")
        head = QHBoxLayout()
        head.addWidget(self.count, 1)
        head.addWidget(self.close_button)
        rows = QVBoxLayout()
        rows.setSpacing(6)
        self.marks, self.hints, self.shows = [StatusLabel() for _ in STEPS], [TextLabel(s.says) for s in STEPS], []
        for n, (step, mark, hint) in enumerate(zip(STEPS, self.marks, self.hints)):
            hint.setObjectName("hint")
            hint.setWordWrap(True)
            show = QPushButton("Go there")
            show.setAccessibleName(f"Go to where this is done: {step.title}")
            show.clicked.connect(lambda _=False, n=n: self.stage_asked.emit(STEPS[n].stage))
            self.shows.append(show)
            line = QHBoxLayout()
            line.addStretch(1)
            line.addWidget(show)
            rows.addWidget(mark)
            rows.addWidget(hint)
            rows.addLayout(line)
        rows.addStretch(1)
        inner = QWidget()
        inner.setLayout(rows)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(inner)
        column = QVBoxLayout(self)
        column.addLayout(head)
        column.addWidget(area, 1)
        for changed in (document.changed, document.checked, document.proven, runner.advanced):
            changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Ticks what is done; the first that is not says how."""
        self._ran = self._ran or _moved(self.document, self.runner)
        if not self.isVisible():
            return
        done = [self._ran if step.done is _moved else step.done(self.document, self.runner) for step in STEPS]
        current = done.index(False) if False in done else -1
        self.count.setText("First machine: " + ("all is done" if current < 0 else f"{sum(done)} of {len(STEPS)}"))
        for n, (step, is_done) in enumerate(zip(STEPS, done)):
            self.marks[n].say(
                f"{'✓' if is_done else '○'}  {step.title}", "true" if is_done else "ink" if n == current else "faint"
            )
            self.hints[n].setVisible(n == current)
            self.shows[n].setVisible(n == current)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()
