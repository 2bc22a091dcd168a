"""Scenario texts into rows: what is done when, and what is expected. Names are looked up elsewhere."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING

from spokeshave.language import syntax as sx
from spokeshave.language.literals import duration_ms
from spokeshave.language.scenario_rows import DeedRow, EachRow, ExpectRow, GivenRow, Moment, Sheet

if TYPE_CHECKING:
    from lark import Token, Tree
    from typing_extensions import TypeIs

PRESS_MS = 200
"""How long a button is pressed when the row does not say."""

EXPRESSIONS = ("binary", "unary", "group", "call", "name", "literal")
"""Trees in a row that are expressions."""


_WORDS = {"IDENT": "an identifier of the brief", "STRING": "a text in quotes", "DURATION": "a time such as 3 s",
          "AND": "AND", "OR": "OR", "NOT": "NOT", "XOR": "XOR", "MOD": "MOD", "TRUE": "TRUE", "FALSE": "FALSE"}  # fmt: skip
"""How tokens are told to a person; keywords of rows are small."""


def is_tree(part: Tree[Token] | Token) -> TypeIs[Tree[Token]]:
    """Whether a part of a tree is a tree itself, said without the package that makes them."""
    return hasattr(part, "data")


def is_row(line: str) -> bool:
    """Whether a line says something: it is neither empty nor a note."""
    return bool(line.strip()) and not line.lstrip().startswith("//")


def row_tree(row: str, line: int) -> Tree[Token]:
    """The tree of one row. Raises `TextError` with the located problem."""
    from lark import UnexpectedCharacters, UnexpectedEOF, UnexpectedToken

    from spokeshave.language.expected import explain_error, row_grammar

    try:
        return row_grammar().parse(row)
    except (UnexpectedToken, UnexpectedCharacters, UnexpectedEOF) as error:
        p = explain_error(error, row, "start_row")
        advice = re.sub(r"\b[A-Z_]{2,}\b", lambda m: _WORDS.get(m[0], m[0].strip("_").lower()), p.advice)
        if meant := _meant(row):
            ends = isinstance(error, UnexpectedEOF) or p.start >= len(row)  # it may be going on as it stands
            advice = f"{advice}, or write: {meant}" if ends else f"write: {meant}"
        raise sx.TextError([sx.Problem(line, p.column, p.message, advice, p.start, p.end)]) from None
    except RecursionError:
        raise sx.TextError([sx.Problem(line, 1, "this row is too long")]) from None


LONGEST_RUN_MS = 1_000_000 * 3_600_000
"""A hundred years: nobody waits for more, also where nothing happens in them."""
LONGEST_MEANT = 120
"""Letters of a row that is guessed at: what is said of it has to fit beside it."""
_SAID = re.compile(r"expect\s+(?P<what>.+?)(\s+(?P<word>within|not before|after|before)\s+(?P<time>[\w#. ]+?))?", re.I)


def _meant(row: str) -> str:
    """The row as it would be right, of one that people type who know what they expect and not yet how it is written; else nothing."""
    from lark import LarkError

    from spokeshave.language.expected import row_grammar

    if len(row) > LONGEST_MEANT:
        return ""
    tries = [f"expect {row.strip()}", f"at 0 s: {row.strip()}"]
    said = _SAID.fullmatch(row.strip())
    if said is not None:
        what, time = said["what"], said["time"]
        begin = {"within": "by", "before": "by"}.get((said["word"] or "").lower(), "not before")
        tries = [f"expect {begin} {time}: {what}"] if time else [f"expect finally {what}"]
        if begin == "by" and re.fullmatch(r"\w+\.\w\w+", what):  # a step
            tries.insert(0, f"expect reach {what} within {time}")
    for row_meant in tries:
        with suppress(LarkError, RecursionError):
            row_grammar().parse(row_meant)
            return row_meant
    return ""


@lru_cache(maxsize=2000)
def parse_scenario(text: str) -> Sheet:
    """All rows of a scenario, its lists taken as they stand (see `scenario_lists`).

    Lines that are wrong become problems; the others are still read.
    """
    found = _Found()
    for number, line in enumerate(text.splitlines(), 1):
        row = line.rstrip()
        if not is_row(row):
            continue
        try:
            found.take(_Row(row, number), row_tree(row, number))
        except sx.TextError as error:
            found.problems += error.problems
        except ValueError as error:
            found.problems.append(sx.Problem(number, 1, str(error)))
    last = max(1, len(text.splitlines()))
    if not found.problems and not found.expectations:
        found.problems.append(
            sx.Problem(last, 1, "this scenario expects nothing", "add a row such as: expect no alarms")
        )
    if not found.problems and not found.length:
        found.problems.append(
            sx.Problem(last, 1, "the scenario does not say how long it runs", "add a row: run for 60 s")
        )
    return Sheet(tuple(found.deeds), tuple(found.expectations), found.length, tuple(found.problems), tuple(found.given),
                 found.start, tuple(found.shows))  # fmt: skip


def read_each(row: str, line: int, tree: Tree[Token]) -> EachRow:
    """The list a `for each` row gives."""
    items = tuple(_slice(row, c) for c in tree.children if is_tree(c))
    return EachRow(line, str(_tokens(tree, "NAME")[0]), items)


@dataclass
class _Found:
    deeds: list[DeedRow] = field(default_factory=list)
    given: list[GivenRow] = field(default_factory=list)
    expectations: list[ExpectRow] = field(default_factory=list)
    problems: list[sx.Problem] = field(default_factory=list)
    shows: list[tuple[int, str]] = field(default_factory=list)
    start: str = ""
    length: int = 0

    def take(self, row: _Row, tree: Tree[Token]) -> None:
        match tree.data:
            case "run_for":
                self.length = row.duration(tree)
                if self.length > LONGEST_RUN_MS:
                    raise ValueError("a run lasts at most 1000000 h; what a machine does shows in hours")
            case "shows":
                self.shows += [(row.line, str(n)) for n in _tokens(tree, "IDENT")]
            case "start":
                if self.start:
                    raise ValueError("the scenario starts in one situation; take the other row out")
                self.start = _tokens(tree, "STRING")[0].strip('"')
            case "given_row":
                self.given.append(row.given(_trees(tree)[0]))
            case "deed_row":
                self.deeds.append(row.deed(*_trees(tree)))
            case "expect_row":
                self.expectations.append(row.expectation(_trees(tree)[0]))


def _slice(text: str, tree: Tree[Token]) -> str:
    return text[tree.meta.start_pos : tree.meta.end_pos]


def _tokens(tree: Tree[Token], *kinds: str) -> list[Token]:
    return [c for c in tree.children if not is_tree(c) and c.type in kinds]


def _trees(tree: Tree[Token], *rules: str) -> list[Tree[Token]]:
    return [c for c in tree.children if is_tree(c) and (not rules or c.data in rules)]


def _name(token: Token) -> str:
    """A name as the machine file has it: a cell has no blanks in its brackets."""
    return "".join(token.split())


@dataclass
class _Row:
    text: str
    line: int

    def duration(self, tree: Tree[Token]) -> int:
        return next(self.durations(tree), 0)

    def durations(self, tree: Tree[Token]) -> Iterator[int]:
        for found in _trees(tree, "duration"):
            text = _slice(self.text, found)
            if found.children[0].type == "NAME":  # type: ignore[union-attr]
                raise ValueError(f"{text} is no time; write one such as 3 s, or a row: for each {text} in 3 s, 5 s")
            yield duration_ms(text)

    def words(self, tree: Tree[Token], rule: str) -> str:
        """The text of a value or of a string in quotes."""
        found = _trees(tree, rule)[0]
        text = _slice(self.text, found)
        if rule == "string" and not text.startswith('"'):
            raise ValueError(
                f'{text} is no text in quotes; write "{text}", or a row: for each {text} in "one", "other"'
            )
        return text.strip('"')

    def step(self, tree: Tree[Token]) -> tuple[str, str]:
        names = [str(n) for n in _tokens(tree, "NAME")]
        if len(names) != 2:
            raise ValueError(f"{names[0]} is no step; write Sequence.Step")
        return names[0], names[1]

    def conditions(self, tree: Tree[Token]) -> tuple[str, ...]:
        return tuple(_slice(self.text, c) for c in _trees(tree) if c.data in EXPRESSIONS)

    def given(self, tree: Tree[Token]) -> GivenRow:
        kind = str(tree.data).removeprefix("given_")
        names = [_name(n) for n in _tokens(tree, "NAME", "CELL")]
        value = ""
        if kind in ("value", "parameter"):
            value = self.words(tree, "value")
        elif kind == "failure":
            value = self.words(tree, "string")
            if names[0].lower() == "recipe":  # no keyword: signals are called so
                return GivenRow(self.line, self.text.strip(), "recipe", "", value=value)
        return GivenRow(self.line, self.text.strip(), kind, names[0], names[1] if kind == "parameter" else "", value)

    def moment(self, tree: Tree[Token]) -> Moment:
        kind, ms = str(tree.data), self.duration(tree)
        if kind == "when":
            return Moment(kind, ms, self.conditions(tree)[0])
        if kind == "on_step":
            return Moment(kind, ms, "", *self.step(_trees(tree, "step")[0]))
        return Moment(kind, ms)

    def deed(self, when: Tree[Token], tree: Tree[Token]) -> DeedRow:
        moment, do = self.moment(when), str(tree.data)
        names = [_name(n) for n in _tokens(tree, "NAME", "CELL")]
        value = ""
        ms = self.duration(tree) or (PRESS_MS if do in ("press", "take") else 0)
        if do in ("turn", "set_value", "force", "ask"):
            value = self.words(tree, "value")
        elif do in ("break_device", "mend_device", "use_recipe"):
            value = self.words(tree, "string")
        elif do == "hand_drive":
            value = "FALSE" if _tokens(tree, "OFF") else "TRUE"
        elif do == "mark":
            value = _tokens(tree, "STRING")[0].strip('"')
        return DeedRow(self.line, self.text.strip(), moment, do, names[0] if names else "", value, ms)

    def expectation(self, tree: Tree[Token]) -> ExpectRow:
        kind, count, note = str(tree.data), 0, ""
        times = [*self.durations(tree), 0, 0]
        names = [str(n) for n in _tokens(tree, "NAME")]
        for step in _trees(tree, "step"):
            names += self.step(step)
        limit = _tokens(tree, "LEAST", "MOST")
        for often in _trees(tree, "often"):
            limit = _tokens(often, "LEAST", "MOST")
            count = self.often(often)
        if kind in ("alarm", "no_alarm"):
            note = self.words(tree, "string")
        elif kind == "reach":
            note = "".join(_tokens(tree, "STRING")).strip('"')
        limits = (0.0, 0.0)
        if kind == "value_from":
            low, high = (self.number(v) for v in _trees(tree, "value"))
            limits = (low, high)
        kind += f"_{limit[0].lower()}" if limit else ""
        return ExpectRow(self.line, self.text.strip(), kind, times[0], self.conditions(tree), tuple(names), note, count,
                         times[1], limits)  # fmt: skip

    def often(self, tree: Tree[Token]) -> int:
        number = _tokens(tree, "INT_LITERAL", "NAME")[0]
        if number.type == "NAME":
            raise ValueError(f"{number} is no number; write one, or a row: for each {number} in 1, 2")
        return int(number)

    def number(self, tree: Tree[Token]) -> float:
        text = _slice(self.text, tree)
        try:
            return float(text.replace(" ", "").replace("_", ""))
        except ValueError:
            pass
        try:
            return float(duration_ms(text))
        except ValueError:
            raise ValueError(f"{text} is no number") from None
