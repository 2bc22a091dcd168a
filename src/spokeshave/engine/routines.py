"""Functions and function blocks of the file's own: what the names in their bodies mean, and their bodies checked.

A block is checked once for each of its instances, on the slots of that instance, and once on slots of nobody, so that a
fault in one without instances is told too. It sees its own variables, and of the others those that it names `external`.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.check import Called, Checker, Symbol
from spokeshave.language.function_blocks import BLOCKS
from spokeshave.language.parse import parse_statements
from spokeshave.language.syntax import Problem, TextError
from spokeshave.model.diagnostics import Place
from spokeshave.model.project import Member, Routine, Type, Value, zero_of
from spokeshave.model.signals import VALUES

if TYPE_CHECKING:
    from spokeshave.engine.names import SlotTable, TextScope

DEEPEST = 16
"""Blocks inside blocks, and functions that functions call."""


def standard_call(table: SlotTable, name: str, kind: str, base: int) -> Called:
    """A call of a standard block whose slots begin at `base`."""
    block = BLOCKS[kind]
    members = [(n, base + i, of) for i, (n, of) in enumerate(block.members())]
    inputs = len(block.inputs)
    return Called(
        kind, tuple(members[:inputs]), tuple(members[inputs:]), lambda span: ck.Run(kind, base, name, span)
    )  # fmt: skip


def start_of(m: Member) -> Value:
    """The value of a plain variable before it is set."""
    return zero_of(Type(m.type)) if m.initial is None else m.initial


@dataclass
class RoutineScope:
    """What the names in a body mean. `slots` are those of its plain variables, `path` the name of the instance with a dot
    behind it.
    """

    table: SlotTable
    routine: Routine
    slots: dict[str, int]
    path: str
    outer: TextScope
    above: tuple[str, ...] = ()
    members: dict[str, Member] = field(init=False)

    def __post_init__(self) -> None:
        self.members = {m.name.lower(): m for m in self.routine.members}

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        r, first = self.routine, parts[0].split("[")[0]
        if r.result and parts == (r.name.lower(),):
            return Symbol(r.name, Type(r.result), self.slots[parts[0]])
        m = self.members.get(first)
        if m is None:
            signal = self.table.project.signal(".".join(parts))
            if signal is None:
                return ""
            return f"{r.name} sees its own variables only; take {signal.name} as an input" + (
                ", or declare it VAR_EXTERNAL" if r.is_block else ""
            )
        if m.role == "external":
            return self.outer.lookup(parts)
        if m.type in Type.__members__:
            if len(parts) > 1 or "[" in parts[0]:
                return f"{m.name} is one {m.type}"
            locked = {
                "input": f"{m.name} is an input of {r.name}; its caller sets it",
                "constant": f"{m.name} is a constant",
            }.get(m.role, "")
            return Symbol(m.name, Type(m.type), self.slots[first], locked)
        inner = self.instance(first)
        if inner is None:
            return f"there is no block {m.type}"
        if len(parts) == 1:
            return f"{m.name} is a {m.type}; read one of its outputs, such as {m.name}.{inner.outputs[0][0]}"
        return _of_instance(m.name, inner, parts[1:])

    def known(self) -> Iterable[str]:
        return [*(m.name for m in self.routine.members), *([self.routine.name] if self.routine.result else [])]

    def instance(self, name: str) -> Called | None:
        m = self.members.get(name)
        if m is None or m.role == "external" or m.type in Type.__members__:
            return None
        return self.table.routines.call(self.path + m.name, m.type, self.above)

    def function(self, name: str) -> ck.Function | str | None:
        return self.table.routines.function(name, self.above)

    def functions(self) -> Iterable[str]:
        return self.table.routines.functions()

    def rows(self, table: tuple[str, ...]) -> tuple[int, int] | str:
        m = self.members.get(table[0])
        if m is not None and m.role == "external":
            return self.outer.rows(table)
        return f"{self.routine.name} has no table {'.'.join(table)}"

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        instead = {"RISING": "an R_TRIG", "FALLING": "an F_TRIG", "HELD": "a TON"}[kind]
        raise TextError([Problem(1, 1, f"{kind} is for charts and logic", f"declare {instead} among its variables")])


def _of_instance(name: str, called: Called, parts: tuple[str, ...]) -> Symbol | str:
    """A variable of an instance, seen from where it is declared."""
    own = {n.lower(): (n, slot, of) for n, slot, of in (*called.inputs, *called.outputs)}
    if len(parts) > 1 or parts[0] not in own:
        known = ", ".join(n for n, _, _ in (*called.inputs, *called.outputs))
        return f"a {called.kind} has no {'.'.join(parts)}; it has {known}"
    n, slot, of = own[parts[0]]
    return Symbol(f"{name}.{n}", of, slot, f"{name}.{n} is set by calling {name}")


class Routines:
    """The functions and blocks of a project, each checked when something calls it for the first time."""

    def __init__(self, table: SlotTable, outer: TextScope) -> None:
        self.table, self.outer = table, outer
        self.asked = 0
        """How often a text has asked what it calls."""
        self._functions: dict[str, ck.Function | str] = {}
        self._bodies: dict[str, tuple[ck.CheckedStatement, ...]] = {}
        self._places: dict[str, int] = {}
        self._of_nobody: dict[str, int] = {}
        self.blocks = {r.name.lower(): r for r in table.project.routines if r.is_block}

    def functions(self) -> list[str]:
        """Names of the functions."""
        return [r.name for r in self.table.project.routines if not r.is_block]

    def problems(self) -> list[tuple[Place, Problem]]:
        """What is wrong with the bodies, each told once."""
        out = []
        for r in self.table.project.routines:
            if r.is_block:
                slots = {m.name.lower(): self._new(m) for m in r.plain(*VALUES)}
                for i in r.instances():
                    if i.kind.upper() in BLOCKS:
                        self.table.add_instance(f"({r.name}).{i.name}", i.kind.upper())
                scope = RoutineScope(self.table, r, slots, f"({r.name}).", self.outer, (r.name.lower(),))
                out += [(Place("routine", item=r.name), p) for p in self._checked(r, scope)[1]]
            else:
                found = self._function_of(r, (r.name.lower(),))[1]
                out += [(Place("routine", item=r.name), p) for p in found]
        return out

    def _new(self, m: Member) -> int:
        return self.table.new(start_of(m))

    def place(self, r: Routine) -> int:
        """The number of the place of its text."""
        if r.name not in self._places:
            self.table.places.append(Place("routine", item=r.name))
            self._places[r.name] = len(self.table.places) - 1
        return self._places[r.name]

    # -- functions

    def function(self, name: str, above: tuple[str, ...] = ()) -> ck.Function | str | None:
        """A function by its name in lower case, a sentence on why it may not be called, None for none. `above` are those whose
        bodies call it.
        """
        self.asked += 1
        r = self.table.project.routine(name)
        if r is None or r.is_block:
            return None if r is None else f"{r.name} is a block: declare an instance of it, and call that"
        if name in above or len(above) > DEEPEST:
            return f"{r.name} would call itself"
        if name not in self._functions:
            made, problems = self._function_of(r, (*above, name))
            self._functions[name] = f"{r.name} has a fault of its own" if problems else made
        return self._functions[name]

    def _function_of(self, r: Routine, above: tuple[str, ...]) -> tuple[ck.Function, list[Problem]]:
        inputs, others = r.plain("input"), r.plain(*VALUES[1:])
        kind = Type(r.result)
        names = [*(m.name.lower() for m in inputs), r.name.lower(), *(m.name.lower() for m in others)]
        slots = {n: ck.FIRST + i for i, n in enumerate(names)}
        start = (zero_of(kind), *map(start_of, others))
        body, problems = self._checked(r, RoutineScope(self.table, r, slots, "", self.outer, above))
        given = tuple((m.name, Type(m.type)) for m in inputs)
        return ck.Function(r.name, given, kind, start, body, self.place(r)), problems

    # -- blocks

    def call(self, name: str, kind: str, above: tuple[str, ...] = ()) -> Called | None:
        """A call of the instance `name`; None where there is no such block, or it is inside itself."""
        self.asked += 1
        found = self.table.base.get(name.lower())
        if found is not None:
            return standard_call(self.table, name, *found)
        r = self.blocks.get(kind.lower())
        if r is None or kind.lower() in above or len(above) > DEEPEST:
            return None
        slots = self._slots(name, r)
        return Called(
            r.name,
            tuple((m.name, slots[m.name.lower()], Type(m.type)) for m in r.plain("input")),
            tuple((m.name, slots[m.name.lower()], Type(m.type)) for m in r.plain(*VALUES[1:])),
            lambda span: self._perform(name, r, slots, above, span),
        )

    def _slots(self, name: str, r: Routine) -> dict[str, int]:
        """Slots of the variables of an instance; one that nobody runs gets them here."""
        out = {}
        for m in r.plain(*VALUES):
            whole = f"{name}.{m.name}".lower()
            known = self.table.read if whole in self.table.read else self._of_nobody
            if whole not in known:
                known[whole] = self._new(m)
            out[m.name.lower()] = known[whole]
        return out

    def _perform(
        self, name: str, r: Routine, slots: dict[str, int], above: tuple[str, ...], span: sx.Span
    ) -> ck.Perform:
        body = self._bodies.get(name.lower())
        if body is None:
            scope = RoutineScope(self.table, r, slots, f"{name}.", self.outer, (*above, r.name.lower()))
            body = self._bodies[name.lower()] = self._checked(r, scope)[0]
        return ck.Perform(name, body, self.place(r), span)

    def _checked(self, r: Routine, scope: RoutineScope) -> tuple[tuple[ck.CheckedStatement, ...], list[Problem]]:
        checker = Checker(scope)
        nowhere = sx.Span(1, 1, 0, 0)
        fresh = tuple(
            ck.Store(
                scope.slots[m.name.lower()], m.name, Type(m.type), ck.Const(Type(m.type), start_of(m), nowhere), nowhere
            )
            for m in r.plain("temporary")
        )
        try:
            return (*fresh, *checker.statements(parse_statements(r.text))), checker.problems
        except TextError as error:
            return (), error.problems
