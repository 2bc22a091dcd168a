"""What names mean where: slots for everything a text can read, and what may be written from where."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from spokeshave.engine.program import FIRST_RECORDED
from spokeshave.engine.routines import Routines, standard_call
from spokeshave.language.check import Called, Symbol
from spokeshave.language.checked import Checked, Function
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Project, Routine, Sequence, Signal, SignalClass, Step, Type, zero_of

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
    places: list[Place] = field(default_factory=list)
    """Places of texts, by their numbers."""
    home: int = -1

    def __post_init__(self) -> None:
        assert len(self.values) == FIRST_RECORDED
        for s in self.project.variables:
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
        for instance in self.project.all_instances:
            if instance.kind.upper() in BLOCKS:
                self.add_instance(instance.name, instance.kind.upper())
        self.first_edge = len(self.values)
        self.routines = Routines(self, TextScope(self))

    def add_instance(self, name: str, kind: str) -> None:
        """Slots for an instance of a standard block."""
        block = BLOCKS[kind]
        self.base[name.lower()] = (kind, len(self.values))
        for _, of in block.members():
            self.new(zero_of(of))
        for value in block.memory:
            self.new(value)

    def new(self, value: Any) -> int:
        self.values.append(value)
        return len(self.values) - 1

    def marks(self) -> tuple[int, int, int]:
        """Stay as they are while nothing gets a slot or a place, and no routine is asked for."""
        return len(self.values), len(self.places), self.routines.asked

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
        if len(parts) >= 3 and (variable := self._variable(".".join(parts))) is not None:
            return variable
        if len(parts) == 3 and (inner := self.table.base.get(f"{parts[0]}.{parts[1]}")) is not None:
            return self._member_of(f"{parts[0]}.{parts[1]}", *inner, parts[2])
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
        variable = self._variable(f"{first}.{second}")
        if variable is not None:
            return variable
        if self.sequence is not None and self._step(self.sequence, first) is not None:
            return self._member(self.sequence, first, second)
        if first in self.table.base:
            return self._member_of(first, *self.table.base[first], second)
        if (own := self._own_instance(first)) is not None:
            known = ", ".join(m.name for m in own.members)
            return f"a {own.name} has no {second}; it has {known}"
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

    def _member_of(self, name: str, kind: str, base: int, member: str) -> Symbol | str:
        """A variable of a standard block."""
        for i, (own, of) in enumerate(BLOCKS[kind].members()):
            if own.lower() == member:
                spelt = next(i.name for i in self.table.project.all_instances if i.name.lower() == name)
                return Symbol(f"{spelt}.{own}", of, base + i, f"{own} is set by calling {name}")
        return f"a {kind} has no {member}; it has {', '.join(n for n, _ in BLOCKS[kind].members())}"

    def _variable(self, name: str) -> Symbol | None:
        """A cell of a table, or a variable of an instance of an own block."""
        signal = self.table.signals.get(name)
        if signal is None:
            return None
        locked = ""
        if (own := self._own_instance(name.split(".")[0])) is not None:
            locked = f"{signal.name} is set by calling the {own.name}"
        elif signal.cls is SignalClass.SETTING:
            locked = f"{signal.name} is a setting; only people change settings"
        return Symbol(signal.name, signal.type, self.table.read[name], locked)

    def _own_instance(self, name: str) -> Routine | None:
        """The block of the file's own that an instance is of."""
        found = next((i for i in self.table.project.instances if i.name.lower() == name), None)
        return None if found is None else self.table.routines.blocks.get(found.kind.lower())

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
            if (block := self._own_instance(name)) is not None:
                given = block.plain("output", "variable")
                return f"{name} is a {block.name}" + (f"; read {name}.{given[0].name}" if given else "")
            if problem := self._of_table(name):
                return problem
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
        for table in self.table.project.tables:
            yield table.first_cell
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

    def _of_table(self, name: str) -> str:
        """What is wrong with a name that speaks of a table and is no cell of it; empty for other names."""
        table = self.table.project.table(name.split("[")[0])
        if table is None:
            return ""
        if "[" in name and table.indexed:
            index = int(name.split("[")[1].rstrip("]"))
            if not table.first <= index <= table.last:
                return f"{table.name} has the rows {table.first} to {table.last}, not {index}"
        return f"{table.name} has many values; name one, such as {table.first_cell}"

    def instance(self, name: str) -> Called | None:
        found = self.table.base.get(name)
        if found is not None:
            return standard_call(
                self.table, next(i.name for i in self.table.project.instances if i.name.lower() == name), *found
            )
        own = next((i for i in self.table.project.instances if i.name.lower() == name), None)
        return None if own is None else self.table.routines.call(own.name, own.kind)

    def function(self, name: str) -> Function | str | None:
        return self.table.routines.function(name)

    def functions(self) -> Iterable[str]:
        return self.table.routines.functions()

    def rows(self, table: tuple[str, ...]) -> tuple[int, int] | str:
        found = self.table.project.table(".".join(table))
        if found is None:
            return ""
        return (found.first, found.last) if found.indexed else f"{found.name} has no rows"

    def edge(self, kind: str, operand: Checked, time: Checked | None) -> int:
        return self.table.edge(kind, operand, time)
