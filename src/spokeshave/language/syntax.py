"""Syntax trees as written: every node knows its span in the source."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import NamedTuple

from spokeshave.language import LanguageError
from spokeshave.model.diagnostics import clipped
from spokeshave.model.project import Type, Value

LONGEST_NAME = 100
"""Characters of a name (semantics section 2)."""


class Span(NamedTuple):
    """Line and column of the first character (from 1), and the offsets where it starts and ends."""

    line: int
    column: int
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Literal:
    """`type` is None for an integer literal, which takes the type it meets."""

    value: Value
    type: Type | None
    span: Span


@dataclass(frozen=True, slots=True)
class Name:
    """A name with its members: `Roast.Charge.T`."""

    parts: tuple[str, ...]
    span: Span

    def __str__(self) -> str:
        return ".".join(self.parts)


@dataclass(frozen=True, slots=True)
class Element:
    """A cell of a table whose row is worked out: `Pattern[Index].Time`. A cell in a fixed row is a `Name`, `Pattern[3].Time`."""

    table: Name
    index: Expression
    member: tuple[str, ...]
    span: Span

    def __str__(self) -> str:
        return str(self.table)


@dataclass(frozen=True, slots=True)
class Unary:
    """NOT or a sign."""

    op: str
    operand: Expression
    span: Span


@dataclass(frozen=True, slots=True)
class Binary:
    """An operator between two expressions."""

    op: str
    left: Expression
    right: Expression
    span: Span


@dataclass(frozen=True, slots=True)
class Argument:
    """An input of a call; `name` is empty where it is given by its place."""

    name: str
    value: Expression


@dataclass(frozen=True, slots=True)
class Call:
    """A function with its inputs."""

    function: str
    arguments: tuple[Argument, ...]
    span: Span


Expression = Literal | Name | Element | Unary | Binary | Call
Target = Name | Element
"""What can be assigned."""


def parts(tree: Expression) -> tuple[Expression, ...]:
    """The expressions an expression is made of."""
    match tree:
        case Unary():
            return (tree.operand,)
        case Binary():
            return (tree.left, tree.right)
        case Call():
            return tuple(a.value for a in tree.arguments)
        case Element():
            return (tree.index,)
        case _:
            return ()


def with_parts(tree: Expression, put: Callable[[Expression], Expression]) -> Expression:
    """An expression whose parts went through `put`; itself where that changes none of them."""
    before = parts(tree)
    new = tuple(map(put, before))
    if all(a is b for a, b in zip(new, before)):
        return tree
    match tree:
        case Unary():
            return replace(tree, operand=new[0])
        case Binary():
            return replace(tree, left=new[0], right=new[1])
        case Call():
            return replace(tree, arguments=tuple(replace(a, value=x) for a, x in zip(tree.arguments, new)))
        case Element():
            return replace(tree, index=new[0])
        case _:
            return tree


@dataclass(frozen=True, slots=True)
class Assign:
    """An assignment."""

    target: Target
    value: Expression
    span: Span


@dataclass(frozen=True, slots=True)
class If:
    """`branches` are (condition, statements) of IF and each ELSIF; `otherwise` is the ELSE part."""

    branches: tuple[tuple[Expression, tuple[Statement, ...]], ...]
    otherwise: tuple[Statement, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Case:
    """Branches are (labels, statements); a label is one value or a range (low, high) of literals or names."""

    selector: Expression
    branches: tuple[tuple[tuple[tuple[Literal | Name, Literal | Name], ...], tuple[Statement, ...]], ...]
    otherwise: tuple[Statement, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class For:
    """A FOR loop; `step` is None for 1."""

    variable: Name
    start: Expression
    end: Expression
    step: Expression | None
    body: tuple[Statement, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Loop:
    """WHILE (`first` TRUE: the condition is read before the body) or REPEAT (after it, and it ends the loop)."""

    condition: Expression
    body: tuple[Statement, ...]
    first: bool
    span: Span


@dataclass(frozen=True, slots=True)
class Jump:
    """EXIT or RETURN."""

    kind: str
    span: Span


@dataclass(frozen=True, slots=True)
class BlockCall:
    """A call of a declared block instance: inputs by name, outputs taken by name."""

    instance: Name
    inputs: tuple[Argument, ...]
    outputs: tuple[tuple[str, Target], ...]
    span: Span


Statement = Assign | If | Case | For | Loop | Jump | BlockCall


def children(s: Statement) -> tuple[tuple[Expression, ...], tuple[tuple[Statement, ...], ...], tuple[Name, ...]]:
    """What a statement is made of: expressions it reads, blocks of statements inside it, names it writes."""
    match s:
        case Assign():
            return (s.value, *parts(s.target)), (), (_named(s.target),)
        case If():
            return tuple(c for c, _ in s.branches), (*(b for _, b in s.branches), s.otherwise), ()
        case Case():
            labels = tuple(x for ls, _ in s.branches for pair in ls for x in pair if isinstance(x, Name))
            return (s.selector, *labels), (*(b for _, b in s.branches), s.otherwise), ()
        case For():
            ends = (s.start, s.end) if s.step is None else (s.start, s.end, s.step)
            return ends, (s.body,), (s.variable,)
        case Loop():
            return (s.condition,), (s.body,), ()
        case BlockCall():
            indices = (x for _, n in s.outputs for x in parts(n))
            return (*(a.value for a in s.inputs), *indices), (), tuple(_named(n) for _, n in s.outputs)
        case Jump():
            return (), (), ()


def every_statement(block: tuple[Statement, ...]) -> Iterator[Statement]:
    """The statements of a block, inner ones too."""
    for s in block:
        yield s
        for inner in children(s)[1]:
            yield from every_statement(inner)


def _named(target: Target) -> Name:
    """The variable that is assigned, of a cell its table."""
    return target.table if isinstance(target, Element) else target


@dataclass(frozen=True, slots=True)
class Problem:
    """A fault in a text: where, what is wrong, what would be right; neither longer than a person reads."""

    line: int
    column: int
    message: str
    advice: str = ""
    start: int = 0
    end: int = 0

    def __post_init__(self) -> None:
        object.__setattr__(self, "message", clipped(self.message))
        object.__setattr__(self, "advice", clipped(self.advice))

    @staticmethod
    def at(span: Span, message: str, advice: str = "") -> Problem:
        """The problem of a part of a text."""
        return Problem(span.line, span.column, message, advice, span.start, span.end)


class TextError(LanguageError):
    """A text that is not structured text; carries its problems."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("; ".join(p.message for p in problems))
        self.problems = problems


class TooMuch(TextError):
    """A text that nests deeper or is longer than any person writes; nothing more is said of it."""


_WORDS = """
ABS ABSTRACT ACTION AND ARRAY AT BOOL BY BYTE CASE CHAR CLASS CONFIGURATION CONSTANT CONTINUE CTD CTU CTUD DATE DATE_AND_TIME DINT
DO DT DWORD ELSE ELSIF END_ACTION END_CASE END_CLASS END_CONFIGURATION END_FOR END_FUNCTION END_FUNCTION_BLOCK END_IF
END_INTERFACE END_METHOD END_NAMESPACE END_PROGRAM END_REPEAT END_RESOURCE END_STEP END_STRUCT END_TRANSITION END_TYPE END_VAR
END_WHILE EXIT EXTENDS FALLING FALSE FINAL FOR FROM FUNCTION FUNCTION_BLOCK F_EDGE F_TRIG HELD HOME IF IMPLEMENTS INITIAL_STEP INT
INTERFACE INTERNAL INTERVAL LDATE LDATE_AND_TIME LDT LIMIT LINT LREAL LTIME LTIME_OF_DAY LTOD LWORD MAX METHOD MIN MOD NAMESPACE
NON_RETAIN NOT NULL OF OR OVERLAP OVERRIDE PRIORITY PRIVATE PROGRAM PROTECTED PUBLIC READ_ONLY READ_WRITE REAL REF REF_TO REPEAT
RESOURCE RETAIN RETURN RISING RS R_EDGE R_TRIG SEL SINGLE SINT SQRT SR STEP STRING STRUCT SUPER TASK THEN THIS TIME TIME_OF_DAY TO
TOD TOF TON TP TRANSITION TRUE TYPE UDINT UINT ULINT UNTIL USING USINT VAR VAR_ACCESS VAR_CONFIG VAR_EXTERNAL VAR_GLOBAL VAR_INPUT
VAR_IN_OUT VAR_OUTPUT VAR_TEMP WCHAR WHILE WITH WORD WSTRING XOR
"""
KEYWORDS = frozenset(_WORDS.split())
"""Names that signals, steps and devices may not have: the keywords of IEC 61131-3, third edition, and words of the chart form
(semantics section 2). `ON`, which stands in configurations alone, may be a name.
"""
