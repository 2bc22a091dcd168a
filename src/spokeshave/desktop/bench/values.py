"""The values table: every signal as it is now, what it is forced to, and a place to type a force or a value."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QSortFilterProxyModel, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.field_words import VALUES
from spokeshave.desktop.plain_text import plain
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.theme import theme
from spokeshave.engine.phases import elapsed_ms
from spokeshave.engine.program import Program, Recorded
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.literals import read_value, value_text
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Type

Index = QModelIndex | QPersistentModelIndex
_NO_PARENT = QModelIndex()
HEADS = ("Signal", "Value", "Forced to")


class ValuesModel(QAbstractTableModel):
    """A row a signal. Typing into *Value* of an input without a force, or of a setting, sets it; into *Forced to*
    forces it; an empty text ends the force.
    """

    def __init__(self, runner: Runner) -> None:
        super().__init__()
        self.runner = runner
        self.rows: list[Recorded] = []
        self._values: list[object] = []
        self._forces: dict[int, object] = {}
        self._program: object = None
        runner.advanced.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        shown = self.runner.shown()
        if shown is None:
            return
        program, s = shown
        if program is not self._program:
            self.beginResetModel()
            self._program = program
            self.rows = [r for r in program.recorded if r.kind != "step"] + _blocks(program)
            self.endResetModel()
        values = [s.v[r.slot] for r in self.rows]
        for i, r in enumerate(self.rows):  # a timer that runs is not touched in scans that were jumped over
            if r.kind == "timer":
                values[i] = elapsed_ms(program, s, r.slot - 3)
        if values != self._values or s.forces != self._forces:
            self._values, self._forces = values, dict(s.forces)
            if self.rows:
                self.dataChanged.emit(self.index(0, 1), self.index(len(self.rows) - 1, 2))

    def rowCount(self, parent: Index = _NO_PARENT) -> int:
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = _NO_PARENT) -> int:
        return 3

    def headerData(self, section: int, way: Qt.Orientation, role: int = 0) -> object:
        if role == Qt.ItemDataRole.DisplayRole and way == Qt.Orientation.Horizontal:
            return HEADS[section]
        if role == Qt.ItemDataRole.ToolTipRole and way == Qt.Orientation.Horizontal:
            return VALUES[HEADS[section]]
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        r = self.rows[index.row()]
        can = r.kind in ("input", "output") if index.column() == 2 else r.kind in ("input", "setting", "timer", "count")
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() and can else flags

    def data(self, index: Index, role: int = 0) -> object:
        if not index.isValid() or index.row() >= len(self.rows):
            return None
        r = self.rows[index.row()]
        forced = r.slot in self._forces
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            if index.column() == 0:
                return r.name
            if index.column() == 2:
                return f"● {value_text(self._forces[r.slot], r.type)}" if forced else ""  # type: ignore[arg-type]
            value = self._values[index.row()]
            return f"{value:g}" if r.type is Type.REAL else value_text(value, r.type)  # type: ignore[arg-type]
        if role == Qt.ItemDataRole.ForegroundRole:
            if forced:
                return theme.colour("forced")
            return theme.colour("ink" if self._values[index.row()] else "faint") if index.column() == 1 else None
        if role == Qt.ItemDataRole.TextAlignmentRole and index.column() == 1 and r.type is not Type.BOOL:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole:
            return plain(f"{r.kind} {r.name}, {r.type}")
        return None

    def setData(self, index: Index, value: object, role: int = 0) -> bool:
        r = self.rows[index.row()]
        text = str(value).replace("●", "").strip()
        if index.column() == 2 and not text:
            self.unforce(index.row())
            return True
        try:
            literal = read_value({"1": "TRUE", "0": "FALSE"}.get(text, text) if r.type is Type.BOOL else text, r.type)
        except ValueError as error:
            self.runner.refused.emit(f"{r.name}: {error}")
            return False
        self.runner.do("force" if index.column() == 2 else "set", r.name, literal)
        return True

    def force(self, row: int, value: object = None) -> None:
        """Forces a signal to a value, or to the one it has; a BOOL to the other one."""
        r = self.rows[row]
        if r.kind in ("input", "output"):
            now = self._values[row]
            wanted = (not now if r.type is Type.BOOL else now) if value is None else value
            self.runner.do("force", r.name, wanted)

    def unforce(self, row: int) -> None:
        if self.rows[row].slot in self._forces:
            self.runner.do("unforce", self.rows[row].name)


def _blocks(program: Program) -> list[Recorded]:
    """Rows for what blocks give: Q, the elapsed time of timers, the count of counters. Times and counts can be set."""
    out = []
    for i in program.project.all_instances:
        kind, base = program.instances[i.name.lower()]
        members = BLOCKS[kind].members()
        for n, (name, of) in enumerate(members):
            if name in {x for x, _ in BLOCKS[kind].outputs}:
                what = "timer" if name == "ET" else "count" if name == "CV" else "block"
                out.append(Recorded(f"{i.name}.{name}", of, base + n, what))
    return out


def unforce_all(runner: Runner) -> int:
    """Ends every force; how many there were."""
    session = runner.session
    if session is None:
        return 0
    by_slot = {slot: name for name, slot in session.program.slots.items()}
    names = [by_slot[slot] for slot in session.situation.forces]
    for name in names:
        runner.do("unforce", name)
    return len(names)


class _View(QTableView):
    """F forces the chosen signal to its opposite or present value, U ends the force."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        panel = self.parent()
        if event.key() == Qt.Key.Key_F and isinstance(panel, ValuesPanel):
            panel.force()
        elif event.key() == Qt.Key.Key_U and isinstance(panel, ValuesPanel):
            panel.unforce()
        else:
            super().keyPressEvent(event)


class ValuesPanel(QWidget):
    """The table with a filter and the three commands."""

    def __init__(self, runner: Runner, selection: Selection) -> None:
        super().__init__()
        self.runner, self.selection = runner, selection
        self.model = ValuesModel(runner)
        self.sorted = QSortFilterProxyModel()
        self.sorted.setSourceModel(self.model)
        self.sorted.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.sorted.setFilterKeyColumn(0)
        self.view = _View(self)
        self.view.setModel(self.sorted)
        self.view.setAccessibleName("Values")
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(22)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.view.setColumnWidth(1, 78)
        self.view.setColumnWidth(2, 78)
        self.view.clicked.connect(self._go)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter")
        self.filter.setAccessibleName("Filter of the values")
        self.filter.textChanged.connect(self.sorted.setFilterFixedString)
        row = QHBoxLayout()
        row.setContentsMargins(4, 3, 4, 3)
        row.setSpacing(4)
        row.addWidget(self.filter, 1)
        for text, tip, act in (
            ("Force", "To the other value, or as it is (F); type another into the table", self.force),
            ("Unforce", "Ends the force (U)", self.unforce),
            ("All off", "Ends all forces", lambda: unforce_all(runner)),
        ):
            button = QPushButton(text)
            button.setToolTip(plain(tip))
            button.clicked.connect(act)
            row.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(row)
        column.addWidget(self.view, 1)

    def _row(self) -> int:
        index = self.view.currentIndex()
        return self.sorted.mapToSource(index).row() if index.isValid() else -1

    def force(self) -> None:
        if self._row() >= 0:
            self.model.force(self._row())

    def unforce(self) -> None:
        if self._row() >= 0:
            self.model.unforce(self._row())

    def _go(self, index: QModelIndex) -> None:
        name = self.model.rows[self.sorted.mapToSource(index).row()].name
        block, dot, _ = name.partition(".")
        table = block.partition("[")[0]
        if self.runner.document.project.table(table) is not None:
            self.selection.set(Place("table", item=table))
        else:
            self.selection.set(Place("instance", item=block) if dot else Place("signal", item=name))
