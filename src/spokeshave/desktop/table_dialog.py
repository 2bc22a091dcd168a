"""A table that is to become a sequence: what each column is taken as, what would come of it, before anything changes."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QSpinBox,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from spokeshave.desktop.plain_text import TextLabel, plain
from spokeshave.desktop.sequence.chart_small import LARGEST, SmallChart
from spokeshave.desktop.theme import theme
from spokeshave.formats.tables.book import Book, plan_of, with_signals
from spokeshave.formats.tables.columns import ROLES
from spokeshave.formats.tables.grid import Sheet
from spokeshave.formats.tables.plan import Plan
from spokeshave.formats.tables.steps import taken
from spokeshave.model.project import Project, Sequence

LEFT_OUT = "left out"
TITLES = {
    "number": "number", "name": "name of the step", "condition": "awaits", "duration": "lasts", "end": "ends at", "longest": "longest time",
    "shortest": "shortest time", "late": "when late", "permissive": "permissive", "priority": "priority", "way": "name of the way",
    "next": "leads to", "comment": "comment", "output": "output", "outputs": "list of outputs", "input": "input", "counter": "counter",
    "value": "value", "body": "body", "run": "sequence that is run",
}  # fmt: skip
"""What a column is, in words."""
MOST_SHOWN = 200
"""Rows that are shown; all are read."""


class TableDialog(QDialog):
    """`plan` is what would be taken in now; `taken` gives the file with it."""

    def __init__(self, book: Book, project: Project, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.book, self.base = book, project
        self.with_lists, self._list_notes, self._list_problems = with_signals(book, project)
        self.plan = Plan(book.sheets[0])
        self.setWindowTitle(f"{book.path.name} as a sequence")
        self.resize(1180, 720)
        self.sheets, self.heading, self.name = QComboBox(), QSpinBox(), QLineEdit()
        self.sheets.addItems([s.name or book.path.stem for s in book.sheets])
        first = book.steps[0] if book.steps else book.sheets[0]
        self.sheets.setCurrentIndex(book.sheets.index(first))
        self.heading.setRange(1, 1)
        self.name.setPlaceholderText("name of the sequence")
        self.name.setMinimumWidth(220)
        top = QHBoxLayout()
        for word, field in (("Sheet", self.sheets), ("Headings in row", self.heading), ("Sequence", self.name)):
            field.setAccessibleName(word)
            top.addWidget(TextLabel(word))
            top.addWidget(field)
        self.sheets.setEnabled(len(book.sheets) > 1)
        self.says = TextLabel()
        self.says.setObjectName("hint")
        top.addWidget(self.says, 1)
        self.cells = QTableWidget()
        self.cells.setAccessibleName("The table, and what each column is taken as")
        self.cells.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.cells.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.told = QListWidget()
        self.told.setAccessibleName("What was taken as what")
        self.told.setWordWrap(True)
        self.told.itemActivated.connect(self._go)
        self.told.itemClicked.connect(self._go)
        self.chart = SmallChart("The chart it becomes")
        below = QSplitter()
        below.addWidget(self.told)
        below.addWidget(self.chart)
        below.setSizes([760, 380])
        both = QSplitter(Qt.Orientation.Vertical)
        both.addWidget(self.cells)
        both.addWidget(below)
        both.setSizes([400, 260])
        self.buttons = QDialogButtonBox()
        self.take = self.buttons.addButton("Take in", QDialogButtonBox.ButtonRole.AcceptRole)
        self.take.setObjectName("primary")
        self.buttons.addButton(QDialogButtonBox.StandardButton.Cancel)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        column = QVBoxLayout(self)
        column.addLayout(top)
        column.addWidget(both, 1)
        column.addWidget(self.buttons)
        self.boxes: dict[int, QComboBox] = {}
        self._chosen: dict[int, str] = {}
        self._row: int | None = None
        """The row of headings that somebody has chosen."""
        self._fills = False
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(150)
        self._later.timeout.connect(self.look)
        self.sheets.currentIndexChanged.connect(lambda _: self.show_sheet())
        self.heading.valueChanged.connect(lambda _: self._again())
        self.name.textChanged.connect(lambda _: self._later.start())
        self.show_sheet()

    @property
    def sheet(self) -> Sheet:
        return self.book.sheets[self.sheets.currentIndex()]

    def taken(self) -> Project:
        """The file with the sequence, its signals and those of the lists of the workbook. Raises EditError."""
        return taken(self.with_lists, self.plan)

    def show_sheet(self) -> None:
        """Another sheet: columns are guessed anew."""
        self._chosen, self._row = {}, None
        self.plan = plan_of(self.book, self.sheet, self.with_lists, name=self.name.text().strip() or self._own_name())
        self._fills = True
        self.heading.setRange(1, max(1, len(self.sheet.rows)))
        self.heading.setValue(max(0, self.plan.heading) + 1)
        self._fills = False
        self._fill()
        self._tell()

    def _own_name(self) -> str:
        return self.sheet.name if len(self.book.sheets) > 1 else ""

    def _again(self) -> None:
        """Other headings: columns are guessed anew."""
        if not self._fills:
            self._chosen, self._row = {}, self.heading.value() - 1
            self.look()
            self._fill()

    def look(self) -> None:
        """Works out what taking the table in would do."""
        self._later.stop()
        name = self.name.text().strip() or self._own_name()
        self.plan = plan_of(self.book, self.sheet, self.with_lists, self._chosen or None, self._row, name)
        self._tell()

    def _fill(self) -> None:
        """The cells, with a box for each column on top."""
        sheet, first = self.sheet, max(0, self.plan.heading)
        roles = {c.index: c for c in self.plan.columns}
        rows = sheet.rows[first : first + MOST_SHOWN]
        self.cells.clear()
        self.cells.setColumnCount(sheet.width)
        self.cells.setRowCount(len(rows) + 1)
        self.cells.setVerticalHeaderLabels(["", *(str(first + n + 1) for n in range(len(rows)))])
        self.cells.setHorizontalHeaderLabels([_letter(c) for c in range(sheet.width)])
        self.boxes = {}
        for c in range(sheet.width):
            box = QComboBox()
            box.addItem(LEFT_OUT, "")
            for role in ROLES:
                box.addItem(TITLES[role], role)
            box.setAccessibleName(f"{sheet.cell(first, c) or _letter(c)} is taken as")
            box.setCurrentIndex(max(0, box.findData(roles[c].role if c in roles else "")))
            box.activated.connect(lambda _, c=c: self._choose(c))
            self.boxes[c] = box
            self.cells.setCellWidget(0, c, box)
        for r, row in enumerate(rows):
            for c, text in enumerate(row):
                item = QTableWidgetItem(text)
                if r == 0:
                    font = item.font()
                    font.setBold(True)
                    item.setFont(font)
                if (first + r, c) in sheet.filled and r:
                    item.setBackground(theme.colour("active_soft"))
                self.cells.setItem(r + 1, c, item)
        self.cells.resizeColumnsToContents()
        for c in range(sheet.width):
            self.cells.setColumnWidth(c, max(128, min(260, self.cells.columnWidth(c))))

    def _choose(self, column: int) -> None:
        """Somebody says what a column is; what was guessed of the others stays."""
        self._chosen = {c: str(box.currentData()) for c, box in self.boxes.items()}
        self.look()

    def _tell(self) -> None:
        plan = self.plan
        self.told.clear()
        rows = [(p, "late") for p in (*self._list_problems, *plan.problems)] + [(q, "false") for q in plan.questions]
        rows += [(n, "") for n in (*self._list_notes, *plan.notes)]
        for note, colour in rows:
            item = QListWidgetItem(str(note))
            item.setData(Qt.ItemDataRole.UserRole, (note.row, note.head))
            item.setToolTip(plain(str(note)))
            if colour:
                item.setForeground(theme.colour(colour))
            self.told.addItem(item)
        q = plan.sequence
        wrong = len(plan.problems) + len(self._list_problems)
        kinds = [s.cls.value for s in plan.signals]
        new = ", ".join(f"{kinds.count(k)} {k}{'s' if kinds.count(k) > 1 else ''}" for k in dict.fromkeys(kinds))
        steps = f"{len(q.steps)} steps" if q is not None else "no steps"
        self.says.setText(f"{steps}; new: {new or 'no signals'}" + (f"; {wrong} rows are wrong" if wrong else ""))
        self.take.setEnabled(q is not None and not wrong)
        small = q if q is not None and len(q.steps) <= LARGEST else Sequence("", "", ())
        self.chart.show_chart(small, {})

    def _go(self, item: QListWidgetItem) -> None:
        """The cell that is spoken of."""
        row, head = item.data(Qt.ItemDataRole.UserRole)
        first = max(0, self.plan.heading)
        column = next((c.index for c in self.plan.columns if head and c.head == head), 0)
        self.cells.setCurrentCell(max(1, row - first) if row else 1, column)


def _letter(column: int) -> str:
    """The letters that a spreadsheet has over a column.

    >>> _letter(0), _letter(27)
    ('A', 'AB')
    """
    out = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        out = chr(ord("A") + rest) + out
    return out
