"""Editing on the drawing: handles where an edit is legal, lines to type in place, the menu of a step, keys."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, Qt
from PySide6.QtGui import QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QCompleter,
    QLineEdit,
    QMenu,
)

from spokeshave.chart.labels import BLOCK_H, block_text, window_text
from spokeshave.desktop.sequence.chart_handles import HANDLES, Handle
from spokeshave.desktop.sequence.chart_items import Part, StepItem
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.desktop.sequence.step_menu import BRANCHES, ENDS, StepMenu
from spokeshave.formats.tables.cells import awaited
from spokeshave.language.rename import rename_step
from spokeshave.language.sub_sequences import put_block
from spokeshave.model import edits, flow_edits
from spokeshave.model.fold import foldable
from spokeshave.model.project import Step

if TYPE_CHECKING:
    from spokeshave.desktop.sequence.chart_view import ChartView


class _LineKeys(QObject):
    """Return and Escape end a line, and go no further: to the chart they would mean something else."""

    def __init__(self, line: QLineEdit, take: Callable[[], object], leave: Callable[[], object]) -> None:
        super().__init__(line)
        self.line, self.take, self.leave = line, take, leave

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if not isinstance(event, QKeyEvent) or event.type() != QEvent.Type.KeyPress:
            return False
        words = self.line.words if isinstance(self.line, ConditionEdit) else self.line.completer()
        popup = words.popup() if words is not None else None
        if popup is not None and popup.isVisible():
            return False
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.take()
            return True
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
            return True
        return False


class ChartEditing:
    """What a person does to the drawing of one sequence; the edits themselves are those of the page's editor."""

    def __init__(self, view: ChartView) -> None:
        self.view, self.editor = view, view.editor
        self.handles: list[Handle] = []
        self.line: QLineEdit | None = None

    # -- handles

    def show_handles(self) -> None:
        """Handles for the legal edits at the selected step, none for several steps."""
        view = self.view
        for h in self.handles:
            if h.scene() is not None:
                view.scene().removeItem(h)
        self.handles = []
        if not view.isVisible() or self.editor.current.lower() != view.name.lower() or len(self.editor.steps()) != 1:
            return
        step = self.editor.step()
        item = view.items_by_step.get(step)
        if item is None or not item.isSelected() or view.hidden_in(step):
            return
        for kind, (x, y, _) in HANDLES.items():
            if not self.editor.why_not(kind, step):
                handle = Handle(kind, item.pos() + QPointF(x, y), partial(self.editor.do, kind, step))
                view.scene().addItem(handle)
                self.handles.append(handle)

    def is_handle(self, at: QPointF) -> bool:
        return any(h.contains(h.mapFromScene(at)) for h in self.handles)

    # -- typing in place

    def close(self) -> None:
        """Takes the line away without an edit."""
        if self.line is not None:
            line, self.line = self.line, None
            line.hide()
            line.deleteLater()
            self.view.setFocus()

    def _type(
        self, item: StepItem, area: QRectF, text: str, take: Callable[[str], object], line: QLineEdit, width: int = 120
    ) -> None:
        """Puts a line over an area of an item; Return takes what was typed, Escape does not."""
        self.close()
        view = self.view
        place = view.mapFromScene(item.mapRectToScene(area)).boundingRect()
        line.setParent(view.viewport())
        line.setText(text)
        line.selectAll()
        room = view.viewport().width()
        w = min(max(place.width(), width), room - 16)
        line.setGeometry(max(4, min(place.x(), room - w - 4)), place.center().y() - 13, w, 27)
        self.line = line

        def done() -> None:
            if self.line is line:
                typed = line.text().strip()
                self.close()
                if typed != text:
                    take(typed)

        keys = _LineKeys(line, done, self.close)
        line.installEventFilter(keys)
        line.editingFinished.connect(done)
        line.show()
        line.setFocus()

    def edit(self, item: StepItem, part: Part) -> None:
        """Edits what is at a part of a step's item."""
        view, name, step = self.view, self.view.name, item.step
        do = view.document.edit
        if part.kind == "way":
            way = view.sequence.transitions[part.which]
            line = ConditionEdit(view.document.project, view.sequence, view.viewport())
            self._type(
                item, part.area, way.condition,
                lambda text: do(f"Condition out of {step.name}",
                                lambda p: flow_edits.change_transition(p, name, part.which, condition=awaited(text, step.name))),
                line, 320,
            )  # fmt: skip
        elif part.kind == "action":
            self._edit_action(item, part.which)
        elif part.kind == "chip":
            self._edit_window(item, part.area)
        else:
            self._type(
                item, item.box_area(), step.name,
                lambda text: do(f"Rename {step.name}", lambda p: rename_step(p, name, step.name, text)), QLineEdit(),
            )  # fmt: skip

    def edit_condition(self) -> None:
        """Types the condition of the selected transition, or of the first way out of the selected step."""
        way = self.view.selected_way()
        item = self.view.carrier.get(way)
        if item is None:
            item = self._item()
        if item is not None and item.bars:
            n = next((n for n, b in enumerate(item.bars) if b.transition == way), 0)
            self.edit(item, Part("way", item.bars[n].transition, item.way_area(n)))

    def _item(self) -> StepItem | None:
        return self.view.items_by_step.get(self.editor.step())

    def edit_action(self) -> None:
        """Types one more action block of the selected step."""
        item = self._item()
        if item is not None:
            self._edit_action(item, len(item.step.actions))

    def _edit_action(self, item: StepItem, n: int) -> None:
        """`S Gate`, `L 2s Gate`, or only `Gate`; empty takes the block away."""
        view, step = self.view, item.step
        old = block_text(step.actions[n]) if n < len(step.actions) else ""
        line = QLineEdit()
        line.setPlaceholderText("Drive, S Drive, L 2s Drive")
        line.setAccessibleName("Action block")
        words = QCompleter(sorted(view.editor.targets(view.sequence)), line)
        words.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        line.setCompleter(words)

        def take(text: str) -> None:
            view.document.edit(f"Action of {step.name}", lambda p: put_block(p, view.name, step.name, n, text))

        area = item.action_area(n)
        self._type(item, area, old, take, line, 190)

    def edit_window(self) -> None:
        item = self._item()
        if item is not None:
            self._edit_window(item, QRectF(item.box.w / 2 + 5, item.box.h + 2, 120, BLOCK_H))

    def _edit_window(self, item: StepItem, area: QRectF) -> None:
        """`6s` for the longest time, `1s to 6s` for both, `at least 1s`; empty takes the window away."""
        step = item.step
        line = QLineEdit()
        line.setPlaceholderText("6s, or 1s to 6s")
        line.setAccessibleName("Time window")
        self._type(item, area, window_text(step), partial(self._take_window, step), line, 130)

    def _take_window(self, step: Step, text: str) -> None:
        view = self.view
        view.document.edit(
            f"Window of {step.name}",
            lambda p: edits.change_step(p, view.name, step.name, **edits.read_window(text)),
        )

    def edit_jump(self) -> None:
        """Types where the selected way leads."""
        item = self._item()
        if item is None:
            return
        names = [s.name for s in self.view.sequence.steps]
        line = QLineEdit()
        line.setPlaceholderText("step name or number")
        line.setAccessibleName("Leads to")
        words = QCompleter(names, line)
        words.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        words.setFilterMode(Qt.MatchFlag.MatchContains)
        line.setCompleter(words)

        def take(text: str) -> None:
            found = next(
                (s.name for s in self.view.sequence.steps if text.lower() in (s.name.lower(), str(s.number))), text
            )
            self.editor.jump(found)

        area = QRectF(0, item.box.h + 6, 150, BLOCK_H)
        self._type(item, area, "", take, line, 160)

    # -- menu and keys

    def menu(self, item: StepItem) -> QMenu:
        """The edits of a step; those that are not legal are grey and say why."""
        e, step = self.editor, item.step.name
        menu = StepMenu(self.view, e, step)
        add = menu.add
        menu.add_edits(BRANCHES)
        menu.addSeparator()
        add("Lead to ...", self.edit_jump, "J")
        menu.add_edits(ENDS)
        menu.addSeparator()
        add("Rename", partial(self.edit, item, Part("step", 0, item.box_area())), "F2")
        add("Condition", self.edit_condition, "C")
        add("Add an action", self.edit_action, "A")
        add("Time window", self.edit_window, "T")
        menu.add_runs()
        menu.addSeparator()
        add("Copy", e.copy, "Ctrl+C")
        add("Cut", e.cut, "Ctrl+X")
        add("Paste after", e.paste, "Ctrl+V")
        add("Duplicate", e.duplicate, "Ctrl+D")
        add("Delete", e.delete, "Del")
        menu.addSeparator()
        fold = "" if foldable(self.view.sequence, step) else "begins no branch of several steps"
        add(
            "Open the branch" if step in self.view.folds else "Fold the branch",
            partial(self.view.fold, step),
            "F",
            fold,
        )
        menu.add_initial()
        menu.add_uses()
        return menu

    def key(self, event: QKeyEvent) -> bool:
        """Keys of the chart; TRUE if it was one."""
        key, item, e, view = Qt.Key(event.key()), self._item(), self.editor, self.view
        shift = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        plain = not event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        blocks = ((QKeySequence.StandardKey.Copy, e.copy), (QKeySequence.StandardKey.Cut, e.cut),
                  (QKeySequence.StandardKey.Paste, e.paste))  # fmt: skip
        for standard, run in blocks:
            if event.matches(standard):
                run()
                return True
        if key == Qt.Key.Key_Insert:
            e.do("before" if shift else "after")
        elif key == Qt.Key.Key_Delete:
            e.delete()
        elif item is not None and key in (Qt.Key.Key_F2, Qt.Key.Key_Return, Qt.Key.Key_Enter) and plain:
            if view.selected_way() >= 0:
                self.edit_condition()
            else:
                self.edit(item, Part("step", 0, item.box_area()))
        elif plain and key == Qt.Key.Key_C:
            self.edit_condition()
        elif plain and key == Qt.Key.Key_A:
            self.edit_action()
        elif plain and key == Qt.Key.Key_T:
            self.edit_window()
        elif plain and key == Qt.Key.Key_J:
            self.edit_jump()
        elif plain and key == Qt.Key.Key_F and item is not None:
            view.fold(item.step.name)
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            view.zoom(1.2)
        elif key == Qt.Key.Key_Minus:
            view.zoom(1 / 1.2)
        elif plain and key == Qt.Key.Key_0:
            view.fit_all()
        elif plain and key == Qt.Key.Key_1:
            view.set_scale(1.0)
        else:
            return False
        return True
