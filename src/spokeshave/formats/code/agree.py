"""Whether two texts of plain code say the same: the same statements, in the same order where one looks at what another sets.

What keeps and marks what has been may be missing in a text that a person has written: it follows from the rest.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field, replace
from heapq import heappop, heappush
from itertools import pairwise

from spokeshave.formats.code.branches import Words, bare, split, words
from spokeshave.formats.code.plain import PlainStyle
from spokeshave.formats.code.tokens import tokens
from spokeshave.formats.code.write import Generated
from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.fold import written_by
from spokeshave.language import syntax as sx
from spokeshave.language.parse import parse_statements
from spokeshave.model.diagnostics import line_and_column, quoted

_FIRST_OVER = (("firstscan", ":=", "false"),)
_STOPS = frozenset(("/", "mod", "**", "["))


class Unlike(FormatError):
    """A text that says something else than any chart."""


@dataclass(frozen=True, slots=True)
class Otherwise:
    """A place at which a text says something else: where, what is there, and what would be the same."""

    at: int
    there: str
    wanted: str


@dataclass(frozen=True, slots=True)
class _Said:
    """A statement: what it is without the statements in it, these by what stands before them, what it sets and looks at."""

    head: Words
    blocks: tuple[tuple[Words, list[_Said]], ...]
    sets: frozenset[str]
    asks: frozenset[str]
    start: int
    text: str

    @property
    def form(self) -> tuple[Words, ...]:
        """It without the statements in it."""
        return self.head, *(head for head, _ in self.blocks)


def hold_against(text: str, start: int, end: int, code: Generated, was: Generated | None) -> None:
    """Raises `FormatError` with line and column where the text from `start` to `end` is no text of statements, `Unlike` where it says
    something else than `code`, but for helpers that `was` had not got: it is the code that the text was before.
    """
    try:
        apart = first_otherwise(text[start:end], code, was)
    except sx.TextError as error:
        p = error.problems[0]
        line, column = line_and_column(text, start + p.start)
        raise FormatError(p.message, line=line, column=column, advice=p.advice) from None
    if apart is not None:
        line, column = line_and_column(text, start + apart.at)
        said = f"no chart says {quoted(apart.there)} here" if apart.there else "something is missing here"
        advice = f"write {quoted(apart.wanted)}" if apart.wanted else "take it out"
        raise Unlike(said, line=line, column=column, advice=advice)


def first_otherwise(text: str, code: Generated, was: Generated | None = None) -> Otherwise | None:
    """Where `text` first says something else than `code`; None where they say the same. Helpers that `was` had not got may be missing,
    none without it. Raises `TextError` for what is no text of statements.
    """
    maker = code.maker
    assert isinstance(maker, PlainStyle)
    tests = frozenset(name.lower() for name in maker.test.values())
    there = {t.word.lower() for t in tokens(text)}
    asked = {name.lower(): maker.words.output(name).lower() for name in maker.words.asked.values()}
    plain = {name: own for name, own in asked.items() if name not in there}
    first = was is None and any(v.name.lower() == "firstscan" for v in code.variables)

    kept = {x.name.lower() for listed in (code.project.instances, code.project.signals) for x in listed}

    def said(x: str) -> list[_Said]:
        statements = parse_statements(x)
        reader = _Reader(x, tests, dict(plain), first)
        reader.plain |= _edges(statements, reader, kept)
        return list(reader.block(statements))

    mine, others = said(text), said(code.text)
    if was is None:
        return _Agreement().otherwise(mine, others, len(text))
    states = {at.lower() for at in (*maker.at.values(), *maker.way.values())}
    marks = frozenset(v.name.lower() for v in code.variables) - states
    return _Agreement(maker.helpers | {"firstscan"}, marks, frozenset(_forms(said(was.text)))).otherwise(
        mine, others, len(text)
    )


def _edges(statements: Iterable[sx.Statement], reader: _Reader, kept: set[str]) -> dict[str, str]:
    """Blocks of the code alone that tell edges, and how long something holds, by what they look at: whatever they are called."""
    out: dict[str, str] = {}
    for s in statements:
        low = str(s.instance).lower() if isinstance(s, sx.BlockCall) else ""
        inputs = {a.name.upper(): reader.words(a.value) for a in s.inputs} if isinstance(s, sx.BlockCall) else {}
        if low in kept or not (inputs.keys() == {"IN", "PT"} or inputs.keys() == {"CLK"}):
            continue
        falls = "falls " if "fall" in low else ""
        name = falls + " ".join(w for key in sorted(inputs) for w in (key, *in_order(inputs[key])))
        out |= {low: name, f"{low}.q": f"{name}.q"}
    return out


def _forms(listed: Iterable[_Said]) -> Iterator[tuple[Words, ...]]:
    for s in listed:
        yield s.form
        for _, inner in s.blocks:
            yield from _forms(inner)


@dataclass(frozen=True, slots=True)
class _Agreement:
    """`helpers` keep what has been; `marks` note what happens on the way from state to state, and may be missing there. What was `there`
    before may not.
    """

    helpers: frozenset[str] = frozenset()
    marks: frozenset[str] = frozenset()
    there: frozenset[tuple[Words, ...]] = frozenset()

    def otherwise(self, mine: list[_Said], others: list[_Said], end: int) -> Otherwise | None:
        forms = Counter(s.form for s in mine)
        others = [o for o in others if o.form in forms or not self._may_miss(o)]
        mine = [s for s in mine if s.form != _FIRST_OVER or any(o.form == _FIRST_OVER for o in others)]
        wanted = Counter(o.form for o in others)
        if strange := next((s for s in mine if forms[s.form] > wanted[s.form]), None):
            near = [o for o in others if o.sets & strange.sets and forms[o.form] < wanted[o.form]]
            same = next((o for o in near if o.head == strange.head), near[0] if near else None)
            at = strange.start if same is None else _where(strange, same)
            return Otherwise(at, strange.text, same.text if same else "")
        if left := next((o for o in others if forms[o.form] < wanted[o.form]), None):
            return Otherwise(end, "", left.text)
        for s, o in zip(_in_turn(mine), _in_turn(others)):
            if s.form != o.form:
                return Otherwise(s.start, s.text, o.text)
            inside = replace(self, helpers=self.helpers | self.marks) if s.head[0] == "case" else self
            for (_, block), (_, other) in zip(s.blocks, o.blocks):
                if found := inside.otherwise(block, other, s.start):
                    return found
        return None

    def _may_miss(self, s: _Said) -> bool:
        return bool(s.sets) and s.sets <= self.helpers and s.form not in self.there


def _where(s: _Said, o: _Said) -> int:
    """Where two statements part: in the first block that the other has not got, else where it begins."""
    known = {head for head, _ in o.blocks} if s.head == o.head else {head for head, _ in s.blocks}
    return next((block[0].start for head, block in s.blocks if head not in known and block), s.start)


def _in_turn(listed: list[_Said]) -> Iterator[_Said]:
    """Statements in the order of their words as far as none looks at what one before it sets, or sets what it looks at."""
    waits = [0] * len(listed)
    before: list[set[int]] = [set() for _ in listed]
    setter: dict[str, int] = {}
    askers: dict[str, set[int]] = {}
    for n, s in enumerate(listed):
        first = {setter[w] for w in (s.asks | s.sets) & setter.keys()}
        first |= {m for w in s.sets for m in askers.get(w, ())} - {n}
        waits[n] = len(first)
        for m in first:
            before[m].add(n)
        for w in s.sets:
            setter[w], askers[w] = n, set()
        for w in s.asks:
            askers.setdefault(w, set()).add(n)
    ready: list[tuple[tuple[Words, ...], int]] = []
    for n, count in enumerate(waits):
        if not count:
            heappush(ready, (listed[n].form, n))
    while ready:
        _, n = heappop(ready)
        yield listed[n]
        for m in before[n]:
            waits[m] -= 1
            if not waits[m]:
                heappush(ready, (listed[m].form, m))


@dataclass
class _Reader:
    """Takes statements apart. Only where it matters whether it is the `first` scan is that asked for; a condition in one of the variables
    `tests`, which are worked out ahead, in lower case, stands where it is asked for; variables in `plain` have another name.
    """

    text: str
    tests: frozenset[str]
    plain: dict[str, str]
    first: bool
    tested: dict[str, Words] = field(default_factory=dict)

    def block(self, block: Iterable[sx.Statement]) -> Iterator[_Said]:
        """The statements of a block."""
        for s in block:
            yield from self._one(s)

    def _one(self, s: sx.Statement) -> Iterator[_Said]:
        there, start = self.text[s.span.start : s.span.end], s.span.start
        named = frozenset(self._called(t.word.lower().partition(".")[0]) for t in tokens(there))
        sets = frozenset(self._called(w.partition(".")[0]) for w in written_by((s,)))
        match s:
            case sx.If():
                conditions = [self._condition(c) for c, _ in s.branches]
                if conditions in ([()], [("true",)]) and not s.otherwise:
                    yield from self.block(s.branches[0][1])
                    return
                blocks = [(c, list(self.block(b))) for c, (_, b) in zip(conditions, s.branches)]
                yield _Said(("if",), (*blocks, (("else",), list(self.block(s.otherwise)))), sets, named, start, there)
            case sx.Case():
                labels = [self.text[ends[0][0].span.start : ends[-1][1].span.end] for ends, _ in s.branches]
                blocks = [(words(tokens(x)), list(self.block(b))) for x, (_, b) in zip(labels, s.branches)]
                blocks = [*sorted(blocks, key=lambda x: x[0]), (("else",), list(self.block(s.otherwise)))]
                yield _Said(("case", *self.words(s.selector)), tuple(blocks), sets, named, start, there)
            case sx.Assign() if str(s.target).lower() in self.tests:
                self.tested[str(s.target).lower()] = self.words(s.value)
            case sx.Assign():
                target, value = self.words(s.target), in_order(self.words(s.value))
                if target != value:
                    asks = frozenset(w.partition(".")[0] for w in (*target[1:], *value))
                    yield _Said(("".join(target), ":=", *value), (), sets, asks, start, there)
            case sx.BlockCall():
                given = [w for a in s.inputs for w in (a.name.lower(), ":=", *in_order(self.words(a.value)), ",")]
                out = [w for name, n in s.outputs for w in (name.lower(), "=>", *self.words(n), ",")]
                instance = self._called(str(s.instance).lower())
                yield _Said((instance, "(", *given, *out, ")"), (), sets | {instance}, named, start, there)
            case _:
                yield _Said(words(tokens(there)), (), sets, named, start, there)

    def _called(self, word: str) -> str:
        return self.plain.get(word, word)

    def words(self, x: sx.Expression | sx.Name) -> Words:
        """The words of an expression, by the names that they have here."""
        found = words(tokens(self.text[x.span.start : x.span.end]))
        return bare(tuple(map(self._called, found)))

    def _condition(self, x: sx.Expression) -> Words:
        """A condition; empty for one that only asks for another than the first scan."""
        found = self.words(x)
        if found[0] in self.tested and len(found) == 1:
            found = self.tested[found[0]]
        parts = [p for p in split(found, "and") if self.first or p != ("not", "firstscan")]
        return in_order(tuple(w for p in parts for w in (*p, "and"))[:-1])


def in_order(found: Words) -> Words:
    """A condition with what is joined by OR, and by AND, in the order of its words, where none of it can stop a run.

    >>> in_order(("b", "or", "a", "and", "(", "not", "(", "not", "a", ")", ")"))
    ('(', '(', 'a', ')', 'and', '(', 'a', ')', ')', 'or', '(', 'b', ')')
    """
    called = any(
        w == "(" and before.isidentifier() and before not in ("and", "or", "xor", "not")
        for before, w in pairwise(found)
    )
    if called or _STOPS & set(found) or "xor" in found:
        return found
    for by in ("or", "and"):
        parts = split(found, by)
        if len(parts) > 1:
            ordered = sorted(in_order(bare(p)) for p in parts)
            return tuple(w for p in ordered for w in ("(", *p, ")", by))[:-1]
    if found[:1] == ("not",):
        inner = bare(found[1:])
        if inner[:1] == ("not",) and all(len(split(inner, by)) == 1 for by in ("or", "and")):
            return in_order(bare(inner[1:]))
        return ("not", "(", *in_order(inner), ")")
    return found
