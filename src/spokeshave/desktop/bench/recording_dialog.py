"""A recording of a real machine to be laid beside a run: which of its names is what, how much later it is, how far it may differ."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDoubleSpinBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.plain_text import TextLabel
from spokeshave.formats.recording import Recording
from spokeshave.model.project import Project, SignalClass
from spokeshave.verify.accepted import Change
from spokeshave.verify.recorded import RecordedError, matched, put_in_place, stimuli_of

LEFT_OUT = "left out"


class RecordingDialog(QDialog):
    """Proposes what each name is; *Lay beside* runs the machine file with the recorded inputs and compares all else."""

    def __init__(self, project: Project, recording: Recording, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.project, self.recording = project, recording
        self.setWindowTitle(f"{name} beside a run")
        self.resize(720, 560)
        self.says = TextLabel()
        self.says.setObjectName("hint")
        self.says.setWordWrap(True)
        lanes = [v.name for v in project.variables]
        lanes += [f"{q.name}.{s.name}.X" for q in project.sequences for s in q.steps]
        found = matched(project, recording.lanes)
        self.table = QTableWidget(len(recording.lanes), 3)
        self.table.setAccessibleName("Names of the recording")
        self.table.setHorizontalHeaderLabels(["In the recording", "Changes", "In the machine file"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.boxes: dict[str, QComboBox] = {}
        in_order = sorted(recording.lanes.items(), key=lambda lane: lane[0] in found)
        for row, (theirs, changes) in enumerate(in_order):  # first what nothing is called like
            for column, text in enumerate((theirs, str(len(changes)))):
                item = QTableWidgetItem(text)
                item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
                self.table.setItem(row, column, item)
            box = QComboBox()
            box.addItems([LEFT_OUT, *lanes])
            box.setCurrentText(found.get(theirs, LEFT_OUT))
            box.setAccessibleName(f"{theirs} is")
            box.currentTextChanged.connect(self.refresh)
            self.boxes[theirs] = box
            self.table.setCellWidget(row, 2, box)
        self.shift = QLineEdit("0 s")
        self.shift.setAccessibleName("How much later the recording is")
        self.shift.setMaximumWidth(90)
        self.shift.textChanged.connect(self.refresh)
        self.within_ms, self.within = QDoubleSpinBox(), QDoubleSpinBox()
        for spin, value, suffix, most in ((self.within_ms, 50, " ms", 1e6), (self.within, 1.0, "", 1e9)):
            spin.setRange(0, most)
            spin.setDecimals(0 if suffix else 2)
            spin.setValue(value)
            spin.setSuffix(suffix)
        self.within_ms.setAccessibleName("How far times may differ")
        self.within.setAccessibleName("How far numbers may differ")
        options = QHBoxLayout()
        for text, widget in (
            ("Later by", self.shift),
            ("Times may differ by", self.within_ms),
            ("numbers by", self.within),
        ):
            options.addWidget(TextLabel(text))
            options.addWidget(widget)
        options.addStretch(1)
        self.lay = QPushButton("Lay beside")
        self.lay.setObjectName("primary")
        self.lay.clicked.connect(self.accept)
        cancel = QPushButton("Cancel")
        cancel.clicked.connect(self.reject)
        row_box = QHBoxLayout()
        row_box.addWidget(self.says, 1)
        row_box.addWidget(cancel)
        row_box.addWidget(self.lay)
        column_box = QVBoxLayout(self)
        column_box.addWidget(self.table, 1)
        column_box.addLayout(options)
        column_box.addLayout(row_box)
        self.refresh()

    @property
    def names(self) -> dict[str, str]:
        """Names of the recording with what they are."""
        return {theirs: b.currentText() for theirs, b in self.boxes.items() if b.currentText() != LEFT_OUT}

    @property
    def shift_ms(self) -> int | None:
        """None for a text that is no time."""
        from spokeshave.language.literals import duration_ms

        try:
            return duration_ms(self.shift.text())
        except ValueError:
            return None

    def refresh(self) -> None:
        """What would be given, what compared, and what keeps it from being done."""
        names = list(self.names.values())
        twice = sorted({n for n in names if names.count(n) > 1})
        kinds = {v.name: v.cls for v in self.project.variables}
        given = [n for n in names if kinds.get(n) in (SignalClass.INPUT, SignalClass.SETTING)]
        wrong = (
            f"{twice[0]} is chosen twice" if twice
            else "Later by: write a time such as 1.5 s or -200 ms" if self.shift_ms is None
            else "choose what is to be compared: an output, a variable or a step" if len(given) == len(names)
            else self._impossible()
        )  # fmt: skip
        self.says.setText(
            wrong
            or f"{len(given)} inputs and settings are given, {len(names) - len(given)} others are compared, "
            f"{len(self.boxes) - len(names)} left out"
        )
        self.lay.setEnabled(not wrong)

    def _impossible(self) -> str:
        """What was recorded and cannot be a value of what it is said to be."""
        try:
            stimuli_of(self.project, self.lanes())
        except RecordedError as error:
            return str(error)
        return ""

    def lanes(self) -> dict[str, list[Change]]:
        """The recording by our names, in its place."""
        return put_in_place(self.recording.lanes, self.names, self.shift_ms or 0)

    @property
    def length_ms(self) -> int:
        return max(0, self.recording.end_ms + (self.shift_ms or 0))
