"""Small mistakes in a condition or in statements: a term dropped, negated or exchanged, AND for OR, one more, an edge made a level."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import takewhile

from spokeshave.language import syntax as sx
from spokeshave.language.literals import time_ms, time_text
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.model.project import Signal, Type

_OTHER = {">": ">=", ">=": ">", "<": "<=", "<=": "<", "=": ">=", "<>": "="}
_UNITS = {"ms": "s", "s": "ms", "m": "s", "h": "m"}


@dataclass(frozen=True, slots=True)
class Slip:
    """A text with one mistake: its kind, the text, and in words what is otherwise."""

    kind: str
    text: str
    words: str


class Slips:
    """Makes the mistakes of texts of one machine file. `signals` are by name in lower case."""

    def __init__(self, signals: Mapping[str, Signal], period_ms: int) -> None:
        self.signals, self.period_ms = signals, period_ms

    def in_condition(self, text: str) -> Iterator[Slip]:
        """The mistakes of a condition, each once."""
        yield from _each_once(text, self._in(parse_expression(text), text))

    def in_statements(self, text: str) -> Iterator[Slip]:
        """The mistakes of statements: those of their expressions, and lines that are gone."""
        yield from _each_once(text, self._in_block(parse_statements(text), text))

    def _in_block(self, block: tuple[sx.Statement, ...], text: str) -> Iterator[Slip]:
        for s in block:
            expressions, blocks, _ = sx.children(s)
            for e in expressions:
                yield from self._in(e, text)
            for inner in blocks:
                yield from self._in_block(inner, text)
            if isinstance(s, (sx.Assign, sx.BlockCall)):
                said = _said(text, s.span)
                zero = isinstance(s, sx.Assign) and isinstance(s.value, sx.Literal) and not s.value.value
                kind = "a reset gone" if zero else "a line gone"
                yield Slip(kind, text[: s.span.start] + text[s.span.end :], f"without {said}")

    def _in(self, tree: sx.Expression, text: str, under_not: bool = False) -> Iterator[Slip]:
        """The mistakes of an expression, in the whole text."""
        match tree:
            case sx.Binary(op=op, left=left, right=right) if op in ("AND", "OR"):
                for gone, stays in ((left, right), (right, left)):
                    if not (isinstance(gone, sx.Binary) and gone.op == op):
                        alone = text[stays.span.start : stays.span.end]
                        kept = _put(text, tree.span, f"({alone})" if isinstance(stays, sx.Binary) else alone)
                        yield Slip("a term dropped", kept, f"without {_said(text, gone.span)}")
                other = "OR" if op == "AND" else "AND"
                said = f"with {other} before {_said(text, right.span)}"
                yield Slip(f"{other} for {op}", self._operator(tree, text, other), said)
            case sx.Binary(op=op) if op in _OTHER:
                said = f"with {_OTHER[op]} for {op} in {_said(text, tree.span)}"
                yield Slip(f"{_OTHER[op]} for {op}", self._operator(tree, text, _OTHER[op]), said)
            case sx.Unary(op="NOT", operand=operand):
                positive = text[operand.span.start : operand.span.end]
                said = f"with {_said(text, operand.span)} for NOT {_said(text, operand.span)}"
                yield Slip(
                    "a term negated", _put(text, tree.span, f"({positive})" if " " in positive else positive), said
                )
            case sx.Call(function=function, arguments=arguments) if function.upper() in ("RISING", "FALLING"):
                level = text[arguments[0].value.span.start : arguments[0].value.span.end]
                level = level if function.upper() == "RISING" else f"NOT ({level})"
                yield Slip("an edge made a level", _put(text, tree.span, f"({level})"), f"with {level} for its edge")
            case sx.Literal():
                yield from self._in_literal(tree, text)
            case sx.Name():
                yield from self._in_name(tree, text, under_not)
        for part in sx.parts(tree):
            yield from self._in(part, text, isinstance(tree, sx.Unary))

    @staticmethod
    def _operator(tree: sx.Binary, text: str, new: str) -> str:
        """The text with another operator between two operands."""
        between = text[tree.left.span.end : tree.right.span.start]
        swapped = re.sub(re.escape(tree.op), new, between, count=1, flags=re.IGNORECASE)
        return f"{text[: tree.left.span.end]}{swapped}{text[tree.right.span.start :]}"

    def _in_literal(self, tree: sx.Literal, text: str) -> Iterator[Slip]:
        said = _said(text, tree.span)
        if tree.type is Type.TIME and tree.value:
            for kind, ms in (
                ("a time doubled", 2 * int(tree.value)), ("a time halved", int(tree.value) // 2),
                ("one scan more", int(tree.value) + self.period_ms),
            ):  # fmt: skip
                yield Slip(kind, _put(text, tree.span, time_text(ms)), f"with {time_text(ms)} for {said}")
            unit = re.search(r"(ms|[smh])$", said, re.IGNORECASE)
            if unit is not None:
                wrong = said[: unit.start()] + _UNITS[unit[1].lower()]
                yield Slip("the unit wrong", _put(text, tree.span, wrong), f"with {wrong} for {said}")
        elif isinstance(tree.value, int) and not isinstance(tree.value, bool) and tree.type is not Type.TIME:
            for kind, value in (("one more", int(tree.value) + 1), ("one less", int(tree.value) - 1)):
                yield Slip(kind, _put(text, tree.span, str(value)), f"with {value} for {said}")

    def _in_name(self, tree: sx.Name, text: str, under_not: bool) -> Iterator[Slip]:
        signal = self.signals.get(str(tree).lower())
        if signal is None:
            return
        if signal.type is Type.BOOL and not under_not:
            yield Slip(
                "a term negated",
                _put(text, tree.span, f"NOT {signal.name}"),
                f"with NOT {signal.name} for {signal.name}",
            )
        near = self.neighbour(signal)
        if near:
            yield Slip("exchanged with its neighbour", _put(text, tree.span, near), f"with {near} for {signal.name}")

    def neighbour(self, signal: Signal) -> str:
        """The signal that one types for this one: of its class and type, with the longest beginning in common, of three letters at least."""
        others = [s for s in self.signals.values() if (s.cls, s.type) == (signal.cls, signal.type) and s is not signal]
        best, name = 2, ""
        for s in others:
            same = _alike(s.name.lower(), signal.name.lower())
            if same > best:
                best, name = same, s.name
        return name


def _each_once(text: str, slips: Iterator[Slip]) -> Iterator[Slip]:
    seen = {" ".join(text.split())}
    for slip in slips:
        key = " ".join(slip.text.split())
        if key not in seen:
            seen.add(key)
            yield slip


def _alike(a: str, b: str) -> int:
    """How many letters two names begin with in common."""
    return sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(a, b)))


def _put(text: str, span: sx.Span, new: str) -> str:
    return f"{text[: span.start]}{new}{text[span.end :]}"


def _said(text: str, span: sx.Span) -> str:
    return " ".join(text[span.start : span.end].split())


def delayed(text: str) -> str:
    """A time literal doubled; empty for what is none."""
    try:
        return time_text(2 * time_ms(text)) if time_ms(text) else ""
    except ValueError:
        return ""
