"""The details of a device: its name, parameters, wires, what other devices give it, and the text of an own one."""

from __future__ import annotations

from collections.abc import Callable

from spokeshave.desktop.detail_rows import Change, Check, Choice, Fold, Line, Note, Rows, Text
from spokeshave.language.declared import declared_text, read_declared
from spokeshave.language.rename import rename_device
from spokeshave.machine.device import Parameter, Terminal, in_words
from spokeshave.machine.kinds import KINDS, failures_of, sensors_of, terminals_of
from spokeshave.model import board_edits, edits
from spokeshave.model.edits import EditError
from spokeshave.model.project import CONNECTION_KINDS, Device, Project, SignalClass

_UNITS = ("_mm_s2", "_m_s2", "_mm_s", "_m_s", "_l_s", "_mm", "_ms", "_s", "_k", "_c", "_l", "_m")
NONE = "-"


def device_title(d: Device) -> str:
    """What stands above the form of a device: its kind and its name."""
    kind = KINDS.get(d.kind)
    return f"{kind.title if kind else d.kind}: {d.name}"


def device_rows(project: Project, d: Device, follow: Callable[[str, str, str], None]) -> Rows:
    """The rows of a device."""
    return _Form(project, d, follow).rows()


class _Form:
    def __init__(self, project: Project, d: Device, follow: Callable[[str, str, str], None]) -> None:
        self.project, self.d, self.follow = project, d, follow
        self.index = next(i for i, x in enumerate(project.devices) if x.name == d.name)

    def rows(self) -> Rows:
        d, kind = self.d, KINDS.get(self.d.kind)

        def renamed(p: Project, t: str) -> Project:
            after = rename_device(p, d.name, t)
            self.follow("device", "", t)
            return after

        comment: Change = lambda p, t: edits.change_item(p, "devices", self.index, comment=t)  # noqa: E731
        out: Rows = [
            Line("Name", f"Rename {d.name}", renamed, "Device.name", value=d.name),
            Line("Comment", f"Comment of {d.name}", comment, "Device.comment", value=d.comment),
        ]
        if kind is None:
            return out
        if d.kind == "own":
            out += self._own()
        out.append(Note("Wired to"))
        taken = {t for t, _ in d.wires} | {c.takes for c in self.project.connections if c.target == d.name}
        last = {
            t.name for t in terminals_of(d) if t.name not in taken and (t.name in kind.rarely or t.name[-1:] in "234")
        }
        out += [self._terminal(t) for t in terminals_of(d) if t.name not in last]
        out += self._connections()
        more: Rows = [self._terminal(t) for t in terminals_of(d) if t.name in last]
        out += [Fold("More to wire"), *more] if more else []
        if kind.parameters:
            out.append(Note("Parameters"))
        given = {n for n, _ in d.parameters}
        rare = {
            p.name for p in kind.parameters
            if p.name not in given and (p.name in kind.rarely or any(p.name.startswith(f"{t}_") for t in last))
        }  # fmt: skip
        out += [self._parameter(p) for p in kind.parameters if p.name not in rare]
        more = [self._parameter(p) for p in kind.parameters if p.name in rare]
        out += [Fold("More parameters"), *more] if more else []
        failures = failures_of(d)
        if failures:
            out.append(Note("Failures, for the board's right click: " + ", ".join(failures)))
        return out

    def _parameter(self, parameter: Parameter) -> Check | Line:
        d = self.d
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
        label = in_words(words) + (f" ({parameter.unit})" if parameter.unit else "")
        name = f"{parameter.name} of {d.name}"
        if parameter.flag:
            return Check(label, name, put, "Device.parameters", parameter.note, value=bool(value))
        return Line(label, name, put, "Device.parameters", parameter.note or parameter.name, value=f"{value:g}")

    def _terminal(self, terminal: Terminal) -> Choice:
        """Signals that fit, and for a drive what other devices give."""
        d, project = self.d, self.project
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
        tip = terminal.note or ("driven by this" if terminal.drive else "gives this signal")
        return Choice(terminal.words, f"Wire {d.name}", wire, "Device.wires", tip, value=now, choices=tuple(choices))

    def _connections(self) -> Rows:
        out: Rows = []
        for i, c in enumerate(self.project.connections):
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

            choices = (*CONNECTION_KINDS, "take away")
            out.append(Choice(label, f"Connection {label}", put, "Connection.kind", value=c.kind, choices=choices))
        return out

    def _own(self) -> Rows:
        """What it declares, a line each, and the text that runs once a scan."""
        d = self.d

        def declared(p: Project, t: str) -> Project:
            try:
                return edits.change_item(p, "devices", self.index, declared=read_declared(t))
            except ValueError as error:
                raise EditError(str(error)) from None

        def text(p: Project, t: str) -> Project:
            return edits.change_item(p, "devices", self.index, text=t)

        return [
            Note("Declares, a line each: input, output, variable or failure, a name, a type, := a first value"),
            Text("Declares", f"Declarations of {d.name}", declared, "Device.declared", value=declared_text(d.declared),
                 hint="input On\noutput Mass REAL\nvariable Count INT := 0\nfailure Stuck"),
            Note("Runs once a scan, in structured text; Period is the time of a scan"),
            Text("Text", f"Text of {d.name}", text, "Device.text", value=d.text, lines=9,
                 hint="IF On AND NOT Stuck THEN Count := Count + 1; END_IF;\nMass := INT_TO_REAL(Count) * 0.2;"),
        ]  # fmt: skip
