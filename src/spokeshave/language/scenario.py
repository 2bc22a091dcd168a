"""Scenario texts into rows: what is done when, and what is expected. Names are looked up elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Tree, UnexpectedCharacters, UnexpectedEOF, UnexpectedToken

from spokeshave.language import syntax as sx
from spokeshave.language.literals import time_ms
from spokeshave.language.parse import explain_error, parse_expression


@dataclass(frozen=True, slots=True)
class Moment:
    """When a row is done: `kind` is at, after (the row before), when (a condition), on_step (a step is entered)."""

    kind: str
    ms: int = 0
    condition: str = ""
    sequence: str = ""
    step: str = ""


@dataclass(frozen=True, slots=True)
class DeedRow:
    """Something done to the machine. `ms` is how long a button is pressed; `value` a position or literal text."""

    line: int
    text: str
    moment: Moment
    do: str
    target: str = ""
    value: str = ""
    ms: int = 0


@dataclass(frozen=True, slots=True)
class ExpectRow:
    """An expectation. `conditions` are one or two expressions, `names` a sequence with steps, `note` an alarm's text,
    `count` how often.
    """

    line: int
    text: str
    kind: str
    ms: int = 0
    conditions: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    note: str = ""
    count: int = 0


@dataclass(frozen=True, slots=True)
class Sheet:
    """A parsed scenario: rows in their order and the length of the run in ms (0 when no row says it)."""

    deeds: tuple[DeedRow, ...]
    expectations: tuple[ExpectRow, ...]
    length_ms: int
    problems: tuple[sx.Problem, ...]


PRESS_MS = 200
"""How long a button is pressed when the row does not say."""


@cache
def _parser() -> Lark:
    folder = files("spokeshave.language")
    grammar = "\n".join((folder / n).read_text(encoding="utf-8") for n in ("structured_text.lark", "scenario.lark"))
    return Lark(grammar, parser="lalr", lexer="contextual", start="row", propagate_positions=True)


def parse_scenario(text: str) -> Sheet:
    """All rows of a scenario. Lines that are wrong become problems; the others are still read."""
    deeds: list[DeedRow] = []
    expectations: list[ExpectRow] = []
    problems: list[sx.Problem] = []
    length = 0
    for number, line in enumerate(text.splitlines(), 1):
        row = line.rstrip()
        if not row.strip() or row.lstrip().startswith("//"):
            continue
        try:
            tree = _parser().parse(row)
            found = _Row(row, number).read(tree)
        except (UnexpectedToken, UnexpectedCharacters, UnexpectedEOF) as error:
            p = explain_error(error, row, "start_row")
            problems.append(sx.Problem(number, p.column, p.message, p.advice, p.start, p.end))
            continue
        except ValueError as error:
            problems.append(sx.Problem(number, 1, str(error)))
            continue
        except RecursionError:
            problems.append(sx.Problem(number, 1, "this row is too long"))
            continue
        if isinstance(found, int):
            length = found
        elif isinstance(found, DeedRow):
            deeds.append(found)
        else:
            expectations.append(found)
    last = max(1, len(text.splitlines()))
    if not problems and not expectations:
        problems.append(sx.Problem(last, 1, "this scenario expects nothing", "add a row such as: expect no alarms"))
    if not problems and not length:
        problems.append(sx.Problem(last, 1, "the scenario does not say how long it runs", "add a row: run for 60 s"))
    return Sheet(tuple(deeds), tuple(expectations), length, tuple(problems))


def duration_ms(text: str) -> int:
    """Milliseconds of `2 s`, `300 ms`, `1.5 min` or a TIME literal."""
    text = text.replace(" ", "").lower()
    return time_ms(text.replace("min", "m"))


@dataclass
class _Row:
    text: str
    line: int

    def read(self, tree: Tree[Token]) -> DeedRow | ExpectRow | int:
        if tree.data == "run_for":
            return self.duration(tree.children[-1])
        if tree.data == "deed_row":
            return self.deed(self.moment(tree.children[0]), tree.children[1])
        return self.expectation(tree.children[1])

    def duration(self, tree: Any) -> int:
        return duration_ms(str(tree.children[0]))

    def slice(self, tree: Any) -> str:
        return self.text[tree.meta.start_pos : tree.meta.end_pos]

    def condition(self, tree: Any) -> str:
        text = self.slice(tree)
        # Parentheses around the whole are not part of the tree's span.
        try:
            parse_expression(text)
        except sx.TextError:
            at, end = tree.meta.start_pos, tree.meta.end_pos
            text = self.text[self.text.rindex("(", 0, at) : self.text.index(")", end) + 1]
        return text

    def moment(self, tree: Any) -> Moment:
        c = tree.children
        if tree.data in ("at", "after"):
            return Moment(str(tree.data), self.duration(c[1]))
        later = 0 if c[2] is None else self.duration(c[2])
        if tree.data == "when":
            return Moment("when", later, self.condition(c[1]))
        sequence, step = (str(n) for n in c[1].children)
        return Moment("on_step", later, sequence=sequence, step=step)

    def deed(self, moment: Moment, tree: Any) -> DeedRow:
        words = [c for c in tree.children[1:] if isinstance(c, Token)]
        target = "" if tree.data in ("power_cycle", "acknowledge") else str(words[0])
        value, ms = "", 0
        if tree.data == "press":
            last = tree.children[-1]
            ms = PRESS_MS if last is None else self.duration(last)
        elif tree.data in ("turn", "set_value", "force"):
            value = self.slice(tree.children[-1])
        elif tree.data in ("break_device", "mend_device"):
            value = str(words[-1]).strip('"')
        return DeedRow(self.line, self.text.strip(), moment, str(tree.data), target, value, ms)

    def expectation(self, tree: Any) -> ExpectRow:
        kind, ms, count = str(tree.data), 0, 0
        conditions: list[str] = []
        names: list[str] = []
        note = ""
        for c in tree.children:
            if isinstance(c, Tree) and c.data == "duration":
                ms = self.duration(c)
            elif isinstance(c, Tree) and c.data == "step":
                names += [str(n) for n in c.children]
            elif isinstance(c, Token) and c.type == "NAME":
                names.append(str(c))
            elif isinstance(c, Token) and c.type == "STRING":
                note = str(c).strip('"')
            elif isinstance(c, Token) and c.type in ("LEAST", "MOST"):
                kind = f"{'lasts' if kind == 'lasts' else 'entered'}_{c.lower()}"
            elif isinstance(c, Token) and c.type == "INT_LITERAL":
                count = int(c)
            elif isinstance(c, Tree):
                conditions.append(self.condition(c))
        return ExpectRow(self.line, self.text.strip(), kind, ms, tuple(conditions), tuple(names), note, count)
