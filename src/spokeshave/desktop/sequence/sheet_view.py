"""The sheet on the screen: selection, columns, the run's measured times and bars, and the keys."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex, QRectF, Qt, QTimer
from PySide6.QtGui import (
    QContextMenuEvent,
    QFocusEvent,
    QFontMetrics,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QResizeEvent,
    QShowEvent,
)
from PySide6.QtWidgets import QAbstractItemDelegate, QAbstractItemView, QApplication, QTableView, QWidget

from spokeshave.desktop.cell_editors import is_current
from spokeshave.desktop.runner import Runner
from spokeshave.desktop.sequence.editor import PROGRAM, SequenceEditor
from spokeshave.desktop.sequence.live import Live
from spokeshave.desktop.sequence.next_step import NextStep
from spokeshave.desktop.sequence.sheet import FIRST_MARK, FLOW, NUMBER, STEP, Sheet, lasted_text
from spokeshave.desktop.sequence.sheet_cells import SheetDelegate, SheetHeader
from spokeshave.desktop.sequence.sheet_widths import LASTED, awaits_width, usual_widths
from spokeshave.desktop.sequence.step_menu import BRANCHES, ENDS, StepMenu
from spokeshave.desktop.theme import text_font, theme
from spokeshave.formats.sequencer_table import from_text, to_text
from spokeshave.model.project import Type
from spokeshave.verify.measure import Measured, measure

ROW_H = 28
ROWS_AT_ONCE = 6
BARS = 130
"""Room that the bars of the last run keep."""
MEASURED_MS = 250
"""How often times and bars over the whole run are looked at again while it goes on."""


class SheetView(QTableView):
    """The sheet of one sequence. Insert makes a step after, Shift+Insert before; typing edits, Space toggles a mark."""

    def __init__(self, sheet: Sheet, editor: SequenceEditor, runner: Runner) -> None:
        super().__init__()
        self.sheet, self.editor, self.runner, self.selection = sheet, editor, runner, editor.selection
        self.live = Live()
        self._late: set[str] = set()
        """Steps whose rows are to be painted again."""
        self._again = QTimer(self)
        self._again.setSingleShot(True)
        self._again.setInterval(MEASURED_MS)
        self._again.timeout.connect(self._show_measured)
        self.measured: Measured | None = None
        self.comments_wanted = False
        self._follows = False
        self._awaits = 0
        """The width that conditions were given last."""
        self._taken_at: tuple[int, int] | None = None
        """The current cell, while what was typed in it is taken."""
        self.next_step = NextStep(self.viewport())
        self.next_step.named.connect(self._add_named)
        self.next_step.entered.connect(self.updateGeometries)
        self.next_step.left_up.connect(lambda: self._to_row(self.sheet.rowCount() - 1, STEP))
        self.next_step.left_on.connect(lambda: self._to_row(self.sheet.rowCount() - 1, STEP + 1))
        sheet.setParent(self)
        sheet.shown = self.isVisible
        self.setModel(sheet)
        self.setAccessibleName(f"Sheet of {sheet.name}")
        self.setHorizontalHeader(SheetHeader(self))
        self.setItemDelegate(SheetDelegate(self))
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(ROW_H)
        self.setWordWrap(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        sheet.modelReset.connect(self._arrange)
        sheet.columns_changed.connect(self._arrange)
        sheet.dataChanged.connect(self._follow_conditions)
        self.selectionModel().selectionChanged.connect(self._tell_selection)
        self.selectionModel().currentChanged.connect(self._tell_selection)
        self.selection.changed.connect(self._follow_selection)
        runner.advanced.connect(self.follow_run)
        self._arrange()
        self.follow_run()

    def _arrange(self) -> None:
        """Gives columns the room their texts need, found from the longest ones."""
        sheet = self.sheet
        self.horizontalHeader().setMinimumSectionSize(24)
        for column, width in usual_widths(sheet).items():
            if self.columnWidth(column) != width:
                self.setColumnWidth(column, width)
        # Which columns are hidden hangs on what they are, not on where they stood before.
        for column in range(sheet.columnCount()):
            self.setColumnHidden(column, column == sheet.clock and sheet.ends is None)
        self.horizontalHeader().setStretchLastSection(True)
        self.show_comments(self.comments_wanted)
        self._measure()
        self._awaits = self.columnWidth(sheet.awaits)
        self._widen_awaits()

    def _widen_awaits(self) -> None:
        """Conditions get what room is left, as far as they need it."""
        others = sum(self.columnWidth(c) for c in range(self.sheet.columnCount() - 1) if c != self.sheet.awaits)
        free = self.viewport().width() - others - BARS
        width = awaits_width(self.sheet, free)
        if width != self._awaits == self.columnWidth(self.sheet.awaits):  # nobody has drawn it wider or narrower
            self.setColumnWidth(self.sheet.awaits, width)
            self._awaits = width

    def _follow_conditions(self, first: QModelIndex, last: QModelIndex) -> None:
        if first.column() <= self.sheet.awaits <= last.column():
            self._widen_awaits()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._widen_awaits()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.sheet.refresh()
        self.sheet.take_findings()
        self._follow_selection()
        self.follow_run()

    def show_comments(self, wanted: bool) -> None:
        """Comments are in the tool tips of the steps; their column is there for writing many."""
        self.comments_wanted = wanted
        self.setColumnHidden(self.sheet.comment, not wanted)

    # -- the line for the next step

    def updateGeometries(self) -> None:
        """One row of room under the last one."""
        super().updateGeometries()
        under = self.verticalHeader().length() + ROW_H - self.viewport().height()
        if under > 0:
            self.verticalScrollBar().setMaximum(under)
            if self.next_step.hasFocus():  # nobody types where he does not see it
                self.verticalScrollBar().setValue(under)
        self._place_next()

    def reset(self) -> None:
        """Rows that are made anew stand where the others stood."""
        before = self.verticalScrollBar().value()
        super().reset()
        self.updateGeometries()
        self.verticalScrollBar().setValue(before)

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        super().scrollContentsBy(dx, dy)
        self._place_next()

    def _place_next(self) -> None:
        top = self.verticalHeader().length() - self.verticalHeader().offset()
        self.next_step.setGeometry(self.columnViewportPosition(STEP), top, max(120, self.columnWidth(STEP)), ROW_H)

    def _add_named(self, name: str) -> None:
        last = self.sheet.step_at(self.sheet.rowCount() - 1).name if self.sheet.rowCount() else ""
        if last and self.editor.add_named(last, name):
            self.next_step.clear()
            self.next_step.setFocus()
            self.updateGeometries()

    def _to_row(self, row: int, column: int) -> None:
        self.setFocus()
        self.setCurrentIndex(self.sheet.index(row, column))

    def commitData(self, editor: QWidget) -> None:
        """An edit that changes the flow makes the rows anew and takes the editor away, which Qt asks for once more as it goes."""
        if is_current(self, editor):
            here = self.currentIndex()
            self._taken_at = (here.row(), here.column())
        if self.state() == self.State.EditingState:
            super().commitData(editor)

    def closeEditor(self, editor: QWidget, hint: QAbstractItemDelegate.EndEditHint) -> None:
        """Return takes what is typed and goes down, under the last step to the line for the next one."""
        taken, self._taken_at = self._taken_at, None
        super().closeEditor(editor, hint)
        if taken is not None and hint == QAbstractItemDelegate.EndEditHint.SubmitModelCache:
            self.setFocus()
            self._go_down(*taken)

    def _go_down(self, row: int, column: int) -> None:
        below = (r for r in range(row + 1, self.sheet.rowCount()) if self.sheet.can_edit(r, column))
        to = next(below, None)
        if to is not None:
            self.setCurrentIndex(self.sheet.index(to, column))
        elif column == STEP:
            self.next_step.setFocus()

    # -- selection

    def _tell_selection(self) -> None:
        index = self.currentIndex()
        if index.isValid() and index.row() < self.sheet.rowCount() and not self._follows:
            rows = {i.row() for i in self.selectionModel().selectedIndexes()} | {index.row()}
            steps = tuple(dict.fromkeys(self.sheet.step_at(r).name for r in sorted(rows)))
            self._follows = True  # the focus stays where the hand has put it
            self.selection.set(self.sheet.place_at(index), steps)
            self._follows = False
        self.viewport().update()

    def _follow_selection(self) -> None:
        p = self.selection.place
        if (
            self._follows
            or p.sequence.lower() != self.sheet.name.lower()
            or p.kind not in ("step", "transition", "action")
        ):
            return
        index = self.currentIndex()
        rows = {i.row() for i in self.selectionModel().selectedIndexes()}
        shown = tuple(dict.fromkeys(self.sheet.step_at(r).name for r in sorted(rows) if r < self.sheet.rowCount()))
        same_steps = shown == self.selection.steps or (not self.selection.steps and len(shown) < 2)
        if index.isValid() and index.row() < self.sheet.rowCount() and self.sheet.place_at(index) == p and same_steps:
            return
        self._follows = True
        try:
            self._select(p.kind == "transition")
        finally:
            self._follows = False
        self.viewport().update()

    def _select(self, by_way: bool) -> None:
        p = self.selection.place
        wanted = set(self.selection.steps)
        many = QItemSelection()
        for i, row in enumerate(self.sheet.flow.rows):
            step = self.sheet.sequence.steps[row.step].name
            if (by_way and row.transition == p.index) or (not by_way and row.first and step == p.step):
                self.setCurrentIndex(self.sheet.index(i, self.sheet.awaits if by_way else STEP))
            if step in wanted and row.first:
                many.select(self.sheet.index(i, STEP), self.sheet.index(i, STEP))
        if wanted:
            self.selectionModel().select(many, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def current_step(self) -> str:
        index = self.currentIndex()
        return self.sheet.step_at(index.row()).name if index.isValid() and index.row() < self.sheet.rowCount() else ""

    # -- the run

    def follow_run(self) -> None:
        """Takes the run's present state; repaints the rows of steps that differ from what is shown. What is measured over
        the whole run - times, bars - is looked at several times a second while it goes on.
        """
        if not self.isVisible():
            return
        before, was, on, forced = set(self.live.waiting), self.live.was, self.live.on, self.live.forced
        changed = self.live.read(self.runner, self.sheet.name)
        if changed:
            self._late |= before | set(self.live.waiting) | (was ^ self.live.was)
            if on != self.live.on or forced != self.live.forced:
                self.horizontalHeader().viewport().update()
            if forced != self.live.forced:
                self.viewport().update()
        if self._late:
            self._update_steps()
        if changed and (not self.runner.running or not self._again.isActive()):
            self._again.start()
            if not self.runner.running:
                self._show_measured()

    def _update_steps(self) -> None:
        """Repaints the rows of steps that are late with it; of many, while the run goes on, some now and the rest next."""
        steps, height = self.sheet.sequence.steps, self.viewport().height()
        most = ROWS_AT_ONCE if self.runner.running else len(steps)
        now = set(self.live.waiting) & self._late
        now |= set(sorted(self._late - now)[: max(0, most - len(now))])
        self._late -= now
        for i, row in enumerate(self.sheet.flow.rows):
            top = self.rowViewportPosition(i)
            if steps[row.step].name in now and -self.rowHeight(i) < top < height:
                self.viewport().update(0, top, self.viewport().width(), self.rowHeight(i))

    def _show_measured(self) -> None:
        """Times and bars over the whole run."""
        if not self.isVisible():
            return
        before = self.sheet.lasted
        self._measure()
        for column in (self.sheet.bars, self.sheet.measured) if before != self.sheet.lasted else (self.sheet.bars,):
            x = self.columnViewportPosition(column)
            self.viewport().update(x, 0, self.columnWidth(column), self.viewport().height())
        self.horizontalHeader().viewport().update()

    def _measure(self) -> None:
        session = self.runner.session
        self.measured = None
        if session is not None and session.trace.scan_count:
            self.measured = measure(session.trace, self.sheet.sequence, tuple(self.sheet.targets))
        self.sheet.lasted = self.measured.lasted if self.measured else {}
        texts = [lasted_text(x) for x in self.sheet.lasted.values()]
        longest = QFontMetrics(text_font(13)).horizontalAdvance(max(texts, key=len, default=""))
        wanted = max(LASTED, 18 + longest)  # a column that is hidden has no width
        # Another width moves every column: while the run goes on that waits, or is a good piece at once.
        have = self.columnWidth(self.sheet.measured)
        if wanted > have and (not self.runner.running or have < LASTED):
            self.setColumnWidth(self.sheet.measured, wanted)
        # From the first scan on, so that no column moves while one looks.
        self.setColumnHidden(self.sheet.measured, self.measured is None)

    @property
    def cycle_text(self) -> str:
        m = self.measured
        if m is None:
            return ""
        return f"cycle {m.cycle_ms / 1000:.2f} s" if m.whole else f"{m.cycle_ms / 1000:g} s"

    def paint_bars(self, painter: QPainter, box: QRectF, row: int) -> None:
        """When the row's step was active in the run."""
        r, m = self.sheet.row(row), self.measured
        session = self.runner.session
        if not r.first or m is None or session is None:
            return
        room, end = box.adjusted(6, 6, -8, -6), max(1, session.trace.end_ms)
        for start, stop in m.active.get(self.sheet.sequence.steps[r.step].name, ()):
            x = room.left() + start / end * room.width()
            w = max(2.0, (stop - start) / end * room.width())
            painter.fillRect(QRectF(x, room.top(), w, room.height()), theme.colour("active"))

    def focusInEvent(self, event: QFocusEvent) -> None:
        """The focus alone chooses nothing: what is selected stays, until a hand goes to a cell."""
        self._follows = True
        super().focusInEvent(event)
        self._follows = False

    # -- the mouse

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """A click on a mark selects it, a second one toggles it."""
        before, at = self.currentIndex(), self.indexAt(event.position().toPoint())
        super().mousePressEvent(event)
        plain = event.button() is Qt.MouseButton.LeftButton and not event.modifiers()
        if plain and at.isValid() and at == before and self.sheet.is_mark(at.column()):
            self._toggle([(at.row(), at.column())])

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        at = self.indexAt(event.position().toPoint())
        if at.isValid() and self._is_on_off(at.column()) and event.button() is Qt.MouseButton.LeftButton:
            if at == self.currentIndex():
                self._toggle([(at.row(), at.column())])
            return
        super().mouseDoubleClickEvent(event)

    def _is_on_off(self, column: int) -> bool:
        """Whether marks stand in a column, not numbers."""
        if not self.sheet.is_mark(column):
            return False
        signal = self.editor.document.project.signal(self.sheet.targets[column - FIRST_MARK])
        return signal is None or signal.type is Type.BOOL

    def _toggle(self, cells: list[tuple[int, int]]) -> None:
        cells = [(r, c) for r, c in cells if self._is_on_off(c) and self.sheet.can_edit(r, c)]
        if cells:
            current = self.currentIndex()
            first = (current.row(), current.column())
            text = "" if self.sheet.text(*(first if first in cells else cells[0])) else "X"
            self.sheet.edit_cells(dict.fromkeys(cells, text))

    # -- keys

    def _cells(self) -> list[tuple[int, int]]:
        """Selected cells from the upper left; the current one if there are none."""
        found = {
            (i.row(), i.column())
            for i in self.selectionModel().selectedIndexes()
            if not self.isColumnHidden(i.column())
        }
        index = self.currentIndex()
        return sorted(found or ({(index.row(), index.column())} if index.isValid() else set()))

    def _on_steps(self) -> bool:
        """Whether the selection is about whole steps rather than about cells."""
        return self.currentIndex().column() in (FLOW, NUMBER, STEP)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        index, sheet = self.currentIndex(), self.sheet
        key = event.key()
        if self.state() == QAbstractItemView.State.EditingState:
            super().keyPressEvent(event)
        elif key == Qt.Key.Key_Insert:
            self.editor.do("before" if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else "after")
        elif key == Qt.Key.Key_Delete and index.isValid():
            self._delete()
        elif key == Qt.Key.Key_Space and sheet.is_mark(index.column()):
            self._toggle(self._cells())
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and index.isValid():
            self._go_down(index.row(), index.column())
        elif key == Qt.Key.Key_Down and index.column() == STEP and index.row() == sheet.rowCount() - 1:
            self.next_step.setFocus()
        elif event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Cut) and self._on_steps():
            self.editor.cut()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """At the mouse, or by the menu key at the cell that has the keyboard."""
        by_key = event.reason() == QContextMenuEvent.Reason.Keyboard
        index = self.currentIndex() if by_key else self.indexAt(event.pos())
        if not index.isValid():
            return
        if not self.selectionModel().isSelected(index):
            self.setCurrentIndex(index)
        at = self.viewport().mapToGlobal(self.visualRect(index).bottomLeft()) if by_key else event.globalPos()
        self.menu(index).popup(at)

    def menu(self, index: QModelIndex) -> StepMenu:
        """The edits of a cell and of its step."""
        e, sheet = self.editor, self.sheet
        menu = StepMenu(self, e, sheet.step_at(index.row()).name)
        can = sheet.can_edit(index.row(), index.column())
        menu.add("Type here", partial(self.edit, index), "F2", "" if can else "it follows from the rest")
        if sheet.is_mark(index.column()):
            menu.add("Mark or clear", lambda: self._toggle(self._cells()), "Space")
        menu.addSeparator()
        menu.add_edits(BRANCHES)
        menu.add("Add a way out", e.add_way, "Ctrl+J")
        menu.add_runs()
        menu.addSeparator()
        menu.add_edits(ENDS)
        menu.addSeparator()
        menu.add("Copy", self.copy, "Ctrl+C")
        menu.add("Cut", e.cut, "Ctrl+X", "" if self._on_steps() else "select whole steps: their numbers or names")
        menu.add("Paste", self.paste, "Ctrl+V")
        menu.add("Duplicate", e.duplicate, "Ctrl+D")
        menu.add("Delete the steps or way out", e.delete, "Ctrl+Backspace")
        menu.addSeparator()
        menu.add("Move up", lambda: e.move_row(-1), "Alt+Up")
        menu.add("Move down", lambda: e.move_row(1), "Alt+Down")
        menu.add_initial()
        menu.add_uses()
        return menu

    def _delete(self) -> None:
        sheet, column = self.sheet, self.currentIndex().column()
        if sheet.is_mark(column) or column in (sheet.window, sheet.comment):
            cells = [(r, c) for r, c in self._cells() if sheet.can_edit(r, c) and (sheet.is_mark(c) or c == column)]
            sheet.edit_cells(dict.fromkeys(cells, ""))
        else:
            self.editor.delete()

    def copy(self) -> None:
        """Steps as rows with their heads, cells as they are."""
        clipboard = QApplication.clipboard()
        if self._on_steps():
            self.editor.copy()
        elif clipboard is not None:
            cells = self._cells()
            rows, columns = sorted({r for r, _ in cells}), sorted({c for _, c in cells})
            clipboard.setText(to_text([[self.sheet.text(r, c) for c in columns] for r in rows]))

    def paste(self) -> None:
        """Rows onto a step become steps behind it; onto a cell they go into the cells from there on.

        One copied cell fills all that are selected.
        """
        clipboard, sheet = QApplication.clipboard(), self.sheet
        text = clipboard.text() if clipboard is not None else ""
        if self._on_steps() or PROGRAM.match(text):
            self.editor.paste()
            return
        rows = from_text(text) if text else []
        cells = self._cells()
        if not rows or not cells:
            return
        if len(rows) == 1 and len(rows[0]) == 1:
            texts = {(r, c): rows[0][0] for r, c in cells if sheet.can_edit(r, c)}
        else:
            top, left = cells[0]
            shown = [c for c in range(left, sheet.columnCount()) if not self.isColumnHidden(c)]
            texts = {
                (top + i, c): text
                for i, row in enumerate(rows)
                for c, text in zip(shown, row)
                if top + i < sheet.rowCount() and sheet.can_edit(top + i, c)
            }
        sheet.edit_cells(texts)
