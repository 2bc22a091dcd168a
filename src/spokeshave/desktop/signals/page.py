"""The signals: inputs and outputs before any logic, then internals and settings."""

from __future__ import annotations

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from spokeshave.desktop.document import Document
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.tables import Column, ItemTable, ItemView
from spokeshave.language.literals import read_value, value_text
from spokeshave.language.rename import rename_signal
from spokeshave.model import edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Signal, SignalClass, Type
from spokeshave.verify.usage import uses


def _change(project: Project, row: int, **changes: object) -> Project:
    return edits.change_item(project, "signals", row, **changes)


def _put_type(project: Project, row: int, text: str) -> Project:
    """Another type; an initial value that does not fit it goes back to the usual one."""
    return _change(project, row, type=Type(text.upper()), initial=None, home=None)


def _put_class(project: Project, row: int, text: str) -> Project:
    return _change(project, row, cls=SignalClass(text.lower()))


def _put_initial(project: Project, row: int, text: str) -> Project:
    kind = project.signals[row].type
    return _change(project, row, initial=read_value(text, kind) if text else None)


def _put_home(project: Project, row: int, text: str) -> Project:
    kind = project.signals[row].type
    return _change(project, row, home=read_value(text, kind) if text else None)


def _value(value: object, s: Signal) -> str:
    return "" if value is None else value_text(value, s.type)  # type: ignore[arg-type]


def signal_columns() -> list[Column]:
    """The columns of the signal list with their edits."""
    return [
        Column("Name", lambda s: s.name, lambda p, r, t: rename_signal(p, p.signals[r].name, t), 150, edit_name="Rename a signal"),
        Column("Class", lambda s: s.cls.value, _put_class, 84, [c.value for c in SignalClass]),
        Column("Type", lambda s: s.type.value, _put_type, 66, [t.value for t in Type]),
        Column("Address", lambda s: s.address, lambda p, r, t: _change(p, r, address=t), 88),
        Column("Contact", lambda s: s.contact.upper() if s.cls is SignalClass.INPUT and s.type is Type.BOOL else "",
               lambda p, r, t: _change(p, r, contact="nc" if t.lower() == "nc" else "no"), 72, ("NO", "NC")),
        Column("Initial", lambda s: _value(s.initial, s), _put_initial, 84, right=True),
        Column("Home", lambda s: _value(s.home, s), _put_home, 72, right=True),
        Column("Unit", lambda s: s.unit, lambda p, r, t: _change(p, r, unit=t), 52),
        Column("Comment", lambda s: s.comment, lambda p, r, t: _change(p, r, comment=t), 300),
    ]  # fmt: skip


class SignalsPage(QWidget):
    """The signal list with a filter, and where the selected signal is used."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self._listed: tuple[Signal, ...] | None = None
        self.table = ItemTable(document, lambda p: p.signals, signal_columns())
        self.view = ItemView(self.table, "Signals")
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter by name or comment")
        self.filter.setClearButtonEnabled(True)
        self.filter.setMaximumWidth(260)
        self.filter.textChanged.connect(self._filter)
        self.cls = QComboBox()
        self.cls.addItems(["all", *(c.value for c in SignalClass)])
        self.cls.setAccessibleName("Class of signals shown")
        self.cls.currentTextChanged.connect(self._filter)
        self.summary = QLabel()
        self.summary.setObjectName("heading")
        self.used = QLabel()
        self.used.setWordWrap(True)
        self.used.setMargin(10)
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(12, 8, 12, 8)
        top.addWidget(self.summary, 1)
        top.addWidget(self.filter)
        top.addWidget(self.cls)
        for title, run in (("Add a signal", self.add), ("Delete", self.remove)):
            button = QPushButton(title)
            button.clicked.connect(run)
            top.addWidget(button)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.view, 1)
        column.addWidget(self.used)
        self.view.selectionModel().currentChanged.connect(self._selected)
        document.changed.connect(self.refresh)
        document.checked.connect(self._mark)
        selection.changed.connect(self._follow)
        self.refresh()
        self._mark()
        self.view.select_row(0)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self._selected()

    def refresh(self) -> None:
        if self.document.project.signals is self._listed:
            self._selected()
            return
        self._listed = self.document.project.signals
        counts = {c: sum(s.cls is c for s in self.document.project.signals) for c in SignalClass}
        text = ", ".join(f"{n} {c.value}{'s' if n != 1 else ''}" for c, n in counts.items() if n)
        self.summary.setText(text or "List inputs and outputs before any logic.")
        self._filter()
        self._selected()

    def _filter(self) -> None:
        text, cls = self.filter.text().lower(), self.cls.currentText()
        for row, s in enumerate(self.table.rows):
            shown = (text in s.name.lower() or text in s.comment.lower()) and cls in ("all", s.cls.value)
            self.view.setRowHidden(row, not shown)

    def _mark(self) -> None:
        """Marks the names that findings are about."""
        about = {d.place.item.lower(): d.message for d in reversed(self.document.findings) if d.place.kind == "signal"}
        self.table.set_marks(
            {(i, 0): about[s.name.lower()] for i, s in enumerate(self.table.rows) if s.name.lower() in about}
        )

    def _selected(self) -> None:
        if not self.isVisible():
            return
        row = self.view.current_row()
        if not 0 <= row < len(self.table.rows):
            self.used.setText("")
            return
        name = self.table.rows[row].name
        if self.isVisible():
            self.selection.set(Place("signal", item=name))
        places: dict[str, list[str]] = {}
        for use in uses(self.document.project):
            if use.name == name.lower():
                places.setdefault(use.how, []).append(str(use.place))
        words = {"read": "read in", "write": "written in", "act": "acted on in", "sense": "given by", "drive": "drives"}
        parts = [f"<b>{words[how]}</b> {'; '.join(dict.fromkeys(found))}" for how, found in places.items()]
        self.used.setText(f"<b>{name}</b> is " + (", ".join(parts) if parts else "used nowhere"))

    def _follow(self) -> None:
        p = self.selection.place
        if p.kind == "signal":
            for row, s in enumerate(self.table.rows):
                if s.name.lower() == p.item.lower() and row != self.view.current_row():
                    self.view.select_row(row)

    def add(self) -> None:
        row = max(-1, self.view.current_row())
        cls = SignalClass(self.cls.currentText()) if self.cls.currentText() != "all" else SignalClass.INPUT
        if self.document.edit("Add a signal", lambda p: edits.new_signal(p, cls, row + 1)):
            self.view.select_row(row + 1)
            self.view.edit(self.table.index(row + 1, 0))

    def remove(self) -> None:
        row = self.view.current_row()
        if row >= 0:
            self.document.edit("Delete a signal", lambda p: edits.remove_item(p, "signals", row))
