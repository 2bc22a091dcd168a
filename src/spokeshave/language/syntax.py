"""Syntax trees as written: every node knows its span in the source."""

from __future__ import annotations

from dataclasses import dataclass
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


Expression = Literal | Name | Unary | Binary | Call


@dataclass(frozen=True, slots=True)
class Assign:
    """An assignment."""

    target: Name
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
    outputs: tuple[tuple[str, Name], ...]
    span: Span


Statement = Assign | If | Case | For | Loop | Jump | BlockCall


def children(s: Statement) -> tuple[tuple[Expression, ...], tuple[tuple[Statement, ...], ...], tuple[Name, ...]]:
    """What a statement is made of: expressions it reads, blocks of statements inside it, names it writes."""
    match s:
        case Assign():
            return (s.value,), (), (s.target,)
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
            return tuple(a.value for a in s.inputs), (), tuple(n for _, n in s.outputs)
        case Jump():
            return (), (), ()


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
ABS ACTION AND ARRAY AT BOOL BY BYTE CASE CONFIGURATION CONSTANT CTD CTU CTUD DATE DINT DO DT DWORD ELSE ELSIF
END_ACTION END_CASE END_FOR END_FUNCTION END_FUNCTION_BLOCK END_IF END_PROGRAM END_REPEAT END_STEP END_TRANSITION
END_VAR END_WHILE EXIT FALLING FALSE FOR FROM FUNCTION FUNCTION_BLOCK F_TRIG HELD HOME IF INITIAL_STEP INT LIMIT LINT
LREAL LWORD MAX MIN MOD NOT OF OR PRIORITY PROGRAM REAL REPEAT RETAIN RETURN RISING RS R_TRIG SEL SINT SQRT SR STEP
STRING STRUCT THEN TIME TO TOF TON TP TRANSITION TRUE TYPE UDINT UINT ULINT UNTIL USINT VAR VAR_EXTERNAL VAR_GLOBAL
VAR_INPUT VAR_IN_OUT VAR_OUTPUT WHILE WITH WORD XOR
"""
KEYWORDS = frozenset(_WORDS.split())
"""Names that signals, steps and devices may not have (semantics section 2)."""
