"""The model's texts in the words of the code: step members become variables, edge functions blocks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from spokeshave.formats.code.pieces import Code, Variables
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.references import Names
from spokeshave.model.project import Project, Sequence, Step

_SHORT = {"RISING": "Edge", "FALLING": "Fall", "HELD": "Held"}
_BLOCK = {"RISING": "R_TRIG", "FALLING": "F_TRIG", "HELD": "TON"}


class Members(Protocol):
    """How a style of code says that a step is active, how long it has been, whether it is late."""

    def active(self, sequence: Sequence, step: Step) -> str: ...
    def time(self, sequence: Sequence, step: Step) -> str: ...
    def late(self, sequence: Sequence, step: Step) -> str: ...
    def state(self, sequence: Sequence) -> str: ...


@dataclass(frozen=True, slots=True)
class Edge:
    """A block that stands for a RISING, FALLING or HELD; `value` is the variable its result is kept in."""

    function: str
    block: str
    value: str
    operand: str
    time: str


class Words:
    """Puts texts into the words of the code, and gathers the edges that stand in them, inner ones first."""

    def __init__(
        self, project: Project, variables: Variables, members: Members, asked: dict[str, str] | None = None
    ) -> None:
        self.project, self.variables, self.members = project, variables, members
        self.names = Names(project)
        self.asked = asked or {}
        """Protected outputs, by name in lower case: logic reads and writes what is asked for, not what goes out."""
        self.edges: dict[str, Edge] = {}
        self.home = ""
        self.plain_edges = ""
        """The variable of the first scan, where the blocks of edges are asked themselves; else their results are kept."""
        self.before_edges = False
        """Whether the text stands above the blocks, so that it sees what they said in the scan before."""
        self.seen: dict[str, str] = {}
        """For a block that is asked above, the variable that keeps what it said."""
        self.behind_first = False
        """Whether the text that is put into words is never looked at in the first scan."""

    def expression(self, text: str, sequence: Sequence | None) -> str:
        """A condition, in parentheses where it needs them beside an AND."""
        tree = parse_expression(text)
        put = self._put(text, _names_and_edges(tree), sequence)
        weak = is_weak(tree)
        end = "\n" if "//" in put else ""
        return f"({put}{end})" if weak or end else put

    def statements(self, text: str, sequence: Sequence | None) -> str:
        found = [node for s in parse_statements(text) for node in _of_statement(s)]
        return self._put(text, found, sequence)

    def logic(self, name: str) -> str:
        """What the logic calls a signal."""
        return self.asked.get(name.lower(), name)

    def output(self, asked: str) -> str:
        """The output that a variable of `asked` asks for."""
        name = next(n for n, a in self.asked.items() if a == asked)
        signal = self.project.signal(name)
        assert signal is not None
        return signal.name

    def rising(self, text: str, sequence: Sequence | None) -> str:
        """The variable that says that a condition has just come true."""
        return self._edge("RISING", self.expression(text, sequence), "")

    def _put(
        self,
        text: str,
        nodes: list[sx.Name | sx.Call],
        sequence: Sequence | None,
        start: int = 0,
        end: int | None = None,
    ) -> str:
        """The part of a text from `start` to `end`, with the nodes in it replaced."""
        out, at = [], start
        for node in sorted(nodes, key=lambda n: n.span.start):
            if isinstance(node, sx.Call):
                values = [
                    self._put(text, _names_and_edges(a.value), sequence, a.value.span.start, a.value.span.end)
                    for a in node.arguments
                ]
                new = self._edge(node.function.upper(), values[0], values[1] if len(values) > 1 else "")
            else:
                new = self._name(node, sequence)
            if new:
                out += [text[at : node.span.start], new]
                at = node.span.end
        return "".join(out) + text[at:end]

    def _edge(self, function: str, operand: str, time: str) -> str:
        key = f"{function} {operand} {time}"
        if key not in self.edges:
            if self.plain_edges:
                stem = operand if operand.isidentifier() else function.capitalize() + str(len(self.edges) + 1)
                block = self.variables.new(f"{stem}{_SHORT[function]}", _BLOCK[function])
                value = f"{block}.Q" if function == "HELD" else f"({block}.Q AND NOT {self.plain_edges})"
            else:
                value = self.variables.new(f"{function.capitalize()}{len(self.edges) + 1}")
                block = self.variables.new(f"{value}_Block", _BLOCK[function])
            self.edges[key] = Edge(function, block, value, operand, time)
        e = self.edges[key]
        if self.plain_edges and self.before_edges and function != "HELD":
            if e.block not in self.seen:
                self.seen[e.block] = self.variables.new(f"{e.block}Seen")
            return self.seen[e.block]
        return f"{e.block}.Q" if self.plain_edges and self.behind_first else e.value

    def _name(self, node: sx.Name, own: Sequence | None) -> str:
        """What a name is called in the code; empty if it stays as it is."""
        parts = [p.lower() for p in node.parts]
        if parts == ["home"]:
            return self.home
        if len(parts) == 1:
            return self.asked.get(parts[0], "")
        found = self.names.chain(parts, own.name.lower() if own is not None else "")
        for target in found:
            if target is not None and target.kind == "step":
                sequence = self.project.sequence(target.owner)
                assert sequence is not None
                return self._member(sequence, target.name, parts[-1])
        if found[0] is None or found[0].kind != "sequence":
            return ""
        sequence = self.project.sequence(parts[0])
        assert sequence is not None
        return self.members.state(sequence)

    def _member(self, sequence: Sequence, name: str, member: str) -> str:
        step = sequence.step(name)
        assert step is not None
        if member == "x":
            text = self.members.active(sequence, step)
            return text if text.replace("_", "").isalnum() else f"({text})"
        return self.members.time(sequence, step) if member == "t" else self.members.late(sequence, step)


def is_weak(tree: sx.Expression) -> bool:
    """Whether a condition needs parentheses beside an AND."""
    return isinstance(tree, sx.Binary) and tree.op in ("OR", "XOR")


def write_edges(words: Words, code: Code, first_scan: str) -> None:
    """Phase 4: every block once. In the first scan nothing has risen or fallen."""
    for e in words.edges.values():
        if words.plain_edges:
            given = f"IN := {e.operand}, PT := {e.time}" if e.function == "HELD" else f"CLK := {e.operand}"
            code.line(f"{e.block}({given});")
            if e.block in words.seen:
                code.line(f"{words.seen[e.block]} := {e.block}.Q AND NOT {first_scan};")
        elif e.function == "HELD":
            code.line(f"{e.block}(IN := {e.operand}, PT := {e.time}); {e.value} := {e.block}.Q;")
        else:
            code.line(f"{e.block}(CLK := {e.operand}); {e.value} := {e.block}.Q AND NOT {first_scan};")


def _names_and_edges(tree: sx.Expression) -> list[sx.Name | sx.Call]:
    """Outermost edge functions, and the names outside them."""
    match tree:
        case sx.Name():
            return [tree]
        case sx.Call() if tree.function.upper() in _BLOCK:
            return [tree]
        case _:
            return [n for part in sx.parts(tree) for n in _names_and_edges(part)]


def _of_statement(s: sx.Statement) -> Iterator[sx.Name | sx.Call]:
    expressions, blocks, written = sx.children(s)
    yield from written
    for e in expressions:
        yield from _names_and_edges(e)
    for block in blocks:
        for inner in block:
            yield from _of_statement(inner)
