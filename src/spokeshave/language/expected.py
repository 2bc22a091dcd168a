"""The grammars, and what could have stood where a text goes wrong: the grammar is asked, by the package that reads it.

Only a text with a fault comes here, so that no other waits for the tables of the grammar; those of scenario rows, which
every check reads, are worked out ahead (`scripts/grammar-tables`).
"""

from __future__ import annotations

import hashlib
import io
import re
from functools import cache
from importlib.resources import files

import lark
from lark import Lark, UnexpectedCharacters, UnexpectedEOF, UnexpectedToken

from spokeshave.language import syntax as sx
from spokeshave.model.diagnostics import quoted


def grammar(*names: str) -> str:
    """Text of the grammar files of the language."""
    return "\n".join((files("spokeshave.language") / n).read_text(encoding="utf-8") for n in names)


@cache
def statement_grammar() -> Lark:
    """The grammar of expressions and statements."""
    return Lark(
        grammar("structured_text.lark"), parser="lalr", lexer="basic", start=["start_expression", "start_statements"]
    )


@cache
def program_grammar() -> Lark:
    """The grammar of a whole file."""
    both = grammar("structured_text.lark", "iec_text.lark")
    return Lark(both, parser="lalr", lexer="basic", start="start_program")


ROW_TABLES = "scenario.tables"


def build_row_grammar() -> Lark:
    """The grammar of one row of a scenario; its trees keep every token."""
    return Lark(grammar("structured_text.lark", "scenario.lark"), parser="lalr", lexer="contextual", start="row",
                propagate_positions=True, keep_all_tokens=True, maybe_placeholders=False)  # fmt: skip


def row_tables() -> bytes:
    """What `ROW_TABLES` has to hold: which grammar and package it is of, and the tables."""
    out = io.BytesIO()
    build_row_grammar().save(out)
    return _row_mark() + out.getvalue()


def _row_mark() -> bytes:
    text = grammar("structured_text.lark", "scenario.lark")
    return f"{hashlib.sha256(text.encode()).hexdigest()} {lark.__version__}\n".encode()


@cache
def row_grammar() -> Lark:
    """As `build_row_grammar`, from the tables if they are those of this grammar and package."""
    mark, held = _row_mark(), files("spokeshave.language") / ROW_TABLES
    tables = held.read_bytes() if held.is_file() else b""
    return Lark.load(io.BytesIO(tables[len(mark) :])) if tables.startswith(mark) else build_row_grammar()


def syntax_problem(text: str, start: str) -> sx.Problem | None:
    """The first word the grammar has no place for, from the rule `start`; None if the text is well formed."""
    try:
        (program_grammar() if start == "start_program" else statement_grammar()).parse(text, start=start)
    except (UnexpectedToken, UnexpectedCharacters, UnexpectedEOF) as error:
        return explain_error(error, text, start)
    return None


_WORDS = {
    "_THEN": "THEN", "_OF": "OF", "_TO": "TO", "_BY": "BY", "EQ": "=", "NE": "<>", "LE": "<=", "GE": ">=", "LT": "<",
    "GT": ">", "PLUS": "+", "MINUS": "-", "STAR": "*", "SLASH": "/", "POW": "**", "AMP": "&", "SEMICOLON": ";",
    "COLON": ":", "LPAR": "(", "RPAR": ")", "COMMA": ",", "LSQB": "[", "RSQB": "]",
    "DOT": ".", "NAME": "a name", "LABEL_NAME": "a name and a colon", "__ANON_0": ":=",
    "__ANON_1": "..", "__ANON_2": "=>", "$END": "the end",
}  # fmt: skip
_OPERATORS = {"AND", "OR", "XOR", "MOD", "EQ", "NE", "LE", "GE", "LT", "GT", "PLUS", "MINUS", "STAR", "SLASH", "POW"}
_LABELS = {"MINUS", "BASED_LITERAL", "INT_LITERAL", "TYPED_LITERAL", "LABEL_NAME"}
_STARTERS = {"NOT", "NAME", "TRUE", "FALSE", "LPAR", "INT_LITERAL", "REAL_LITERAL", "TIME_LITERAL"}


def _expected(names: set[str]) -> str:
    """What could stand here, in a few words."""
    words = []
    if names >= _LABELS and not names >= _STARTERS:
        words.append("a label")
        names = names - _LABELS
    if names >= _STARTERS:
        words.append("a value, a name or a condition")
        names = {n for n in names if n not in _STARTERS and not n.endswith("_LITERAL") and n not in ("PLUS", "MINUS")}
    if "OR" in names:
        words.append("an operator such as AND or =")
        names = names - _OPERATORS - {"AMP"}
    if words or names - {"DOT", "LPAR", "LSQB"}:
        names = names - {"DOT", "LPAR", "LSQB"}
    words += sorted(_WORDS.get(n, n) for n in names)
    return " or ".join(words) if len(words) < 3 else ", ".join(words[:-1]) + " or " + words[-1]


def explain_error(error: UnexpectedToken | UnexpectedCharacters | UnexpectedEOF, text: str, start: str) -> sx.Problem:
    """What the grammar says of a place where it cannot go on: what stands there and what could."""
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
    if "SEMICOLON" in expected and start != "start_expression" and str(token)[:1].isalnum():
        behind = _end_of_word_before(text, at)
        above = text[:behind]
        word = re.split(r"[^\w.]", above)[-1]
        where = (above.count("\n") + 1, behind - above.rfind("\n"))
        return sx.Problem(
            *where,
            f"a semicolon is missing{f' behind {quoted(word)}' * bool(word)}",
            "write ; here",
            behind,
            behind + 1,
        )
    if open_block := _not_closed(text, at, str(token).upper(), expected):
        return sx.Problem(line, column, *open_block, at, end)
    return sx.Problem(line, column, f"{quoted(token)} does not fit here", f"expected {_expected(expected)}", at, end)


def _not_closed(text: str, at: int, word: str, expected: set[str]) -> tuple[str, str] | None:
    """Message and advice where a word that closes a block stands and an inner block is still open."""
    wanted = next((n for n in sorted(expected) if n.startswith("END_")), "")
    if not wanted or not word.startswith("END_"):
        return None
    opened: list[tuple[str, int]] = []
    for m in re.finditer(r"\(\*[\s\S]*?\*\)|//[^\n]*|\b(END_)?(IF|CASE|FOR|WHILE|REPEAT)\b", text[:at], re.IGNORECASE):
        if m[2] and m[1]:
            opened = opened[:-1]
        elif m[2]:
            opened.append((m[2].upper(), text.count("\n", 0, m.start()) + 1))
    if not opened or f"END_{opened[-1][0]}" != wanted:
        return None
    return f"the {opened[-1][0]} of line {opened[-1][1]} is not closed before {quoted(word)}", f"write {wanted}; here"


def _end_of_word_before(text: str, at: int) -> int:
    """Where the word before an offset ends; comments are no words."""
    end = 0
    for m in re.finditer(r"\(\*[\s\S]*?\*\)|//[^\n]*|\s+|[\w.#]+|.", text[:at]):
        if not m[0].isspace() and not m[0].startswith(("(*", "//")):
            end = m.end()
    return end
