"""What a generated text is put together from: fixed words, holes in which the model's own texts stand, variables."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from spokeshave.language.syntax import KEYWORDS
from spokeshave.model.edits import taken_names
from spokeshave.model.project import Project


@dataclass(frozen=True, slots=True)
class Hole:
    """A place where a text of the model stands, as `text` in the words of the code.

    `of` tells whose it is: ("condition", sequence, index), ("body", sequence, name), ("opening",), ...
    """

    of: tuple[str | int, ...]
    text: str


Piece = str | Hole


@dataclass(frozen=True, slots=True)
class Variable:
    """A variable the code needs beside the signals. `kind` is a type or a block, `initial` its literal."""

    name: str
    kind: str
    initial: str = ""
    retain: bool = False


@dataclass
class Code:
    """Lines of a program in the making."""

    pieces: list[Piece] = field(default_factory=list)
    indent: int = 1
    titled: bool = True

    def line(self, *parts: Piece) -> None:
        self.pieces += ["  " * self.indent, *parts, "\n"]

    def lines(self, texts: Iterable[str]) -> None:
        for text in texts:
            self.line(text)

    def title(self, text: str) -> None:
        if self.titled:
            self.pieces.append("\n")
            self.line(f"(* {text} *)")

    def when(self, condition: str, then: Iterable[str]) -> None:
        """An IF around lines; nothing if there are none."""
        then = list(then)
        if len(then) == 1 and not self.titled:
            self.line(f"IF {condition} THEN {then[0]} END_IF;")
        elif then:
            self.line(f"IF {condition} THEN")
            self.indent += 1
            self.lines(then)
            self.indent -= 1
            self.line("END_IF;")

    def hole(self, hole: Hole) -> None:
        """Statements of the model, each line as it is."""
        self.pieces += [hole, "\n"]

    @property
    def text(self) -> str:
        return "".join(p if isinstance(p, str) else p.text for p in self.pieces)


class Variables:
    """Gives out names that nothing else has."""

    def __init__(self, project: Project) -> None:
        self.listed: list[Variable] = []
        self._taken = {n.lower() for n in taken_names(project)} | {i.name.lower() for i in project.instances}
        self._taken |= {w.lower() for w in KEYWORDS}

    def name(self, wanted: str) -> str:
        """A free name like `wanted`, which it takes."""
        base = wanted.replace("__", "_").strip("_")
        name, n = base, 1
        while name.lower() in self._taken:
            n += 1
            name = f"{base}_{n}"
        self._taken.add(name.lower())
        return name

    def free(self, name: str) -> None:
        """A name of the model that no text speaks of any more may be had."""
        self._taken.discard(name.lower())

    def drop(self, name: str) -> None:
        """Takes a variable back that nobody needs."""
        self.listed = [v for v in self.listed if v.name != name]
        self._taken.discard(name.lower())

    def new(self, wanted: str, kind: str = "BOOL", initial: str = "", retain: bool = False) -> str:
        name = self.name(wanted)
        self.listed.append(Variable(name, kind, initial, retain))
        return name


def any_of(parts: Iterable[str]) -> str:
    """Conditions joined by OR; FALSE for none."""
    return " OR ".join(parts) or "FALSE"


def together(parts: Iterable[str]) -> str:
    """Conditions joined by OR, with what all of them begin with stated once."""
    parts = list(parts)
    head, mark, _ = parts[0].partition(" AND ") if parts else ("", "", "")
    plain = head.isidentifier() and all(p.startswith(f"{head} AND ") and " OR " not in p for p in parts)
    if len(parts) < 2 or not mark or not plain:
        return any_of(parts)
    return f"{head} AND ({' OR '.join(p.removeprefix(f'{head} AND ') for p in parts)})"


def all_of(*parts: str) -> str:
    """Conditions joined by AND, those that say TRUE left out. Each part binds at least as strongly as AND."""
    kept = [p for p in parts if p != "TRUE"]
    return " AND ".join(kept) or "TRUE"
