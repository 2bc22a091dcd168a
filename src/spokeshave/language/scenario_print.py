"""Scenario rows in one usual form: small keywords, single spaces, expressions as they are always printed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from spokeshave.language.parse import parse_expression
from spokeshave.language.printer import expression_text
from spokeshave.language.scenario import EXPRESSIONS, is_row, is_tree, row_tree
from spokeshave.language.syntax import TextError

if TYPE_CHECKING:
    from lark import Token, Tree

_AS_TYPED = (
    "NAME",
    "CELL",
    "IDENT",
    "STRING",
    "TIME_LITERAL",
    "TYPED_LITERAL",
    "BASED_LITERAL",
    "REAL_LITERAL",
    "INT_LITERAL",
)


def format_scenario(text: str) -> str:
    """The text in its usual form; rows that cannot be read, and notes, stay as they are but for the space around them.

    Doing it twice changes nothing more.
    """
    lines = [format_row(line) for line in text.splitlines()]
    while lines and not lines[-1]:
        lines.pop()
    return "".join(f"{line}\n" for line in lines)


def format_row(line: str) -> str:
    """One row in its usual form.

    >>> format_row('At 500ms:press Start  FOR 0.3s')
    'at 500 ms: press Start for 0.3 s'
    """
    row = line.strip()
    if not is_row(row):
        return row
    try:
        tree = row_tree(row, 1)
        return _join(_pieces(row, tree))
    except TextError:
        return row


def split_row(row: str) -> tuple[str, str]:
    """A row's head and what follows: its moment and the deed, or its first word and the rest.

    >>> split_row("on Roast.Drop, 2 s later: hold Emergency"), split_row("expect no alarms")
    (('on Roast.Drop, 2 s later', 'hold Emergency'), ('expect', 'no alarms'))
    """
    row = row.strip()
    word = row.split(" ", 1)[0].lower().rstrip(":")
    if row.startswith("//"):
        return "//", row[2:].strip()
    if word in ("at", "after", "when", "on"):
        head, colon, rest = row.partition(":")
        while rest.startswith("="):  # a named argument in the condition
            more, colon, rest = rest.partition(":")
            head += f":{more}"
        return (head.strip(), rest.strip()) if colon else (row, "")
    if word == "for":
        return row, ""
    if word == "run":
        head, rest = row[:3], row[3:]
    else:
        head, _, rest = row.partition(" ")
    return head, rest.strip()


def join_row(head: str, rest: str) -> str:
    """The row of a head and what follows it: `split_row` backwards."""
    head, rest = head.strip(), rest.strip()
    if head.split(" ", 1)[0].lower() in ("at", "after", "when", "on"):
        return f"{head}: {rest}" if rest else head
    return f"{head} {rest}".strip()


def _pieces(row: str, tree: Tree[Token]) -> list[str]:
    """The words of a row, each expression one of them."""
    if tree.data in EXPRESSIONS:
        return [expression_text(parse_expression(row[tree.meta.start_pos : tree.meta.end_pos]))]
    out: list[str] = []
    for c in tree.children:
        if is_tree(c):
            out += _pieces(row, c)
        elif c.type == "DURATION":
            number = c.rstrip("msinhMSINH").rstrip()
            out.append(f"{number} {c[len(number) :].strip().lower()}")
        elif c.type in ("TRUE", "FALSE"):
            out.append(c.upper())
        else:
            out.append(str(c) if c.type in _AS_TYPED else c.lower())
    return out


def _join(pieces: list[str]) -> str:
    text = ""
    for piece in pieces:
        close = piece in (":", ",", ".") or text.endswith((".", "-")) or not text
        text += piece if close else f" {piece}"
    return text
