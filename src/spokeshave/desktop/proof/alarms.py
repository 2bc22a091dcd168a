"""All alarms in one table: what raises each, what it says, how urgent it is, where it points, which scenario shows it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from spokeshave.desktop.cell_editors import Index
from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.field_words import ALARMS
from spokeshave.desktop.plain_text import TextLabel
from spokeshave.desktop.seen import while_seen
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.tables import Column, ItemTable, ItemView
from spokeshave.desktop.theme import theme
from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.engine.text_faults import condition_problems
from spokeshave.formats.disk import write_text_atomically
from spokeshave.formats.errors import FormatError
from spokeshave.model.alarm_edits import change_alarm, new_alarm, remove_alarm
from spokeshave.model.alarm_sources import sources
from spokeshave.model.alarms import CLASSES
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project
from spokeshave.verify.alarm_list import HEADS, Listed, alarm_list, as_csv

NAME, WHEN, TEXT, CLASS, DELAY, DEVICE, SHOWN = range(len(HEADS))
WIDTHS = (170, 250, 320, 84, 80, 110, 200)
_ELSEWHERE = {
    NAME: "this alarm is called after what raises it: rename the step, the trip or the sequence",
    WHEN: "windows and holds are edited in the sequence, trips in the matrix",
    DELAY: "an alarm with a condition of its own has a delay; a window has its longest time",
}
EMPTY = (
    "Nothing tells an operator that something is wrong yet. Steps with a longest time, trips and holds raise alarms by themselves; "
    "others get a condition here."
)


class AlarmRows:
    """The list of a document's alarms, made again when something in it changed."""

    def __init__(self) -> None:
        self._of: tuple[object, ...] = ()
        self._rows: list[Listed] = []

    def __call__(self, project: Project) -> Sequence[Listed]:
        of = (project.sequences, project.trips, project.alarms, project.scenarios)
        if len(self._of) != len(of) or any(a is not b for a, b in zip(self._of, of)):
            self._of, self._rows = of, alarm_list(project)
        return self._rows


class AlarmTable(ItemTable):
    """Rows whose last column says what is not shown yet."""

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row: Listed = self.rows[index.row()]
        if role == Qt.ItemDataRole.DisplayRole and index.column() == SHOWN:
            return f"✓ {row.cells[SHOWN]}" if row.scenarios else "○ no scenario" if row.told else ""
        if role == Qt.ItemDataRole.ForegroundRole:
            if index.column() == SHOWN:
                return theme.colour("true" if row.scenarios else "faint")
            if index.column() == CLASS:
                return theme.colour({"fault": "late", "warning": "ink"}.get(row.cells[CLASS], "faint"))
            spoken = row.source.rule is not None and bool(row.source.rule.text.strip())
            own = not row.source.on if index.column() in (NAME, WHEN, DELAY) else index.column() != TEXT or spoken
            return theme.colour("ink" if own else "faint")
        return super().data(index, role)


class AlarmsPanel(QWidget):
    """`scenario_asked` carries the name of a scenario to look at."""

    scenario_asked = Signal(str)

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.setProperty("manual", "alarms#In the desktop")
        self.model = AlarmTable(document, AlarmRows(), self._columns())
        self.table = ItemView(self.model, "Alarms of the machine file")
        for i, width in enumerate(WIDTHS):
            self.table.setColumnWidth(i, width)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.table.doubleClicked.connect(self._look)
        self.add, self.drop, self.go = (
            QPushButton("New alarm"),
            QPushButton("Delete"),
            QPushButton("Go to what raises it"),
        )
        self.write = QPushButton("Write as a table ...")
        self.add.setObjectName("primary")
        self.drop.setToolTip(
            "An alarm of its own, or the words of a window, trip or hold, which goes on telling by itself"
        )
        self.write.setToolTip("For panel and manual: a line an alarm (CSV)")
        self.says = TextLabel()
        self.says.setObjectName("hint")
        top = QHBoxLayout()
        top.setContentsMargins(12, 8, 12, 6)
        top.setSpacing(8)
        for button, act in (
            (self.add, self.new),
            (self.drop, self.remove),
            (self.go, self.to_source),
            (self.write, self.ask_table),
        ):
            button.clicked.connect(act)
            top.addWidget(button)
        top.addWidget(self.says, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addLayout(top)
        whole.addWidget(self.table, 1)
        self.empty = EmptyHint(self.table, EMPTY, (("New alarm", self.new),))
        self.model.typing.connect(self.says.setText)
        self.table.selectionModel().currentChanged.connect(lambda *_: self._enable())
        self.model.modelReset.connect(self._enable)
        self.model.wait_with(self)
        while_seen(self, document.changed, self.refresh)
        self.refresh()

    def _columns(self) -> list[Column]:
        def changed(at: int, field: str) -> Callable[[Project, int, str], Project]:
            def put(project: Project, row: int, text: str) -> Project:
                source = list(sources(project))[row]
                if source.on and at in _ELSEWHERE:
                    raise EditError(_ELSEWHERE[at])
                return change_alarm(project, source, **{field: text})

            return put

        def names(project: Project, row: int) -> Sequence[str]:
            return sorted(TextScope(SlotTable(project)).known(), key=str.lower)

        def problem(project: Project, row: int, text: str) -> str:
            return next((p.message for p in condition_problems(project, None, text)), "")

        def devices(project: Project, row: int) -> Sequence[str]:
            return [d.name for d in project.devices]

        def shown(at: int) -> Callable[[Any], str]:
            return lambda item: self._text(item, at)

        fields = {NAME: "name", WHEN: "condition", TEXT: "text", CLASS: "cls", DELAY: "delay", DEVICE: "device"}
        words = {WHEN: names, DEVICE: devices}
        return [
            Column(
                head.capitalize(), shown(i), changed(i, fields[i]) if i in fields else None, WIDTHS[i],
                CLASSES if i == CLASS else (), edit_name=f"Change the {head} of an alarm", words=words.get(i),
                check=problem if i == WHEN else None, clears=i in (TEXT, DELAY, DEVICE), says=ALARMS[head.capitalize()],
            )
            for i, head in enumerate(HEADS)
        ]  # fmt: skip

    @staticmethod
    def _text(item: Listed, column: int) -> str:
        """What a cell holds: of an alarm of its own the condition without its delay, which has a cell."""
        if column == WHEN and not item.source.on:
            return item.rule.condition
        return item.cells[column]

    def refresh(self) -> None:
        """Follows the document."""
        self._enable()
        self.empty.show_while(not self.model.rows)
        told = [row for row in self.model.rows if row.told]
        open_ = sum(not row.scenarios for row in told)
        count = f"{len(told)} alarm{'s' if len(told) > 1 else ''}"
        self.says.setText(f"{count}, {open_} of them in no scenario" if told else "")

    @property
    def current(self) -> Listed | None:
        """The alarm of the current row."""
        row = self.table.current_row()
        return self.model.rows[row] if 0 <= row < len(self.model.rows) else None

    def _enable(self) -> None:
        row = self.current
        self.drop.setEnabled(row is not None and row.source.rule is not None)
        self.go.setEnabled(row is not None and bool(row.source.on))
        self.write.setEnabled(bool(self.model.rows))

    # -- what is done

    def new(self) -> None:
        """One more alarm, with its name ready to be typed, and its condition behind it."""
        if self.document.edit("New alarm", new_alarm):
            self.table.select_row(len(self.model.rows) - 1, NAME)
            self.table.setFocus()

    def remove(self) -> None:
        row = self.current
        if row is not None:
            self.document.edit("Delete an alarm", lambda p: remove_alarm(p, row.source))

    def to_source(self) -> None:
        """To the step, sequence or trip that raises the alarm."""
        row = self.current
        if row is not None and row.source.on:
            self.selection.go(row.source.place)

    def _look(self, index: Index) -> None:
        row = self.model.rows[index.row()]
        if index.column() == SHOWN and row.scenarios:
            self.scenario_asked.emit(row.scenarios[0])

    def go_to(self, place: Place) -> None:
        """The row of an alarm, by its name or by what raises it."""
        for i, row in enumerate(self.model.rows):
            if place.item.lower() in (row.source.phrase.lower(), row.source.on.lower()):
                self.table.select_row(i, TEXT)

    def ask_table(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write the alarms as a table", "alarms.csv", "CSV (*.csv)")
        if path:
            self.write_table(Path(path))

    def write_table(self, path: Path) -> None:
        """Writes a line an alarm. What goes wrong is said beside the buttons."""
        try:
            write_text_atomically(as_csv(list(self.model.rows)), path)
        except (FormatError, OSError) as error:
            self.says.setText(str(error))
        else:
            self.says.setText(f"written to {path.name}")
