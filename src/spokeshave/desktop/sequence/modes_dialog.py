"""The form of modes: what is wanted, and beside it the logic that comes of it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.tasks import Tasks
from spokeshave.desktop.theme import code_font, theme
from spokeshave.model.edits import EditError, put_items
from spokeshave.model.modes import PAUSES, Modes, foot, head, outputs_of
from spokeshave.model.project import Project
from spokeshave.verify.modes import Tried, build_modes, try_modes

SAID = (
    "A mode is signals, a few lines of opening logic, permissives and holds, all to be read and changed afterwards. Buttons that are inputs "
    "already are taken as they are. A start that cannot be followed at once is refused: nothing starts by itself later."
)
PAUSE_WORDS = ("none", "at once, where it is", "after the step that is active")


class ModesDialog(QDialog):
    """What is typed is tried out at once on the machine file; *Make* is one edit, the scenarios that pass are another."""

    def __init__(
        self, document: Document, tasks: Tasks, sequence: str, told: Callable[[str], None], parent: QWidget
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self.document, self.tasks, self.sequence, self.told = document, tasks, sequence, told
        self.setWindowTitle(f"Modes of {sequence}")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setProperty("manual", "desktop#Sequence")
        self.resize(min(1000, parent.width() - 60), min(560, parent.height() - 60))
        usual = Modes()
        self.start, self.continuous, self.stop = (
            QLineEdit(usual.start),
            QLineEdit(usual.continuous),
            QLineEdit(usual.stop),
        )
        self.by_step, self.next_step = QLineEdit("ByStep"), QLineEdit(usual.next_step)
        self.pause, self.home = QLineEdit(usual.pause_button), QLineEdit("GoHome")
        self.hand = QLineEdit("ByHand")
        self.hands = QCheckBox("By hand, a button for each output")
        self.cycles, self.ends = QCheckBox("Cycle after cycle"), QCheckBox("Stop at the end of the cycle")
        self.steps, self.leads = QCheckBox("Step by step"), QCheckBox("A way home as a sequence of its own")
        self.kind, self.outputs = QComboBox(), QComboBox()
        self.kind.addItems(PAUSE_WORDS)
        self.outputs.addItems(["outputs stay on", "outputs go off"])
        self.cycles.setChecked(True)
        self.ends.setChecked(True)
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(8)
        rows: tuple[tuple[QWidget, str, QWidget], ...] = (
            (TextLabel("One cycle for each start"), "button", self.start), (self.cycles, "selector", self.continuous),
            (self.ends, "button", self.stop), (self.steps, "selector", self.by_step), (TextLabel(), "button", self.next_step),
            (TextLabel("Pause"), "", self.kind), (TextLabel(), "", self.outputs), (TextLabel(), "button", self.pause),
            (self.leads, "button", self.home), (self.hands, "selector", self.hand),
        )  # fmt: skip
        names = (
            "Start",
            "Cycle after cycle",
            "Last cycle",
            "Step by step",
            "Next step",
            "Pause",
            "Outputs in a pause",
            "Pause",
            "Home",
            "By hand",
        )
        for row, ((what, word, field), name) in enumerate(zip(rows, names)):
            field.setAccessibleName(f"{name}, {word}" if word else name)
            field.setMinimumWidth(150)
            for column, part in enumerate((what, TextLabel(word), field)):
                grid.addWidget(part, row, column)
        self.board = QCheckBox("Buttons and selectors on the board")
        self.shown = QCheckBox("Scenarios that show each mode, as far as they pass")
        self.board.setChecked(True)
        self.shown.setChecked(True)
        said = TextLabel(SAID)
        said.setObjectName("hint")
        said.setWordWrap(True)
        said.setMaximumWidth(430)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(code_font(12))
        self.text.setAccessibleName("Logic of the modes")
        self.problem = TextLabel()
        self.problem.setWordWrap(True)
        self.make, cancel = QPushButton("Make"), QPushButton("Cancel")
        self.make.setObjectName("primary")
        self.make.clicked.connect(self.apply)
        cancel.clicked.connect(self.reject)
        left = QVBoxLayout()
        left.addLayout(grid)
        left.addSpacing(8)
        left.addWidget(self.board)
        left.addWidget(self.shown)
        left.addStretch(1)
        left.addWidget(said)
        both = QHBoxLayout()
        both.setSpacing(16)
        both.addLayout(left)
        both.addWidget(self.text, 1)
        buttons = QHBoxLayout()
        buttons.addWidget(self.problem, 1)
        buttons.addWidget(cancel)
        buttons.addWidget(self.make)
        whole = QVBoxLayout(self)
        whole.addLayout(both, 1)
        whole.addLayout(buttons)
        for line in (
            self.start,
            self.continuous,
            self.stop,
            self.by_step,
            self.next_step,
            self.pause,
            self.home,
            self.hand,
        ):
            line.textChanged.connect(self.refresh)
        for box in (self.cycles, self.ends, self.steps, self.leads, self.hands, self.board):
            box.toggled.connect(self.refresh)
        for choice in (self.kind, self.outputs):
            choice.currentIndexChanged.connect(self.refresh)
        document.changed.connect(self.refresh)
        self.refresh()

    def modes(self) -> Modes:
        """What is wanted, as it stands in the form."""

        def name(line: QLineEdit, wanted: bool) -> str:
            return line.text().strip() if wanted else ""

        return Modes(
            self.start.text().strip(), name(self.continuous, self.cycles.isChecked()), name(self.stop, self.ends.isChecked()),
            name(self.by_step, self.steps.isChecked()), self.next_step.text().strip(), PAUSES[self.kind.currentIndex()],
            self.pause.text().strip(), ("keep", "drop")[self.outputs.currentIndex()], name(self.home, self.leads.isChecked()),
            name(self.hand, self.hands.isChecked()), outputs_of(self.document.project, self.sequence),
        )  # fmt: skip

    def refresh(self) -> None:
        """What would come of it, or what stands in the way."""
        at_once = self.kind.currentIndex() == 1
        for part, on in (
            (self.continuous, self.cycles.isChecked()), (self.stop, self.ends.isChecked()), (self.by_step, self.steps.isChecked()),
            (self.next_step, self.steps.isChecked()), (self.pause, self.kind.currentIndex() > 0),
            (self.outputs, at_once and not self.hands.isChecked()),
            (self.home, self.leads.isChecked()), (self.hand, self.hands.isChecked()),
        ):  # fmt: skip
            part.setEnabled(on)
        problem = ""
        try:
            made = build_modes(self.document.project, self.sequence, self.modes(), self.board.isChecked())
        except EditError as error:
            problem = str(error)
        else:
            self.text.setPlainText(self._logic(made))
        self.problem.setText(plain(problem))
        self.problem.setStyleSheet(f"color: {theme.now.late};" if problem else "")
        self.make.setEnabled(not problem)

    def _logic(self, made: Project) -> str:
        """The opening logic of the form, and what it says in the sequence."""
        text = made.opening
        q = made.sequence(self.sequence)
        assert q is not None
        lines = text[text.index(head(q.name)) : text.index(foot(q.name))].splitlines()[1:]
        first = [t.condition for t in q.transitions if q.initial in t.sources]
        lines += ["", *(f"(* out of {q.initial} *) {c}" for c in first)]
        lines += [f"(* held *) {q.hold_when}"] if q.hold_when else []
        lines += [f"(* each step only with *) {q.steps[0].permissive}"] if q.steps[0].permissive else []
        lines += [f"(* begins anew *) {q.restart_when}"] if q.restart_when else []
        return "\n".join(lines)

    def apply(self) -> None:
        """The edit; then its scenarios are run in a process, and those that pass are taken along."""
        modes, sequence, document = self.modes(), self.sequence, self.document
        if not document.edit(f"Modes of {sequence}", lambda p: build_modes(p, sequence, modes, self.board.isChecked())):
            return
        if self.shown.isChecked():
            told = self.told

            def take(tried: Tried) -> None:
                names = {s.name for s in tried.passed}

                def put(p: Project) -> Project:
                    kept = tuple(s for s in p.scenarios if s.name not in names)
                    return put_items(p, "scenarios", (*kept, *tried.passed))

                if tried.passed and document.project.sequence(sequence) is not None:
                    document.edit("Scenarios of the modes", put)
                told(tried.said())

            self.tasks.in_process("Scenarios of the modes", take, try_modes, document.project, sequence, modes)
        self.accept()
