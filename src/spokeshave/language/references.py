"""What the names in a text mean: one table for rename, used-where, the check, unit copies and generated code.

A name may have parts: `Step.X` and `Step.T` in a text of the step's own sequence, `Sequence.Step.X` anywhere,
`Sequence.State`, `Sequence.Step` in scenarios and plans, `Timer.Q` of a block instance (semantics sections 2 and 4).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from spokeshave.language import syntax as sx
from spokeshave.model import project as model

TOKEN = re.compile(
    r"\(\*.*?\*\)|//[^\n]*|\"[^\"\n]*\"|(?:[A-Za-z]+|[0-9]+)#[-+\w.]*|[A-Za-z_]\w*|[0-9][\w.]*|:=|=>|.", re.DOTALL
)
_NAME = re.compile(r"[A-Za-z_]\w*")
_ROW_WORDS = re.compile(
    r"\s*(expect)\b(?:\s+(always|by|count|cycle|finally|from|never|reach|value|whenever|while)\b(?!\s*\.))?"
    r"|\s*(given)\b(?:\s+(recipe)(?=\s*\"))?"
    r"|\s*(at|after|when|on)\b(?:.*?:(?!=)\s*(\w+)(?:\s+(recipe)(?=\s*\"))?)?"
    r"|\s*(\w+)",
    re.IGNORECASE,
)
"""Words of a row that are no names, whatever signals are called: the first, the one of the deed, the kind of an expectation."""
_ALARM = re.compile(r"\s*expect\s+(?:no\s+)?alarm\s+\"", re.IGNORECASE)
_ORDER = re.compile(r"\s*expect\s+(?:exact\s+)?order\s+(\w+)\s*:", re.IGNORECASE)
MEMBERS = frozenset(("x", "t", "late"))


@dataclass(frozen=True, slots=True)
class Target:
    """What a name means: its kind (signal, table, column, instance, routine, member, device, sequence, step, body), its name and
    whose it is, all in lower case: `owner` is the sequence of a step or a body, the kind of rows of a column (without one the
    table), the routine of a member.
    """

    kind: str
    name: str
    owner: str = ""


@dataclass(frozen=True, slots=True)
class Reference:
    """A part of a text that means something: from `start` to `end`."""

    target: Target
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Where:
    """Where a text stands: in which sequence, and whether it is a scenario, the target of an action block, or the body of a
    routine, whose name is in `sequence` then.
    """

    sequence: str = ""
    kind: str = "text"  # text, scenario, action, routine


HERE = Where()


class Names:
    """The names of a machine file."""

    def __init__(self, project: model.Project) -> None:
        self.single: dict[str, str] = {d.name.lower(): "device" for d in project.devices}
        self.single |= {q.name.lower(): "sequence" for q in project.sequences}
        self.single |= {i.name.lower(): "instance" for i in project.instances}
        self.single |= {t.name.lower(): "table" for t in project.tables}
        self.single |= {r.name.lower(): "routine" for r in project.routines}
        self.single |= {s.name.lower(): "signal" for s in project.signals}
        self.steps = {q.name.lower(): {s.name.lower() for s in q.steps} for q in project.sequences}
        self.kinds = {i.name.lower(): i.kind.lower() for i in project.instances}
        self.members = {r.name.lower(): {m.name.lower(): m.type.lower() for m in r.members} for r in project.routines}
        self.externals = {
            r.name.lower(): {m.name.lower() for m in r.members if m.role == "external"} for r in project.routines
        }
        self.rows = {t.name.lower(): (t.row_type or t.name).lower() for t in project.tables}
        self.bodies = {q.name.lower(): {b.name.lower() for b in q.bodies} for q in project.sequences}

    def chain(self, parts: Sequence[str], own: str = "") -> tuple[Target | None, ...]:
        """What each part of a dotted name means, None for a member or for what is not known.

        `own` is the sequence the text belongs to, in lower case.
        """
        names = [p.lower() for p in parts]
        first, rest = names[0], names[1:]
        if len(names) == 2 and rest[0] in MEMBERS and first in self.steps.get(own, ()):
            return Target("step", first, own), None
        if rest and rest[0] in self.steps.get(first, ()):
            return (Target("sequence", first), Target("step", rest[0], first), *(None for _ in rest[1:]))
        if rest and self.single.get(first) == "signal":  # a signal has no members
            return (None,) * len(names)
        kind = self.single.get(first)
        if kind == "table":
            column = (Target("column", rest[0], self.rows[first]),) if rest else ()
            return (Target("table", first), *column, *(None for _ in rest[1:]))
        if kind == "instance":
            return (Target("instance", first), *self._members(self.kinds[first], rest))
        return (Target(kind, first) if kind else None, *(None for _ in rest))

    def in_routine(self, parts: Sequence[str], routine: str) -> tuple[Target | None, ...]:
        """As `chain`, for a name in the body of a function or a block, in lower case."""
        names = [p.lower() for p in parts]
        if names[0] in self.externals.get(routine, ()):
            return self.chain(parts)
        if names[0] in self.members.get(routine, ()):
            return self._members(routine, names)
        found = self.single.get(names[0]) == "routine"
        return (Target("routine", names[0]) if found else None, *(None for _ in names[1:]))

    def _members(self, routine: str, names: Sequence[str]) -> tuple[Target | None, ...]:
        """Variables of a block, those of blocks inside it behind them."""
        out: list[Target | None] = []
        for n in names:
            known = self.members.get(routine, {})
            out.append(Target("member", n, routine) if n in known else None)
            routine = known.get(n, "")
        return tuple(out)

    def called(self, name: str, routine: str = "") -> str:
        """The function or block whose inputs stand in the call of this name; empty for none."""
        own = self.members.get(routine, {})
        return own.get(name, "") or self.kinds.get(name, "") or (name if name in self.members else "")

    def whole(self, name: str, own: str = "") -> str:
        """A dotted name in lower case with the sequence before the steps of its own: one spelling for one thing."""
        parts = name.lower().split(".")
        found = self.chain(parts, own)[0]
        return f"{own}.{name.lower()}" if found is not None and found.kind == "step" else name.lower()


def references(text: str, names: Names, where: Where = HERE) -> Iterator[Reference]:
    """The names in a text outside comments and literals that mean something, in order; formal parameters do not."""
    if where.kind == "scenario":
        at = 0
        for line in text.split("\n"):
            yield from _of_row(line, at, names)
            at += len(line) + 1
        return
    own = where.sequence.lower()
    if where.kind == "action" and names.single.get(text.strip().lower()) != "signal":
        at = len(text) - len(text.lstrip())
        if text.strip().lower() in names.bodies.get(own, ()):
            yield Reference(Target("body", text.strip().lower(), own), at, at + len(text.strip()))
        elif names.single.get(text.strip().lower()) == "sequence":  # that the step runs
            yield Reference(Target("sequence", text.strip().lower()), at, at + len(text.strip()))
        return
    yield from _in_text(text, 0, names, own, where.kind == "routine")


def _of_row(line: str, at: int, names: Names) -> Iterator[Reference]:
    """A row of a scenario: `expect order Roast: Idle, Charge` names steps by themselves."""
    found = _ORDER.match(line)
    if line.lstrip().startswith("//"):
        return
    if alarm := _ALARM.match(line):  # its text names what it is about: "Roast.Drop is late"
        yield from _in_text(line[alarm.end() :].rstrip().rstrip('"'), at + alarm.end(), names, "")
        return
    if found is None:
        head = _ROW_WORDS.match(line)
        words = set() if head is None else {at + head.start(n) for n, word in enumerate(head.groups(), 1) if word}
        yield from (r for r in _in_text(line, at, names, "") if r.start not in words)
        return
    sequence = found[1].lower()
    yield from _in_text(found[0], at, names, "")
    for m in _NAME.finditer(line, found.end()):
        if m[0].lower() in names.steps.get(sequence, ()):
            yield Reference(Target("step", m[0].lower(), sequence), at + m.start(), at + m.end())


def _in_text(text: str, offset: int, names: Names, own: str, routine: bool = False) -> Iterator[Reference]:
    tokens = [(m[0], m.start()) for m in TOKEN.finditer(text) if not m[0].isspace()]
    at = 0
    calls: list[str] = []
    """What the parentheses that are open belong to."""
    tables: list[str] = []
    while at < len(tokens):
        word = tokens[at][0]
        if word == "(":
            calls.append(names.called(tokens[at - 1][0].lower() if at else "", own if routine else ""))
        elif word == ")" and calls:
            calls.pop()
        elif word == "[":
            tables.append(names.rows.get(tokens[at - 1][0].lower() if at else "", ""))
        if not _NAME.fullmatch(word):
            at += 1
            continue
        parts = [tokens[at]]
        while at + 2 < len(tokens) and tokens[at + 1][0] == "." and _NAME.fullmatch(tokens[at + 2][0]):
            parts.append(tokens[at + 2])
            at += 2
        column = _is_column(tokens, at - 2 * (len(parts) - 1))
        at += 1
        formal = bool(calls) and at < len(tokens) and tokens[at][0] in (":=", "=>")
        if column or formal:
            part, start = parts[0]
            of = tables.pop() if column and tables else calls[-1] if calls else ""
            kind = "column" if column else "member"
            if of and (column or part.lower() in names.members.get(of, ())):
                yield Reference(Target(kind, part.lower(), of), offset + start, offset + start + len(part))
            continue
        if len(parts) == 1 and parts[0][0].upper() in sx.KEYWORDS:
            continue
        spelt = [p for p, _ in parts]
        meant = names.in_routine(spelt, own) if routine else names.chain(spelt, own)
        for (part, start), target in zip(parts, meant):
            if target is not None:
                yield Reference(target, offset + start, offset + start + len(part))


def _is_column(tokens: list[tuple[str, int]], at: int) -> bool:
    """Whether the name at `at` is a column of a table: `Plan[Row].Lasts`."""
    return at > 1 and tokens[at - 1][0] == "." and tokens[at - 2][0] == "]"


def put_names(text: str, names: Names, where: Where, new: Callable[[Target], str | None]) -> str:
    """The text with other names for what `new` names; comments, literals and longer names stay."""
    return put_at(text, references(text, names, where), new)


def put_at(text: str, found: Iterable[Reference], new: Callable[[Target], str | None]) -> str:
    """The text with other names at the references that were found in it."""
    out, at = [], 0
    for r in found:
        word = new(r.target)
        if word is not None:
            out += [text[at : r.start], word]
            at = r.end
    return "".join(out) + text[at:] if out else text
