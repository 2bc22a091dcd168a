"""A brief from elsewhere: a text of sentences, or a table with a sentence a row."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from spokeshave.formats.disk import text_of_file
from spokeshave.formats.errors import FormatError, reading
from spokeshave.formats.signal_table import read_rows
from spokeshave.model.project import REQUIREMENT_KINDS, Project, Requirement

TABLES = (".csv", ".xlsx", ".tsv")
TEXTS = (".txt", ".md")
LONGEST = 2000
_HEADS = {
    "ident": ("id", "ident", "identifier", "no", "no.", "number", "nr", "nr.", "#", "key"),
    "text": ("text", "requirement", "sentence", "description", "what", "shall"),
    "kind": ("kind", "type", "class", "category"),
}
_IDENT = re.compile(r"\s*(?:[-*•]\s+)?([A-Za-z]{1,6}[-_.]?\d+(?:\.\d+)*|\d+(?:\.\d+)*[.)])\s*[:.)–-]?\s+(?=\S)")
_BULLET = re.compile(r"\s*[-*•]\s+")
_END = re.compile(r"(?<=[.!?])(?<!\be\.g\.)(?<!\bi\.e\.)(?<!\bapprox\.)\s+(?=[A-Z])")

Guess = Callable[[str], str]
"""The kind of a sentence."""


def read_brief(path: Path, project: Project, guess: Guess) -> list[Requirement]:
    """The sentences of a file as requirements with identifiers that are free in `project`. Raises `FormatError`."""
    if path.suffix.lower() in TABLES:
        rows = read_rows(path)
        with reading(path):
            found = _of_rows(rows)
    else:
        with reading(path):
            found = _of_text(text_of_file(path))
    return _numbered(found, project, guess)


def parse_brief(text: str, project: Project, guess: Guess) -> list[Requirement]:
    """As `read_brief`, for a text that was pasted."""
    return _numbered(_of_text(text), project, guess)


def number_sentence(text: str, project: Project, guess: Guess) -> Requirement:
    """A sentence as it is, with an identifier that counts on from the others."""
    (found,) = _numbered([(str(len(project.requirements) + 1), text, "")], project, guess)
    return found


def _of_text(text: str) -> list[tuple[str, str, str]]:
    """Identifier, sentence and kind. A line break ends a sentence where a list or an empty line follows."""
    if "\0" in text:
        raise FormatError("the text has zero bytes; it is no brief", advice="save it as text in UTF-8")
    parts: list[list[str]] = []
    fresh = True
    for line in text.splitlines():
        if not line.strip() or line.lstrip().startswith("#"):
            fresh = True
            continue
        new = fresh or _IDENT.match(line) or _BULLET.match(line)
        if new:
            parts.append([line.strip()])
        else:
            parts[-1].append(line.strip())
        fresh = False
    out = []
    for paragraph in map(" ".join, parts):
        found = _IDENT.match(paragraph)
        ident = found[1].rstrip(".)") if found else ""
        rest = paragraph[found.end() :] if found else _BULLET.sub("", paragraph, count=1)
        for n, sentence in enumerate(s for s in _END.split(rest) if s.strip()):
            out.append((ident if n == 0 else "", sentence.strip(), ""))
    return out


def _of_rows(rows: list[list[str]]) -> list[tuple[str, str, str]]:
    if not rows:
        return []
    heads = [h.strip().lower() for h in rows[0]]
    at = {f: next((i for i, h in enumerate(heads) if h in names), -1) for f, names in _HEADS.items()}
    if at["text"] < 0:
        if at["ident"] >= 0 or len(rows[0]) > 1:
            raise FormatError(
                "no column has the sentences",
                line=1,
                advice="head it Requirement or Text, the identifiers Id, the kinds Kind",
            )
        at["text"], rows = 0, [[], *rows]

    def cell(row: list[str], field: str) -> str:
        return row[at[field]].strip() if 0 <= at[field] < len(row) else ""

    return [(cell(r, "ident"), cell(r, "text"), cell(r, "kind").lower()) for r in rows[1:] if cell(r, "text")]


def _numbered(found: list[tuple[str, str, str]], project: Project, guess: Guess) -> list[Requirement]:
    """Every sentence with an identifier: its own where it is free and usable, else the next of R01, R02 ..."""
    taken = {r.ident.lower() for r in project.requirements}
    out = []
    number = 0
    for ident, text, kind in found:
        if len(text) > LONGEST:
            raise FormatError(f"a sentence has {len(text)} characters", advice=f"at most {LONGEST}: break it up")
        if ident.isdigit():
            ident = f"R{int(ident):02}"
        ident = re.sub(r'[\s,":]', "", ident)
        while not ident or ident.lower() in taken:
            number += 1
            ident = f"R{number:02}"
        taken.add(ident.lower())
        out.append(Requirement(ident, text, kind if kind in REQUIREMENT_KINDS else guess(text)))
    return out
