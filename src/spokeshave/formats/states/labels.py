"""What states are called: by the constant that is their label, by a comment beside it, else by their number."""

from __future__ import annotations

import re
import unicodedata

from spokeshave.language.rename import name_problem

_COMMENT = re.compile(r"\(\*(.*?)\*\)|//([^\n]*)", re.DOTALL)
_LEAD = re.compile(r"^(?:step|state|schritt|zustand|case|s)?\s*#?\s*-?\d+\s*[:.)=-]*\s*", re.IGNORECASE)
_END = re.compile(r"\s+-\s+|[:;,.(]|\s{2,}")
LONGEST, MOST_WORDS = 26, 4
"""A comment with more characters or words says what happens; it is no name."""


def comment_at(text: str, start: int, end: int) -> str:
    """The comment beside a label that stands from `start` to `end`: behind it on its line, else alone on the line above."""
    line_end = text.find("\n", end)
    line = text[end : line_end if line_end >= 0 else len(text)]
    found = list(_COMMENT.finditer(line))
    if not found:
        opened = line.find("(*")
        if opened >= 0:  # it goes on on the next line
            found = [m for m in [_COMMENT.search(text, end + opened)] if m]
    if found:
        return _plain(found[0])
    begin = text.rfind("\n", 0, start)
    if text[begin + 1 : start].strip():
        return ""
    above = text[text.rfind("\n", 0, max(begin, 0)) + 1 : max(begin, 0)].strip()
    whole = _COMMENT.fullmatch(above)
    return _plain(whole) if whole else ""


def _plain(m: re.Match[str]) -> str:
    return " ".join((m[1] if m[1] is not None else m[2]).strip("*-=_#~ \t\n").split())


def name_of(comment: str) -> str:
    """A name made of a comment, empty where it is none.

    >>> name_of("Rolled in"), name_of("20: heating up - until it is warm"), name_of("here we wait until the tray is in")
    ('Rolled_in', 'heating_up', '')
    """
    if (
        comment.isidentifier()
        and comment.isascii()
        and len(comment) <= LONGEST
        and not name_problem(comment, step=True)
    ):
        return comment
    short = _END.split(_LEAD.sub("", comment), maxsplit=1)[0].strip()
    plain = short.replace("ß", "ss")
    for umlaut, pair in (("ä", "ae"), ("ö", "oe"), ("ü", "ue"), ("Ä", "Ae"), ("Ö", "Oe"), ("Ü", "Ue")):
        plain = plain.replace(umlaut, pair)
    plain = unicodedata.normalize("NFKD", plain).encode("ascii", "ignore").decode()
    words = re.findall(r"[A-Za-z0-9]+", plain)
    name = "_".join(words)
    if not words or len(words) > MOST_WORDS or len(name) > LONGEST or not name[0].isalpha():
        return ""
    return name


def says_no_more(comment: str, name: str) -> bool:
    """Whether a comment is the name alone, in other letters."""
    return len(re.findall(r"[^\W_]+", comment)) == len(re.findall(r"[^_]+", name)) and name_of(comment) == name


def step_name(wanted: str, number: int, taken: set[str]) -> str:
    """The name of a step: as wanted if that is free, with its number where a signal or another step has it, else `S` and the
    number. `taken` are names in lower case; the new one is put there.
    """
    numbered = f"S{number}".replace("-", "m")
    for name in (wanted, wanted and f"{wanted}{number}".replace("-", "m"), numbered):
        if name and name.lower() not in taken and not name_problem(name, step=True):
            taken.add(name.lower())
            return name
    n = 2
    while f"{numbered}_{n}".lower() in taken:
        n += 1
    taken.add(f"{numbered}_{n}".lower())
    return f"{numbered}_{n}"
