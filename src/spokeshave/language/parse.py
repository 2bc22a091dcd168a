"""From text to syntax trees, with messages that a person can act on."""

from __future__ import annotations

import re
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any, cast

from lark import Lark, Token, Transformer, UnexpectedCharacters, UnexpectedEOF, UnexpectedToken, v_args
from lark.exceptions import VisitError
from lark.tree import Meta

from spokeshave.language import syntax as sx
from spokeshave.language.literals import time_ms
from spokeshave.model.project import Type

DEEPEST = 150
"""Parentheses and NOTs may nest this deep; more is a slip or an attack, and is refused with its place."""


def _span(meta: Meta) -> sx.Span:
    if meta.empty:
        return sx.Span(1, 1, 0, 0)
    return sx.Span(meta.line, meta.column, meta.start_pos, meta.end_pos)


def _bad(meta: Meta, message: str, advice: str = "") -> sx.TextError:
    s = _span(meta)
    return sx.TextError([sx.Problem(s.line, s.column, message, advice, s.start, s.end)])


@v_args(meta=True, inline=True)
class _Builder(Transformer[Token, Any]):
    """Builds syntax nodes from the parser's tree."""

    def start_expression(self, _: Meta, expression: sx.Expression) -> sx.Expression:
        return expression

    def start_statements(self, _: Meta, statements: tuple[sx.Statement, ...]) -> tuple[sx.Statement, ...]:
        return statements

    def statements(self, _: Meta, *items: sx.Statement) -> tuple[sx.Statement, ...]:
        return items

    def assignment(self, meta: Meta, target: sx.Name, value: sx.Expression) -> sx.Assign:
        return sx.Assign(target, value, _span(meta))

    def if_statement(self, meta: Meta, condition: sx.Expression, then: Any, *rest: Any) -> sx.If:
        otherwise: tuple[sx.Statement, ...] = ()
        branches = [(condition, then)]
        for kind, *part in rest:
            if kind == "elsif":
                branches.append((part[0], part[1]))
            else:
                otherwise = part[0]
        return sx.If(tuple(branches), otherwise, _span(meta))

    def case_statement(self, meta: Meta, selector: sx.Expression, *parts: Any) -> sx.Case:
        otherwise: tuple[sx.Statement, ...] = ()
        branches = []
        for part in parts:
            if part[0] == "else":
                otherwise = part[1]
            else:
                branches.append((part[1], part[2]))
        return sx.Case(selector, tuple(branches), otherwise, _span(meta))

    def case_branch(self, _: Meta, *parts: Any) -> tuple[str, Any, Any]:
        return ("branch", tuple(parts[:-1]), parts[-1])

    def case_label(self, _: Meta, low: Any, high: Any) -> tuple[Any, Any]:
        return (low, low if high is None else high)

    def case_number(self, meta: Meta, sign: Token | None, token: Token) -> sx.Literal:
        found = self.literal(meta, token)
        return found if sign is None else sx.Literal(-int(found.value), found.type, found.span)

    def case_name(self, meta: Meta, token: Token) -> sx.Name:
        return sx.Name((str(token),), _span(meta))

    def for_statement(self, meta: Meta, name: Token, start: Any, end: Any, step: Any, body: Any) -> sx.For:
        at = int(name.start_pos or 0)
        span = sx.Span(int(name.line or 1), int(name.column or 1), at, at + len(name))
        return sx.For(sx.Name((str(name),), span), start, end, step, body, _span(meta))

    def while_statement(self, meta: Meta, condition: Any, body: Any) -> sx.Loop:
        return sx.Loop(condition, body, True, _span(meta))

    def repeat_statement(self, meta: Meta, body: Any, condition: Any) -> sx.Loop:
        return sx.Loop(condition, body, False, _span(meta))

    def exit_statement(self, meta: Meta, _: Token) -> sx.Jump:
        return sx.Jump("EXIT", _span(meta))

    def return_statement(self, meta: Meta, _: Token) -> sx.Jump:
        return sx.Jump("RETURN", _span(meta))

    def block_call(self, meta: Meta, name: Token, *parts: Any) -> sx.BlockCall:
        given = [p for p in parts if p is not None]
        inputs = tuple(p for p in given if isinstance(p, sx.Argument))
        outputs = tuple(p for p in given if not isinstance(p, sx.Argument))
        return sx.BlockCall(sx.Name((str(name),), _span(meta)), inputs, outputs, _span(meta))

    def block_input(self, _: Meta, name: Token, value: sx.Expression) -> sx.Argument:
        return sx.Argument(str(name), value)

    def block_output(self, _: Meta, name: Token, target: sx.Name) -> tuple[str, sx.Name]:
        return (str(name), target)

    def elsif(self, _: Meta, condition: sx.Expression, then: Any) -> tuple[str, Any, Any]:
        return ("elsif", condition, then)

    def else_part(self, _: Meta, statements: Any) -> tuple[str, Any]:
        return ("else", statements)

    def binary(self, meta: Meta, left: sx.Expression, op: Token, right: sx.Expression) -> sx.Binary:
        return sx.Binary("AND" if op == "&" else op.upper(), left, right, _span(meta))

    def unary(self, meta: Meta, op: Token, operand: sx.Expression) -> sx.Unary:
        return sx.Unary(op.upper(), operand, _span(meta))

    def group(self, _: Meta, expression: sx.Expression) -> sx.Expression:
        return expression

    def call(self, meta: Meta, name: Token, *arguments: sx.Argument | None) -> sx.Call:
        return sx.Call(name.upper(), tuple(a for a in arguments if a is not None), _span(meta))

    def argument(self, _: Meta, name: Token | None, value: sx.Expression) -> sx.Argument:
        return sx.Argument(str(name or ""), value)

    def name(self, meta: Meta, *parts: Token) -> sx.Name:
        return sx.Name(tuple(str(p) for p in parts), _span(meta))

    def literal(self, meta: Meta, token: Token) -> sx.Literal:
        text = token.replace("_", "") if token.type != "TIME_LITERAL" else str(token)
        try:
            return self._literal(meta, token.type, text)
        except ValueError as error:
            raise _bad(meta, str(error)) from None

    def _literal(self, meta: Meta, kind: str, text: str) -> sx.Literal:
        span = _span(meta)
        if kind in ("TRUE", "FALSE"):
            return sx.Literal(kind == "TRUE", Type.BOOL, span)
        if kind == "TIME_LITERAL":
            return sx.Literal(time_ms(text), Type.TIME, span)
        if kind == "REAL_LITERAL":
            return sx.Literal(float(text), Type.REAL, span)
        if kind == "TYPED_LITERAL":
            return self._typed(text, span)
        return sx.Literal(_integer(text), None, span)

    def _typed(self, text: str, span: sx.Span) -> sx.Literal:
        name, _, rest = text.partition("#")
        kind = Type(name.upper())
        if kind is Type.REAL:
            return sx.Literal(float(rest), kind, span)
        value = {"TRUE": 1, "FALSE": 0}.get(rest.upper()) if kind is Type.BOOL else None
        number = _integer(rest) if value is None else value
        return sx.Literal(bool(number) if kind is Type.BOOL else number, kind, span)


def _integer(text: str) -> int:
    base, mark, digits = text.rpartition("#")
    try:
        return int(digits, int(base) if mark else 10)
    except ValueError:
        raise ValueError(f"{text} is not a number") from None


@cache
def _parser() -> Lark:
    grammar = (files("spokeshave.language") / "structured_text.lark").read_text(encoding="utf-8")
    return Lark(
        grammar,
        parser="lalr",
        lexer="basic",
        start=["start_expression", "start_statements"],
        propagate_positions=True,
        maybe_placeholders=True,
    )


_BUILDER = _Builder()


_WORDS = {
    "_THEN": "THEN", "_OF": "OF", "_TO": "TO", "_BY": "BY", "EQ": "=", "NE": "<>", "LE": "<=", "GE": ">=", "LT": "<",
    "GT": ">", "PLUS": "+", "MINUS": "-", "STAR": "*", "SLASH": "/", "POW": "**", "AMP": "&", "SEMICOLON": ";",
    "COLON": ":", "LPAR": "(", "RPAR": ")", "COMMA": ",", "DOT": ".", "NAME": "a name", "LABEL_NAME": "a name and a colon", "__ANON_0": ":=",
    "__ANON_1": "..", "__ANON_2": "=>", "$END": "the end",
}  # fmt: skip
_OPERATORS = {"AND", "OR", "XOR", "MOD", "EQ", "NE", "LE", "GE", "LT", "GT", "PLUS", "MINUS", "STAR", "SLASH", "POW"}
_STARTERS = {"NOT", "NAME", "TRUE", "FALSE", "LPAR", "INT_LITERAL", "REAL_LITERAL", "TIME_LITERAL"}


def _expected(names: set[str]) -> str:
    """What could stand here, in a few words."""
    words = []
    if names >= _STARTERS:
        words.append("a value, a name or a condition")
        names = {n for n in names if n not in _STARTERS and not n.endswith("_LITERAL") and n not in ("PLUS", "MINUS")}
    if "OR" in names:
        words.append("an operator such as AND or =")
        names = names - _OPERATORS - {"AMP"}
    if words or names - {"DOT", "LPAR"}:
        names = names - {"DOT", "LPAR"}
    words += sorted(_WORDS.get(n, n) for n in names)
    return " or ".join(words) if len(words) < 3 else ", ".join(words[:-1]) + " or " + words[-1]


def explain_error(error: UnexpectedToken | UnexpectedCharacters | UnexpectedEOF, text: str, start: str) -> sx.Problem:
    if isinstance(error, UnexpectedCharacters):
        at = error.pos_in_stream or 0
        found = text[at]
        shown = found if found.isprintable() else f"character {ord(found)}"
        return sx.Problem(error.line, error.column, f"{shown} has no meaning here", "take it out", at, at + 1)
    token = error.token if isinstance(error, UnexpectedToken) else None
    expected = set(error.expected or ())
    if isinstance(error, UnexpectedToken):
        expected = set(error.accepts or error.expected)
    if token is None or token.type == "$END":
        lines = text.split("\n")
        wanted = "a semicolon" if "SEMICOLON" in expected and "OR" in expected else _expected(expected - {"$END"})
        return sx.Problem(len(lines), len(lines[-1]) + 1, "the text ends too early", f"here should stand {wanted}",
                          len(text), len(text))  # fmt: skip
    line, column = int(token.line or 1), int(token.column or 1)
    at, end = int(token.start_pos or 0), int(token.end_pos or 0)
    if token == ":=" and start == "start_expression":
        return sx.Problem(line, column, "this is an assignment, a condition compares", "write = instead of :=", at, end)
    if token == "=" and start == "start_statements" and ":=" in {_WORDS.get(n, n) for n in expected}:
        return sx.Problem(line, column, "this compares, a statement assigns", "write := instead of =", at, end)
    if token == ";" and start == "start_expression":
        return sx.Problem(line, column, "a condition has no semicolon", "take it out", at, end)
    return sx.Problem(line, column, f"{token} does not fit here", f"expected {_expected(expected)}", at, end)


def _unclosed_comment(text: str) -> int:
    """Where a comment begins that never ends, or -1; one pass over the text."""
    at = 0
    while True:
        start, line = text.find("(*", at), text.find("//", at)
        if start < 0:
            return -1
        if 0 <= line < start:
            end = text.find("\n", line)
            if end < 0:
                return -1
            at = end
            continue
        end = text.find("*)", start + 2)
        if end < 0:
            return start
        at = end + 2


def _guard(text: str) -> None:
    """Refuses what would only exhaust the parser: NULs, and nesting no person writes."""
    at = text.find("\0")
    if at >= 0:
        line = text.count("\n", 0, at) + 1
        raise sx.TextError(
            [sx.Problem(line, at - text.rfind("\n", 0, at), "a NUL character", "take it out", at, at + 1)]
        )
    at = _unclosed_comment(text)
    if at >= 0:
        line, column = text.count("\n", 0, at) + 1, at - text.rfind("\n", 0, at)
        raise sx.TextError(
            [sx.Problem(line, column, "a comment is opened and never closed", "end it with *)", at, at + 2)]
        )
    depth = 0
    for at, c in enumerate(text):
        if c == "(":
            depth += 1
            if depth > DEEPEST:
                line = text.count("\n", 0, at) + 1
                problem = sx.Problem(line, at - text.rfind("\n", 0, at), "the parentheses nest too deeply",
                                     f"at most {DEEPEST} levels; use an internal for a part of it", at, at + 1)  # fmt: skip
                raise sx.TextError([problem])
        elif c == ")":
            depth -= 1


def _parse(text: str, start: str) -> Any:
    _guard(text)
    try:
        return _BUILDER.transform(_parser().parse(text, start=start))
    except (UnexpectedToken, UnexpectedCharacters, UnexpectedEOF) as error:
        raise sx.TextError([explain_error(error, text, start)]) from None
    except VisitError as error:
        if isinstance(error.orig_exc, sx.TextError):
            raise error.orig_exc from None
        if isinstance(error.orig_exc, RecursionError):
            raise _too_long() from None
        raise
    except RecursionError:
        raise _too_long() from None


def _too_long() -> sx.TextError:
    return sx.TextError([sx.Problem(1, 1, "this is too long for one expression", "use internals for its parts")])


@lru_cache(maxsize=20_000)
def parse_expression(text: str) -> sx.Expression:
    """The tree of an expression. Raises `TextError` with a located problem."""
    if not text.strip():
        raise sx.TextError([sx.Problem(1, 1, "nothing is written here", "write a condition, for example TRUE")])
    return cast(sx.Expression, _parse(text, "start_expression"))


@lru_cache(maxsize=5_000)
def parse_statements(text: str) -> tuple[sx.Statement, ...]:
    """The statements of a body or of opening or closing logic. Raises `TextError` with all located problems."""
    try:
        return cast("tuple[sx.Statement, ...]", _parse(text, "start_statements"))
    except sx.TextError as error:
        raise sx.TextError(_all_problems(text, error.problems[0])) from None


MOST_PROBLEMS = 20


def _all_problems(text: str, first: sx.Problem) -> list[sx.Problem]:
    """The first problem and those behind it: each faulty statement is blanked out and the rest read again.

    A fault that the blanking itself makes (an IF whose head is gone) is not told.
    """
    problems, rest, at = [first], text, first.start
    for _ in range(2 * MOST_PROBLEMS):
        start = max(rest.rfind(w, 0, at) for w in (";", "THEN", "ELSE", "DO", "then", "else", "do"))
        start = 0 if start < 0 else start + (1 if rest[start] == ";" else 4 if rest[start] in "TtEe" else 2)
        end = rest.find(";", at)
        end = len(rest) if end < 0 else end
        blank = re.sub(r"[^\n]", " ", rest[start:end])
        if blank == rest[start:end]:
            break
        rest = rest[:start] + blank + rest[end:]
        try:
            _parse(rest, "start_statements")
            break
        except sx.TextError as error:
            found = error.problems[0]
        if found.start <= at or found.message == "the text ends too early" or len(problems) == MOST_PROBLEMS:
            break
        at = found.start
        if not found.message.upper().startswith(("END_", "ELSE ", "ELSIF ", "UNTIL ")):
            problems.append(found)
    return problems
