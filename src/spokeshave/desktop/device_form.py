"""The details of a device: its name, parameters, wires, what other devices give it, and the text of an own one."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtGui import QFocusEvent
from PySide6.QtWidgets import QCheckBox, QPlainTextEdit

from spokeshave.desktop.theme import code_font
from spokeshave.language.declared import declared_text, read_declared
from spokeshave.language.rename import rename_device
from spokeshave.machine.device import Parameter, Terminal
from spokeshave.machine.kinds import KINDS, failures_of, sensors_of, terminals_of
from spokeshave.model import board_edits, edits
from spokeshave.model.diagnostics import Place
from spokeshave.model.edits import EditError
from spokeshave.model.project import CONNECTION_KINDS, Device, Project, SignalClass

if TYPE_CHECKING:
    from spokeshave.desktop.details import Change, Details

_UNITS = ("_mm_s2", "_m_s2", "_mm_s", "_m_s", "_l_s", "_mm", "_ms", "_s", "_k", "_c", "_l", "_m")
NONE = "-"


class _Text(QPlainTextEdit):
    """Asks for its edit when it is left."""

    def __init__(self, text: str, name: str, rows: int) -> None:
        super().__init__(text)
        self.setFont(code_font())
        self.setAccessibleName(name)
        self.setFixedHeight(rows * 18 + 12)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.left: Callable[[str], object] = str

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if self.document().isModified() and event.reason() != Qt.FocusReason.PopupFocusReason:
            self.document().setModified(False)
            self.left(self.toPlainText())


class DeviceForm:
    """Fills the form of `details` with a device's fields."""

    def __init__(self, details: Details, d: Device) -> None:
        self.details, self.d = details, d
        project = details.document.project
        self.index = next(i for i, x in enumerate(project.devices) if x.name == d.name)
        kind = KINDS.get(d.kind)
        details.title.setText(f"{kind.title if kind else d.kind}: {d.name}")

        def renamed(p: Project, t: str) -> Project:
            after = rename_device(p, d.name, t)
            details.selection.place = Place("device", item=t)
            return after

        details.line("Name", d.name, f"Rename {d.name}", renamed)
        if kind is None:
            return
        if d.kind == "own":
            self._own()
        details.note("Wired to")
        for terminal in terminals_of(d):
            self._terminal(project, terminal)
        self._connections(project)
        if kind.parameters:
            details.note("Parameters")
        for parameter in kind.parameters:
            self._parameter(parameter)
        failures = failures_of(d)
        details.note("Failures, for the board's right click: " + ", ".join(failures) if failures else "")

    def _change(self, **changes: object) -> Change:
        return lambda p, t: edits.change_item(p, "devices", self.index, **changes)

    def _parameter(self, parameter: Parameter) -> None:
        d, details = self.d, self.details
        value = dict(d.parameters).get(parameter.name, parameter.default)

        def put(p: Project, t: str) -> Project:
            try:
                number = float(t)
            except ValueError:
                raise EditError(f"{t!r} is not a number") from None
            rest = tuple((n, v) for n, v in p.devices[self.index].parameters if n != parameter.name)
            return edits.change_item(p, "devices", self.index, parameters=(*rest, (parameter.name, number)))

        words = next(
            (parameter.name[: -len(u)] for u in _UNITS if parameter.unit and parameter.name.endswith(u)), parameter.name
        )
        label = words.replace("_", " ") + (f" ({parameter.unit})" if parameter.unit else "")
        name = f"{parameter.name} of {d.name}"
        if parameter.flag:
            box = QCheckBox()
            box.setAccessibleName(label)
            box.setToolTip(parameter.note)
            box.setChecked(bool(value))
            box.clicked.connect(lambda on: details.document.edit(name, lambda p: put(p, "1" if on else "0")))
            details.form.addRow(label, box)
            details.fields[label] = box
            return
        details.line(label, f"{value:g}", name, put).setToolTip(parameter.note or parameter.name)

    def _terminal(self, project: Project, terminal: Terminal) -> None:
        """Signals that fit, and for a drive what other devices give."""
        d = self.d
        wanted = SignalClass.OUTPUT if terminal.drive else SignalClass.INPUT
        fits = [s for s in project.signals if terminal.takes(s.type) and (terminal.drive or s.cls is SignalClass.INPUT)]
        fits.sort(key=lambda s: s.cls is not wanted)
        others: dict[str, tuple[str, str]] = {}
        if terminal.drive:
            others = {
                f"{o.name}: {t.name}": (o.name, t.name)
                for o in project.devices if o is not d
                for t in sensors_of(o) if terminal.takes(t.type)
            }  # fmt: skip
        coupled = next((c for c in project.connections if c.target == d.name and c.takes == terminal.name), None)
        now = f"{coupled.source}: {coupled.gives}" if coupled is not None else d.wired(terminal.name) or NONE

        def wire(p: Project, t: str) -> Project:
            if t in others:
                return board_edits.couple(p, d.name, terminal.name, *others[t])
            p = board_edits.couple(p, d.name, terminal.name)
            rest = tuple((n, v) for n, v in p.devices[self.index].wires if n != terminal.name)
            return edits.change_item(p, "devices", self.index, wires=rest if t == NONE else (*rest, (terminal.name, t)))

        choices = [NONE, *(s.name for s in fits), *others]
        box = self.details.choice(terminal.name, now, choices, f"Wire {d.name}", wire)
        box.setToolTip(terminal.note or ("driven by this" if terminal.drive else "gives this signal"))

    def _connections(self, project: Project) -> None:
        for i, c in enumerate(project.connections):
            if self.d.name not in (c.source, c.target):
                continue
            label = f"to {c.target}" if c.source == self.d.name else f"from {c.source}"
            if c.gives:
                label += f" ({c.gives})"

            def put(p: Project, t: str, i: int = i) -> Project:
                return (
                    edits.remove_item(p, "connections", i)
                    if t == "take away"
                    else edits.change_item(p, "connections", i, kind=t)
                )

            self.details.choice(label, c.kind, [*CONNECTION_KINDS, "take away"], f"Connection {label}", put)

    def _own(self) -> None:
        """What it declares, a line each, and the text that runs once a scan."""
        d, details = self.d, self.details
        document = details.document
        details.note("Declares, a line each: input, output, variable or failure, a name, a type, := a first value")
        declares = _Text(declared_text(d.declared), "Declarations of the device", 6)
        declares.setPlaceholderText("input On\noutput Mass REAL\nvariable Count INT := 0\nfailure Stuck")
        text = _Text(d.text, "Text of the device", 9)
        text.setPlaceholderText(
            "IF On AND NOT Stuck THEN Count := Count + 1; END_IF;\nMass := INT_TO_REAL(Count) * 0.2;"
        )

        def declared(t: str) -> None:
            def put(p: Project) -> Project:
                try:
                    return edits.change_item(p, "devices", self.index, declared=read_declared(t))
                except ValueError as error:
                    raise EditError(str(error)) from None

            document.edit(f"Declarations of {d.name}", put)

        declares.left = declared
        text.left = lambda t: document.edit(
            f"Text of {d.name}", lambda p: edits.change_item(p, "devices", self.index, text=t)
        )
        details.form.addRow(declares)
        details.note("Runs once a scan, in structured text; Period is the time of a scan")
        details.form.addRow(text)
        details.fields["Declares"] = declares
        details.fields["Text"] = text
