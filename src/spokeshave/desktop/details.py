"""The details of what is selected, edited in place. Each field asks for one named edit."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFormLayout, QFrame, QLabel, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from spokeshave.desktop.device_form import DeviceForm
from spokeshave.desktop.document import Document
from spokeshave.desktop.selection import Selection
from spokeshave.desktop.sequence.condition_editor import ConditionEdit
from spokeshave.language.rename import rename_step
from spokeshave.model import edits, flow_edits
from spokeshave.model.chart_texts import block_text
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import Device, Project, Sequence, Step

Change = Callable[[Project, str], Project]


class Details(QWidget):
    """Shows a step, a transition or a device; other items are edited in their tables."""

    def __init__(self, document: Document, selection: Selection) -> None:
        super().__init__()
        self.document, self.selection = document, selection
        self.title = QLabel()
        self.title.setObjectName("heading")
        self.title.setWordWrap(True)
        self.fields: dict[str, QWidget] = {}
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 8, 10, 8)
        column.addWidget(self.title)
        column.addWidget(self.area, 1)
        self._shown: object = None
        selection.changed.connect(self.refresh)
        document.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Rebuilds the form when the selected item is another or has changed."""
        p, project = self.selection.place, self.document.project
        sequence = project.sequence(p.sequence) if p.sequence else None
        item: object = None
        if p.step and sequence is not None:
            item = sequence.step(p.step)
        elif p.kind == "transition" and sequence is not None and 0 <= p.index < len(sequence.transitions):
            item = sequence.transitions[p.index]
        elif p.kind == "device":
            item = project.device(p.item)
        if item is not None and item is self._shown and p.kind != "device":
            return
        self._shown = item
        form_widget = QWidget()
        self.form = QFormLayout(form_widget)
        self.form.setContentsMargins(0, 4, 4, 0)
        self.form.setRowWrapPolicy(QFormLayout.RowWrapPolicy.WrapLongRows)
        self.form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self.fields = {}
        if isinstance(item, Step) and sequence is not None:
            self._step(sequence, item)
        elif p.kind == "transition" and item is not None and sequence is not None:
            self._transition(sequence, p)
        elif isinstance(item, Device):
            self._device(item)
        else:
            self.title.setText("Details")
            hint = QLabel("Select a step, a transition or a device to edit it here.")
            hint.setObjectName("hint")
            hint.setWordWrap(True)
            self.form.addRow(hint)
        old = self.area.takeWidget()
        if old is not None:
            # Its fields may be in the middle of an event; they go when that is over.
            old.hide()
            old.deleteLater()
        self.area.setWidget(form_widget)

    # -- fields

    def line(self, label: str, text: str, name: str, change: Change, hint: str = "") -> QLineEdit:
        edit = QLineEdit(text)
        edit.setPlaceholderText(hint)
        edit.setAccessibleName(label)
        edit.setMinimumWidth(48)
        edit.setCursorPosition(0)
        edit.editingFinished.connect(lambda: self._ask(edit, name, change))
        self.form.addRow(label, edit)
        self.fields[label] = edit
        return edit

    def _ask(self, edit: QLineEdit, name: str, change: Change) -> None:
        text = edit.text().strip()
        if not edit.isModified():
            return
        edit.setModified(False)

        def guarded(project: Project) -> Project:
            try:
                return change(project, text)
            except ValueError as error:
                raise EditError(str(error)) from None

        if not self.document.edit(name, guarded):
            self._shown = None
            self.refresh()

    def choice(self, label: str, value: str, choices: list[str], name: str, change: Change) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(label)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(6)
        box.addItems(choices if value in choices else [value, *choices])
        box.setCurrentText(value)
        box.activated.connect(lambda _: self.document.edit(name, lambda p: change(p, box.currentText())))
        self.form.addRow(label, box)
        self.fields[label] = box
        return box

    def note(self, text: str) -> None:
        label = QLabel(text)
        label.setObjectName("hint")
        label.setWordWrap(True)
        self.form.addRow(label)

    # -- kinds of items

    def _step(self, q: Sequence, s: Step) -> None:
        self.title.setText(f"Step {s.number} {s.name}" + (" (initial)" if s.name == q.initial else ""))

        def field(key: str) -> Change:
            return lambda p, t: edits.change_step(p, q.name, s.name, **{key: t})

        def time_field(key: str) -> Change:
            return lambda p, t: edits.change_step(p, q.name, s.name, **{key: f"T#{t}" if t[:1].isdigit() else t})

        def renamed(p: Project, t: str) -> Project:
            after = rename_step(p, q.name, s.name, t)
            self.selection.place = Place("step", q.name, t)
            return after

        self.line("Name", s.name, f"Rename {s.name}", renamed)
        self.line("Comment", s.comment, f"Comment of {s.name}", field("comment"))
        self.line("Shortest", s.shortest, f"Shortest time of {s.name}", time_field("shortest"), "none, or T#500ms")
        self.line("Longest", s.longest, f"Longest time of {s.name}", time_field("longest"), "none, or T#5s")
        trips = [t.name for t in self.document.project.trips]
        self.choice("When late", s.response, ["alarm", "hold", *trips], f"Response of {s.name}", field("response"))
        self.line("Permissive", s.permissive, f"Permissive of {s.name}", field("permissive"), "TRUE to be let in")
        if s.actions:
            self.note("Actions: " + ", ".join(block_text(a) for a in s.actions))

    def _transition(self, q: Sequence, place: Place) -> None:
        t = q.transitions[place.index]
        self.title.setText(f"From {' + '.join(t.sources)} to {' + '.join(t.targets)}")

        def field(key: str) -> Change:
            return lambda p, text: flow_edits.change_transition(p, q.name, place.index, **{key: text})

        condition = ConditionEdit(self.document.project, q, self)
        condition.setText(t.condition)
        condition.note.hide()
        condition.setStyleSheet("")
        condition.editingFinished.connect(condition.note.hide)
        condition.setCursorPosition(0)
        condition.setModified(False)
        condition.editingFinished.connect(
            lambda: self._ask(condition, f"Condition out of {t.sources[0]}", field("condition"))
        )
        self.form.addRow("Condition", condition)
        self.fields["Condition"] = condition

        def priority(p: Project, text: str) -> Project:
            if text and not text.isdigit():
                raise EditError(f"{text!r} is not a priority; type a whole number, 1 comes first")
            return flow_edits.change_transition(p, q.name, place.index, priority=int(text) if text else None)

        self.line(
            "Priority",
            "" if t.priority is None else str(t.priority),
            "Priority of a transition",
            priority,
            "none; 1 comes first",
        )
        self.line("Name", t.name, "Name of a transition", field("name"), "optional")

    def _device(self, d: Device) -> None:
        DeviceForm(self, d)
