"""What names mean where: slots for everything a text can read, and what may be written from where."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from spokeshave.engine.program import FIRST_RECORDED
from spokeshave.language.check import Symbol
from spokeshave.language.checked import Checked
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.model.project import Project, Sequence, Signal, SignalClass, Step, Type, zero_of

_MEMBERS = {"x": Type.BOOL, "t": Type.TIME, "late": Type.BOOL}


@dataclass
class SlotTable:
    """Gives every value its slot, in the order of `program`'s drawing."""

    project: Project
    values: list[Any] = field(default_factory=lambda: [[], False, 0, 0])
    final: dict[str, int] = field(default_factory=dict)
    """Lower-case signal name to the slot the trace shows."""
    read: dict[str, int] = field(default_factory=dict)
    """Lower-case signal name to the slot the logic reads and writes; differs for outputs."""
    member: dict[tuple[str, str, str], int] = field(default_factory=dict)
    """(sequence, step, member) in lower case to slot; ("seq", "", "state") for states."""
    steps: dict[str, dict[str, Step]] = field(default_factory=dict)
    """Steps of each sequence by lower-case names."""
    signals: dict[str, Signal] = field(default_factory=dict)
    edges: list[tuple[str, int, Checked, Checked | None]] = field(default_factory=list)
    home: int = -1

    def __post_init__(self) -> None:
        assert len(self.values) == FIRST_RECORDED
        for s in self.project.signals:
            self.signals[s.name.lower()] = s
            self.final[s.name.lower()] = self.read[s.name.lower()] = self.new(s.start)
        for q in self.project.sequences:
            self.steps[q.name.lower()] = {step.name.lower(): step for step in q.steps}
            for step in q.steps:
                self.member[(q.name.lower(), step.name.lower(), "x")] = self.new(False)
        for s in self.project.signals:
            if s.cls is SignalClass.OUTPUT:
                self.read[s.name.lower()] = self.new(s.start)
        for q in self.project.sequences:
            for step in q.steps:
                self.member[(q.name.lower(), step.name.lower(), "t")] = self.new(0)
                self.member[(q.name.lower(), step.name.lower(), "late")] = self.new(False)
            self.member[(q.name.lower(), "", "state")] = self.new(-1)
        self.home = self.new(False)
        self.first_instance = len(self.values)
        self.base: dict[str, tuple[str, int]] = {}
        for instance in self.project.instances:
            block = BLOCKS.get(instance.kind.upper())
            if block is not None:
                self.base[instance.name.lower()] = (instance.kind.upper(), len(self.values))
                for _, kind in block.members():
                    self.new(zero_of(kind))
                for value in block.memory:
                    self.new(value)
        self.first_edge = len(self.values)

    def new(self, value: Any) -> int:
        self.values.append(value)
        return len(self.values) - 1

    def edge(self, kind: str, operand: Checked, time: Checked | None) -> int:
        """One slot for each use; inner uses come first, since the checker meets them first."""
        slot = self.new(False)
        self.edges.append((kind, slot, operand, time))
        return slot


@dataclass
class TextScope:
    """The scope of one text: project-wide names, and the steps of `sequence` without its name before them.

    `writes` tells whether the text assigns at all (bodies, opening and closing logic); `targets` are the lower-case
    names of action targets, which nothing else may write.
    """

    table: SlotTable
    sequence: Sequence | None = None
    targets: frozenset[str] = frozenset()

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        if len(parts) == 1:
            return self._single(parts[0])
        if len(parts) == 2:
            return self._double(*parts)
        if len(parts) == 3:
            sequence = self.table.project.sequence(parts[0])
            if sequence is None:
                return f"there is no sequence {parts[0]}"
            if self._step(sequence, parts[1]) is None:
                return f"{sequence.name} has no step {parts[1]}"
            return self._member(sequence, parts[1], parts[2])
        return ""

    def _step(self, sequence: Sequence, name: str) -> Step | None:
        return self.table.steps[sequence.name.lower()].get(name.lower())

    def _double(self, first: str, second: str) -> Symbol | str:
        """`Step.X` of the own sequence, or `Sequence.State`."""
        if self.sequence is not None and self._step(self.sequence, first) is not None:
            return self._member(self.sequence, first, second)
        if first in self.table.base:
            kind, base = self.table.base[first]
            for i, (name, of) in enumerate(BLOCKS[kind].members()):
                if name.lower() == second:
                    own = next(i.name for i in self.table.project.instances if i.name.lower() == first)
                    return Symbol(f"{own}.{name}", of, base + i, f"{name} is set by calling {first}")
            return f"a {kind} has no {second}; it has {', '.join(n for n, _ in BLOCKS[kind].members())}"
        sequence = self.table.project.sequence(first)
        if first == "home" and sequence is None:
            mine = next((q for q in self.table.project.sequences if self._step(q, first)), None)
            other = f"; for the step of {mine.name} write {mine.name}.Home.{second.upper()}" if mine else ""
            return f"Home is the home of the project and has no .{second.upper()}{other}"
        if sequence is not None:
            step = self._step(sequence, second)
            if second == "state":
                slot = self.table.member[(sequence.name.lower(), "", "state")]
                return Symbol(f"{sequence.name}.State", Type.DINT, slot, f"{sequence.name}.State follows the chart")
            if step is not None:
                full = f"{sequence.name}.{step.name}"
                return f"{full} is a step; write {full}.X for active, {full}.T for its time"
            return f"{sequence.name} has no step {second}"
        for q in self.table.project.sequences:
            step = self._step(q, first)
            if step is not None:
                return f"{step.name} is a step of {q.name}; write {q.name}.{step.name}.{second.upper()}"
        return ""

    def _single(self, name: str) -> Symbol | str:
        project = self.table.project
        if name == "home":
            own = self._step(self.sequence, name) if self.sequence else None
            if own is not None and not project.home.strip():
                return f"Home is the home of the project, which has none; for the step write {own.name}.X"
            return Symbol("Home", Type.BOOL, self.table.home, "Home is set by the project's home expression")
        signal = self.table.signals.get(name)
        if signal is None:
            step = self._step(self.sequence, name) if self.sequence else None
            sequence = project.sequence(name)
            if name in self.table.base:
                kind = self.table.base[name][0]
                return f"{name} is a {kind}; read one of its outputs, such as {name}.{BLOCKS[kind].outputs[0][0]}"
            if step is not None:
                return f"{step.name} is a step; write {step.name}.X for active, {step.name}.T for its time"
            if sequence is not None:
                return f"{sequence.name} is a sequence; write {sequence.name}.State for the number of its step"
            return ""
        locked = ""
        if signal.cls is SignalClass.INPUT:
            locked = f"{signal.name} is an input; the logic does not write inputs"
        elif signal.cls is SignalClass.SETTING:
            locked = f"{signal.name} is a setting; only people change settings"
        elif name in self.targets:
            locked = f"{signal.name} is the target of an action block; nothing else may write it"
        return Symbol(signal.name, signal.type, self.table.read[name], locked)

    def _member(self, sequence: Sequence, step: str, member: str) -> Symbol | str:
        found = self._step(sequence, step)
        assert found is not None
        if member not in _MEMBERS:
            return f"a step has .X, .T and .Late, not .{member}"
        slot = self.table.member[(sequence.name.lower(), found.name.lower(), member)]
        own = sequence is self.sequence
        name = f"{found.name}.{member.upper() if len(member) == 1 else 'Late'}"
        return Symbol(
            name if own else f"{sequence.name}.{name}", _MEMBERS[member], slot, f"{found.name} follows the chart"
        )

    def known(self) -> Iterable[str]:
        yield "Home"
        for s in self.table.project.signals:
            yield s.name
        for instance in self.table.project.instances:
            yield instance.name
        for q in self.table.project.sequences:
            for step in q.steps:
                prefix = "" if q is self.sequence else f"{q.name}."
                yield f"{prefix}{step.name}.X"
                yield f"{prefix}{step.name}.T"
                if step.longest:
                    yield f"{prefix}{step.name}.Late"
            yield f"{q.name}.State"

    def instance(self, name: str) -> tuple[str, int, str] | None:
        found = self.table.base.get(name)
        return None if found is None else (*found, "")

    def edge(self, kind: str, operand: Checked, time: Checked | None) -> int:
        return self.table.edge(kind, operand, time)
