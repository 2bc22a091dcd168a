"""The signal list: typed like a spreadsheet, with where the selected signal is used beside it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QMenu,
    QPushButton,
    QSplitter,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.document import Document
from spokeshave.desktop.empty_hint import EmptyHint
from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.signals.columns import ADDRESS, NAME, signal_columns
from spokeshave.desktop.signals.importing import ImportPanel
from spokeshave.desktop.tables import ItemTable, ItemView, NextRow
from spokeshave.desktop.theme import theme
from spokeshave.formats.errors import FormatError
from spokeshave.formats.signal_table import FIELDS, Import, guess_mapping, plan_import, write_table
from spokeshave.formats.tables.grid import read_sheets
from spokeshave.language.rename import check_new_name
from spokeshave.model import edits
from spokeshave.model.addresses import address_problems
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Signal, SignalClass
from spokeshave.verify.usage import Use, uses

_WORDS = {"read": "read", "write": "written", "act": "acted on", "sense": "given by", "drive": "drives"}
TABLES = "Tables (*.csv *.xlsx *.tsv *.txt)"


class SignalList(QWidget):
    """Filter, grouping and the list; on the right every place that reads or writes the selected signal."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self._wired: dict[str, str] = {}
        self._uses: dict[str, list[Use]] = {}
        self._counted: Project | None = None
        self._listed: tuple[Signal, ...] | None = None
        columns = signal_columns(lambda s: self._wired.get(s.name.lower(), ""), self._state)
        coming = NextRow(NAME, "Next name", "Add a signal", self._named)
        self.table = ItemTable(document, lambda p: p.signals, columns, coming)
        self.view = ItemView(self.table, "Signals")
        self.view.setSortingEnabled(False)
        self.view.horizontalHeader().setSectionsClickable(True)
        self.view.horizontalHeader().sectionClicked.connect(self.sort_by)
        self.view.horizontalHeader().setToolTip(
            "Click sorts what is shown; a second click shows the listed order again"
        )
        self.view.take_rows = self._paste
        self.view.insert_asked.connect(self.insert)
        self.empty = EmptyHint(self.view, "List inputs and outputs before any logic: paste rows from a spreadsheet (Ctrl+V), "
                               "take a list in, or type them.",
                               (("Add a signal", self.add), ("Import a list ...", self.ask_import)))  # fmt: skip
        self.sorted_by = -1
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter")
        self.filter.setClearButtonEnabled(True)
        self.filter.setToolTip("By name, address, device or comment")
        self.filter.setMaximumWidth(220)
        self.filter.setMinimumWidth(140)
        self.filter.textChanged.connect(self._filter)
        self.cls = self._box(
            "Class of signals shown", ["all", *(c.value for c in SignalClass), "unused", "not wired", "with a fault"]
        )
        self.cls.currentTextChanged.connect(self._filter)
        self.by = self._box("Order of the list", ["as listed", "by class", "by device"])
        self.by.currentTextChanged.connect(lambda _: self.order())
        self.note = TextLabel()
        self.note.setObjectName("fault")
        self.used = QTreeWidget()
        self.used.setAccessibleName("Where the signal is used")
        self.used.setHeaderLabels(["Used", "Where"])
        self.used.setRootIsDecorated(False)
        self.used.header().setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)
        self.used.itemClicked.connect(self._go)
        self.used.itemActivated.connect(self._go)
        self.panel = ImportPanel(document)
        self.panel.hide()
        top = QHBoxLayout()
        top.setSpacing(8)
        top.setContentsMargins(8, 6, 8, 6)
        for widget in (self.filter, self.cls, self.by):
            top.addWidget(widget)
        top.addWidget(self.note, 1)
        table = QPushButton("Table")
        menu = QMenu(table)
        menu.addAction("Import CSV or XLSX ...", self.ask_import)
        menu.addAction("Export as CSV or XLSX ...", self.ask_export)
        menu.addSeparator()
        menu.addAction("Keep the shown order", self.keep_order)
        menu.addAction("Next free addresses for the selected", self.give_addresses)
        table.setMenu(menu)
        top.addWidget(table)
        for title, run in (("Add a signal", self.add), ("Delete", self.remove)):
            button = QPushButton(title)
            button.clicked.connect(run)
            top.addWidget(button)
        across = QSplitter(Qt.Orientation.Horizontal)
        across.addWidget(self.view)
        across.addWidget(self.used)
        across.setSizes([860, 190])
        across.setStretchFactor(0, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.panel)
        column.addWidget(across, 1)
        self.view.selectionModel().currentChanged.connect(self._selected)
        self.table.typing.connect(self.note.setText)
        document.changed.connect(self.refresh)
        document.checked.connect(self._mark)
        selection.changed.connect(self.follow)
        self.refresh()
        self.view.select_row(0)

    @staticmethod
    def _box(name: str, entries: list[str]) -> QComboBox:
        box = QComboBox()
        box.addItems(entries)
        box.setAccessibleName(name)
        return box

    # -- what is shown

    def summary(self) -> str:
        counts = {c: sum(s.cls is c for s in self.document.project.signals) for c in SignalClass}
        text = ", ".join(f"{n} {c.value}{'s' if n != 1 else ''}" for c, n in counts.items() if n)
        return text or "List inputs and outputs before any logic."

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        self.note.setText("")
        self.empty.show_while(not self.document.project.signals)
        if not self.isVisible() or self._counted is self.document.project:
            return
        self._counted = self.document.project
        self._wired = {}
        for d in self.document.project.devices:
            for _, signal in d.wires:
                self._wired.setdefault(signal.lower(), d.name)
        self._uses = {}
        for use in uses(self.document.project):
            self._uses.setdefault(use.name, []).append(use)
        if self._listed is not self.table.rows:
            self._listed = self.document.project.signals
            self._mark()
            self.order()
        self._selected()

    def _state(self, s: Signal) -> str:
        """`unused`, `not wired`, or how many places speak of it."""
        found = self._uses.get(s.name.lower(), ())
        logic = [u for u in found if u.how in ("read", "write", "act")]
        wired = s.name.lower() in self._wired
        if not logic:
            return "unused" if not wired else "not in logic"
        if s.cls in (SignalClass.INPUT, SignalClass.OUTPUT) and not wired:
            return f"{len(logic)}, not wired"
        return str(len(logic))

    def _filter(self) -> None:
        text, cls = self.filter.text().lower(), self.cls.currentText()
        wrong = {row for row, _ in self.table.marks}
        for row, s in enumerate(self.table.rows):
            said = f"{s.name} {s.comment} {s.address} {self._wired.get(s.name.lower(), '')}".lower()
            state = self._state(s)
            kind = (
                cls in ("all", s.cls.value)
                or (cls == "unused" and state.startswith(("unused", "not in")))
                or (
                    cls == "not wired"
                    and ("not wired" in state or state == "unused")
                    and s.cls.value in ("input", "output")
                )
                or (cls == "with a fault" and row in wrong)
            )
            self.view.setRowHidden(row, not (text in said and kind))

    def order(self) -> None:
        """Puts the rows in the chosen order, groups on alternating ground."""
        rows, by = self.table.rows, self.by.currentText()
        classes = list(SignalClass)

        def group(s: Signal) -> object:
            if by == "by class":
                return classes.index(s.cls)
            return self._wired.get(s.name.lower(), "\uffff") if by == "by device" else 0

        def key(row: int) -> tuple[object, object]:
            column = self.table.columns[self.sorted_by].get(rows[row]).lower() if self.sorted_by >= 0 else ""
            return group(rows[row]), (not column, column) if self.sorted_by >= 0 else row

        listed = sorted(range(len(rows)), key=key)
        self.view.arrange(listed)
        shaded, dark, before = set(), True, None
        for row in listed:
            here = group(rows[row])
            if here != before:
                dark, before = not dark, here
            if dark:
                shaded.add(row)
        self.table.shaded = frozenset(shaded if by != "as listed" else ())
        self._filter()
        self.view.viewport().update()

    def sort_by(self, column: int) -> None:
        self.sorted_by = -1 if self.sorted_by == column else column
        header = self.view.horizontalHeader()
        header.setSortIndicatorShown(self.sorted_by >= 0)
        header.setSortIndicator(column, Qt.SortOrder.AscendingOrder)
        self.order()

    def keep_order(self) -> None:
        """The listed order becomes the one that is shown."""
        header = self.view.verticalHeader()
        listed = [header.logicalIndex(v) for v in range(len(self.table.rows))]
        if listed != sorted(listed):
            self.document.edit(
                "Order the signals", lambda p: edits.put_items(p, "signals", tuple(p.signals[i] for i in listed))
            )
            self.sorted_by = -1
            self.by.setCurrentIndex(0)
            self.order()

    def _mark(self) -> None:
        """Marks the names that findings are about, and addresses that clash."""
        about = {d.place.item.lower(): d.message for d in reversed(self.document.findings) if d.place.kind == "signal"}
        clashes = address_problems(self.document.project.signals)
        marks = {(i, NAME): about[s.name.lower()] for i, s in enumerate(self.table.rows) if s.name.lower() in about}
        marks |= {(i, ADDRESS): clashes[s.name] for i, s in enumerate(self.table.rows) if s.name in clashes}
        self.table.set_marks(marks)

    # -- the selected signal

    def _selected(self) -> None:
        row = self.view.current_row()
        self.used.clear()
        if not 0 <= row < len(self.table.rows):
            return
        s = self.table.rows[row]
        if not self.isVisible():
            return
        self.selection.set(Place("signal", item=s.name))
        found = self._uses.get(s.name.lower(), [])
        for use in dict.fromkeys((u.how, u.place) for u in found):
            item = QTreeWidgetItem([_WORDS.get(use[0], use[0]), str(use[1])])
            item.setData(0, Qt.ItemDataRole.UserRole, use[1])
            item.setToolTip(1, plain(str(use[1])))
            self.used.addTopLevelItem(item)
        problem = self.table.marks.get((row, ADDRESS)) or self.table.marks.get((row, NAME))
        if not found:
            item = QTreeWidgetItem(["nowhere", "no text, step or device speaks of it"])
            item.setForeground(1, theme.colour("faint"))
            self.used.addTopLevelItem(item)
        self.note.setText(problem or "")
        self.note.setToolTip(plain(problem or ""))

    def _go(self, item: QTreeWidgetItem) -> None:
        place = item.data(0, Qt.ItemDataRole.UserRole)
        if isinstance(place, Place):
            self.selection.go(place)

    def follow(self) -> None:
        """Selects the row of the signal that is selected elsewhere."""
        p = self.selection.place
        if p.kind == "signal":
            for row, s in enumerate(self.table.rows):
                if s.name.lower() == p.item.lower() and row != self.view.current_row():
                    self.view.select_row(row)

    # -- edits

    def add(self) -> None:
        self.view.type_next()

    def insert(self) -> None:
        """A signal under the current one, its name to be typed over."""
        row = self.view.current_row()
        self.view.end_typing()
        if row < 0 or row + 1 == len(self.table.rows):
            self.view.type_next()
        elif self.document.edit("Add a signal", lambda p: edits.new_signal(p, p.signals[row].cls, row + 1)):
            self.view.select_row(row + 1)
            self.view.edit(self.table.index(row + 1, NAME))

    def _named(self, project: Project, name: str) -> Project:
        """One more signal of this name, at the end: of the class that is filtered for, else of that of the last one."""
        names = [c.value for c in SignalClass]
        last = project.signals[-1].cls if project.signals else SignalClass.INPUT
        cls = SignalClass(self.cls.currentText()) if self.cls.currentText() in names else last
        check_new_name(project, "", name)
        return edits.add_item(project, "signals", Signal(name, cls, edits.usual_type(cls)))

    def remove(self) -> None:
        rows = sorted({r for r, _ in self.view.cells()}, reverse=True)

        def change(p: Project) -> Project:
            for row in rows:
                p = edits.remove_item(p, "signals", row)
            return p

        if rows:
            name = "a signal" if len(rows) == 1 else f"{len(rows)} signals"
            self.document.edit(f"Delete {name}", change)

    def _paste(self, rows: list[list[str]], cells: list[tuple[int, int]]) -> bool:
        """Several rows are taken as a whole, or what is wrong with them is told and nothing changes.

        A first line of headings says which column is which. Rows onto existing ones change those, cell by cell from the
        current one on; what is beyond the last one, or pasted into an empty list, becomes new signals.
        """
        heads = guess_mapping(rows[0])
        if "name" in heads.values() and len(rows) > 1 and len(heads) == len([c for c in rows[0] if c.strip()]):
            return self._paste_plan(plan_import(self.document.project, rows[1:], heads, 2))
        if len(rows) == 1 and len(rows[0]) == 1 and cells:
            return False
        columns = [c.title.lower() for c in self.table.columns]
        left = cells[0][1] if cells else 0
        shown = [c for c in range(left, len(columns)) if not self.view.isColumnHidden(c)]
        mapping = {i: columns[c] for i, c in enumerate(shown) if columns[c] in FIELDS}
        under = self.view.rows_from(cells[0][0]) if cells else []
        texts = {(r, c): cell for r, row in zip(under, rows) for c, cell in zip(shown, row)}
        problems = self.table.problems_of(texts)
        beyond = rows[len(under) :]
        plan = plan_import(self.document.project, beyond, mapping, len(under) + 1) if beyond else None
        problems += list(plan.problems) if plan is not None else []
        if problems:
            return self._refuse(problems)
        changes = self.table.changes_of(texts)

        def change(p: Project) -> Project:
            for one in changes:
                p = one(p)
            if plan is not None:
                p = edits.put_items(p, "signals", plan_import(p, beyond, mapping).signals)
            return p

        if changes or plan is not None:
            self.document.edit(f"Paste {len(rows)} rows", change)
        return True

    def _paste_plan(self, plan: Import) -> bool:
        if plan.problems:
            return self._refuse(list(plan.problems))
        name = f"Paste {len(plan.new)} signals" if plan.new else f"Paste over {len(plan.changed)} signals"
        if plan.new or plan.changed:
            self.document.edit(name, lambda p: edits.put_items(p, "signals", plan.signals))
        return True

    def _refuse(self, problems: list[str]) -> bool:
        more = f"; and {len(problems) - 4} more" if len(problems) > 4 else ""
        self.document.refused.emit(f"Nothing was pasted. {'; '.join(problems[:4])}{more}")
        return True

    def give_addresses(self) -> None:
        """Each selected signal without an address gets the next free one of its class."""
        rows = list(dict.fromkeys(r for r, _ in self.view.cells()))

        def change(p: Project) -> Project:
            for row in rows:
                if not p.signals[row].address:
                    address = self.table.columns[ADDRESS].words
                    assert address is not None
                    p = edits.change_item(p, "signals", row, address=address(p, row)[0])
            if p is self.document.project:
                raise EditError("all selected signals have an address")
            return p

        self.document.edit("Give addresses", change)

    # -- tables

    def ask_import(self) -> None:
        start = str((self.document.path or Path.cwd()).parent)
        name, _ = QFileDialog.getOpenFileName(self, "Import a signal list", start, TABLES)
        if name:
            self.open_table(Path(name))

    def open_table(self, path: Path) -> None:
        """Shows how the columns of a table would be taken in."""
        try:
            sheets = read_sheets(path)
        except FormatError as error:
            self.document.refused.emit(str(error))
            return
        if not any(s.rows for s in sheets):
            self.document.refused.emit(f"{path.name} has no rows")
            return
        self.panel.show_table(path.name, sheets)

    def ask_export(self) -> None:
        start = (self.document.path or Path.cwd() / "signals").with_suffix(".csv")
        name, _ = QFileDialog.getSaveFileName(self, "Export the signal list", str(start), "CSV (*.csv);;XLSX (*.xlsx)")
        if name:
            path = Path(name) if Path(name).suffix else Path(f"{name}.csv")
            try:
                write_table(self.document.project.signals, path)
            except FormatError as error:
                self.document.refused.emit(str(error))
