"""Generated code back into the machine file: its texts may have been edited, the words around them not.

The pragma holds the machine file that the code was made from. It is written out once more; what stands in the file must
be the same, token by token, but for the places where texts of the model stand: what is new there is taken over.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from textwrap import dedent

from spokeshave.formats.code.finals import unprotected
from spokeshave.formats.code.pieces import Hole
from spokeshave.formats.code.said import Said
from spokeshave.formats.code.styles import Style
from spokeshave.formats.code.tokens import Token, common, tokens
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.fold import written_by
from spokeshave.language.parse import parse_expression, parse_statements
from spokeshave.language.rename import rename_step
from spokeshave.language.sub_sequences import runs_any, taken_back, written_out
from spokeshave.language.syntax import TextError
from spokeshave.model.diagnostics import line_and_column
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project

MOST_READ_OTHERWISE = 200
"""Steps up to which an edited text with forms that code does not have is read as a person's program: that takes time with their square."""


@dataclass(frozen=True, slots=True)
class Change:
    """A text of the model that the code says otherwise."""

    of: tuple[str | int, ...]
    old: str
    new: str
    line: int = 1
    column: int = 1

    @property
    def statements(self) -> bool:
        """Whether it is a body or opening or closing logic; else it is a condition."""
        return self.of[0] in ("body", "opening", "closing")


def read_code(
    text: str, start: int, end: int, project: Project, style: str, protect: bool = True, measured: bool = False,
    declared: frozenset[str] | None = None,
) -> tuple[Project, list[Change]]:  # fmt: skip
    """The machine file with the texts of the code from `start` to `end`, which was written with or without what
    protects, its times `measured` or not. `declared` are variables of it, in lower case, that only the text has, if it declares any: then
    nothing may be missing in it. Raises `FormatError` with line and column for anything else that differs.
    """
    if runs_any(project):
        edited, changes = read_code(text, start, end, written_out(project), style, protect, measured, declared)
        return taken_back(edited, project), changes
    reader = _CodeReader(text, generate(project if protect else unprotected(project), style, measured))
    try:
        changes = reader.changes(start, end)
    except FormatError as error:
        if style != "plain":
            raise
        return _reshaped(reader, start, end, project, protect, error, declared)
    if style == "plain" and any(change.of == ("closing",) and _sets_more(change) for change in changes):
        try:
            return _reshaped(reader, start, end, project, protect, FormatError(""), declared)
        except FormatError:
            pass  # it is logic, not what a mark says
    for change in changes:
        project = _put(project, change)
    if style == "plain":
        project, renamed = _renamed(project, reader, start, end)
        changes += renamed
    return project, changes


def _sets_more(change: Change) -> bool:
    """Whether a text sets what it did not set before."""
    new, old = (written_by(parse_statements(text)) for text in (change.new, change.old))
    return not new <= old


_LABEL = re.compile(
    r"\bCASE\s+(?P<of>\w+)\s+OF\b|^[ \t]*(?P<number>\d+):[ \t]*\(\*[ \t]*(?P<name>\w+)", re.MULTILINE | re.IGNORECASE
)


def _labels(text: str, start: int, end: int) -> dict[tuple[str, str], re.Match[str]]:
    """The labels with names beside them, by what their CASE looks at and their number."""
    found: dict[tuple[str, str], re.Match[str]] = {}
    of = ""
    for m in _LABEL.finditer(text, start, end):
        if m["of"]:
            of = m["of"].lower()
        else:
            found.setdefault((of, m["number"]), m)
    return found


def _renamed(project: Project, reader: _CodeReader, start: int, end: int) -> tuple[Project, list[Change]]:
    """Steps with the names that stand in the comments beside their states, and what every text says of them then."""
    was = _labels(reader.code.text, 0, len(reader.code.text))
    out = []
    for key, m in _labels(reader.text, start, end).items():
        if key not in was or was[key]["name"] == m["name"]:
            continue
        old, new, threads = was[key]["name"], m["name"], reader.code.maker.threads  # type: ignore[attr-defined]
        states = {at.lower(): name for (name, _), at in reader.code.maker.at.items()}  # type: ignore[attr-defined]
        states |= {at.lower(): name for (name, _), at in getattr(reader.code.maker, "was", {}).items()}
        name = states.get(key[0], "")
        if name not in threads:
            continue
        line, column = line_and_column(reader.text, m.start("name"))
        try:
            project = rename_step(project, name, old, new)
        except EditError as error:
            raise FormatError(str(error), line=line, column=column, advice="give the state another name") from None
        out.append(Change(("said", "step", new, name), old, f"step {key[1]} is called {new}", line, column))
    return project, out


def _reshaped(
    reader: _CodeReader,
    start: int,
    end: int,
    project: Project,
    protect: bool,
    error: FormatError,
    declared: frozenset[str] | None,
) -> tuple[Project, list[Change]]:
    """As `read_code`, for plain code whose states were edited; `error` is what the words around the texts said."""
    from spokeshave.formats.code.agree import Unlike
    from spokeshave.formats.code.refound import refound, without
    from spokeshave.formats.code.strange import Strangeness

    whole, code = reader.code.project, reader.code
    if declared:  # as it was written, before its own variables were new ones
        code = generate(without(whole, declared), "plain", bool(code.scan_time))
    found: tuple[Project, list[Said]] | None = None
    odd: FormatError | None = None
    try:
        found = refound(reader.text, start, end, code, whole, helpers=declared is None)
    except FormatError as other:
        odd = other
    if found is None and any(t.count > 1 for t in getattr(code.maker, "threads", {}).values()):
        raise Strangeness(reader.text, start, end, reader.code, reader.in_model).told() or odd or error
    if found is None and sum(len(q.steps) for q in project.sequences) > MOST_READ_OTHERWISE:
        raise odd or error
    if found is None:
        try:
            found = _put_otherwise(reader, start, end, helpers=declared is None)
        except FormatError as other:
            hard = other.message.startswith("there is no CASE")
            raise (odd if odd and isinstance(other, Unlike) else error if hard else other) from None
    after, said = found
    line, _ = line_and_column(reader.text, start)
    if not protect:
        after = replace(after, interlocks=project.interlocks, opposed=project.opposed)
    return after, [Change(("said", kind, item, sequence), old, new, line) for kind, item, old, new, sequence in said]


def _put_otherwise(reader: _CodeReader, start: int, end: int, helpers: bool) -> tuple[Project, list[Said]]:
    """The machine file of a text of one thread with forms that code does not have. Raises `FormatError` with line and column."""
    from spokeshave.formats.code.agree import hold_against
    from spokeshave.formats.code.loose import hangs_loose
    from spokeshave.formats.code.reshape import reshaped

    line, _ = line_and_column(reader.text, start)
    after, said = reshaped(reader.text[start:end], reader.code, line)
    if odd := hangs_loose(after):
        raise FormatError(odd, line=line)
    again = generate(after, "plain", bool(reader.code.scan_time))
    hold_against(reader.text, start, end, again, reader.code if helpers else None)
    return after, said


class _CodeReader:
    def __init__(self, text: str, code: Generated) -> None:
        self.text, self.code = text, code
        self.back = dict(_words_back(code.maker))
        self.own = {v.name.lower() for v in code.variables}

    def fail(self, at: int, message: str, advice: str) -> FormatError:
        line, column = line_and_column(self.text, at)
        return FormatError(message, line=line, column=column, advice=advice)

    def changes(self, start: int, end: int) -> list[Change]:
        """What the text says otherwise. What is the same at its beginning and end, letter by letter, is not looked at."""
        texts = self._texts()
        first, last, begin, stop = _window(texts, self.text[start:end])
        if first > last:
            return []
        try:
            return self._changes([*texts[first:last], (texts[last][0], None)], start + begin, start + stop)
        except FormatError:
            return self._changes(texts, start, end)  # a fault is told by what stands around it

    def _changes(self, texts: list[tuple[str, Hole | None]], start: int, end: int) -> list[Change]:
        given = tokens(self.text[start:end], start)
        parts = [(tokens(fixed), hole) for fixed, hole in texts]
        at, out = 0, []
        for n, (fixed, hole) in enumerate(parts):
            at = self._match(given, at, fixed, end)
            if hole is None:
                continue
            following = parts[n + 1][0]
            stop = self._find(given, at, following, end)
            old, new = tokens(hole.text), given[at:stop]
            if len(old) != len(new) or not all(a.same(b) for a, b in zip(old, new)):
                out.append(self._change(given, at, stop, hole))
            at = stop
        if at < len(given):
            raise self.fail(given[at].start, f"{given[at].word} stands behind the end of the code", "take it out")
        return out

    def _change(self, given: list[Token], at: int, stop: int, hole: Hole) -> Change:
        """The new text, which has to be what it stands for: a condition, or statements."""
        new, start = self._model_text(given, at, stop, hole), given[at].start
        line, column = line_and_column(self.text, start)
        change = Change(hole.of, hole.text.strip(), new, line, column)
        try:
            (parse_statements if change.statements else parse_expression)(new)
        except TextError as error:
            p = error.problems[0]
            column = p.column + (change.column - 1 if p.line == 1 else 0)
            what = "these are no statements" if change.statements else "this is no condition"
            raise FormatError(
                f"{what}: {p.message}", line=line + p.line - 1, column=column,
                advice=p.advice or "statements belong into bodies, opening or closing logic",
            ) from None  # fmt: skip
        return change

    def _texts(self) -> list[tuple[str, Hole | None]]:
        """Fixed text, each run of it with the hole behind it; the last one has none."""
        parts: list[tuple[str, Hole | None]] = []
        run: list[str] = []
        for piece in self.code.pieces:
            if isinstance(piece, Hole):
                parts.append(("".join(run), piece))
                run = []
            else:
                run.append(piece)
        return [*parts, ("".join(run), None)]

    def _match(self, given: list[Token], at: int, fixed: list[Token], end: int) -> int:
        for n, wanted in enumerate(fixed):
            if at + n >= len(given):
                raise self.fail(end, f"the code ends, {wanted.word} is needed", "write the code out again")
            if not given[at + n].same(wanted):
                raise self.fail(
                    given[at + n].start, f"{given[at + n].word} stands where the code has {wanted.word}",
                    "conditions, bodies, opening and closing logic are read back; change the rest in the model",
                )  # fmt: skip
        return at + len(fixed)

    def _find(self, given: list[Token], at: int, fixed: list[Token], end: int) -> int:
        """Where the words behind a hole begin: the first place where they all stand, else where most of them do."""
        best, most = at, -1
        for place in range(at, len(given)):
            n = 0
            while n < len(fixed) and place + n < len(given) and given[place + n].same(fixed[n]):
                n += 1
            if n == len(fixed):
                return place
            if n > most:
                best, most = place, n
        self._match(given, best, fixed, end)
        return best

    def _model_text(self, given: list[Token], at: int, stop: int, hole: Hole) -> str:
        """The new text in the words of the model."""
        own = str(hole.of[1]) if hole.of[0] in ("condition", "body", "hold") else ""
        if stop == at:
            raise self.fail(given[at].start, "the text is missing", "write TRUE for a condition that always holds")
        text = self.in_model(given[at:stop], own, self._clocks(hole))
        if "\n" not in text:
            return text
        line = self.text.rfind("\n", 0, given[at].start) + 1
        before = self.text[line : given[at].start]
        return dedent(before + text) if before.isspace() else text

    def in_model(self, given: list[Token], own: str, clocks: dict[str, str]) -> str:
        """Words of the code in those of the model, for a text of the sequence `own`; `clocks` stand for times of steps."""
        out, place, n, stop = list[str](), given[0].start, 0, len(given)
        while n < stop:
            token = given[n]
            key = token.word.lower()
            size = 1
            if n + 2 < stop and given[n + 1].word == "=" and f"{key} = {given[n + 2].word}" in self.back:
                key, size = f"{key} = {given[n + 2].word}", 3
            if key in clocks or key in self.back:
                out += [self.text[place : token.start], self._short(clocks.get(key) or self.back[key], own)]
                place = given[n + size - 1].end
            elif key in self.own:
                advice = "write what the model knows: signals, steps' flags and times, edges that are there already"
                raise self.fail(token.start, f"{token.word} is a variable of the code alone", advice)
            n += size
        return ("".join(out) + self.text[place : given[stop - 1].end]).strip()

    def _clocks(self, hole: Hole) -> dict[str, str]:
        """In a condition, the clock that stands for the time of the step before it, where one clock is that of several steps."""
        if hole.of[0] != "condition":
            return {}
        q = self.code.project.sequence(str(hole.of[1]))
        assert q is not None
        steps = q.transitions[int(hole.of[2])].sources
        return {self.code.maker.kept[(q.name, s)].time.lower(): f"{q.name}.{s}.T" for s in steps}

    def _short(self, text: str, own: str) -> str:
        return (
            text[len(own) + 1 :]
            if own and text.lower().startswith(f"{own.lower()}.") and text.count(".") == 2
            else text
        )


def _window(texts: list[tuple[str, Hole | None]], given: str) -> tuple[int, int, int, int]:
    """The first part that may differ, the part whose fixed text is behind the last that may, and where that is in `given`.

    The first is greater than the last where nothing differs. A hole counts as the same only if what follows it is.
    """
    spans, at = [], 0  # of each part: begin, end of its fixed text, end
    for fixed, hole in texts:
        end = at + len(fixed)
        spans.append((at, end, end + (len(hole.text) if hole is not None else 0)))
        at = spans[-1][2]
    whole = "".join(fixed + (hole.text if hole is not None else "") for fixed, hole in texts)
    if whole == given:
        return 1, 0, 0, 0
    same = common(whole, given)
    first = 0
    while first + 1 < len(spans) and spans[first + 1][1] <= same:
        first += 1
    begin = spans[first][0]
    tail = common(whole[begin:][::-1], given[begin:][::-1])
    last = len(spans) - 1
    while last > first and spans[last - 1][0] >= len(whole) - tail:
        last -= 1
    if spans[last][0] < len(whole) - tail:
        return 0, len(spans) - 1, 0, len(given)
    return first, last, begin, len(given) - (len(whole) - spans[last][1])


def _words_back(style: Style) -> Iterator[tuple[str, str]]:
    """What stands for what: words of the code in lower case, words of the model with whole names."""
    words = style.words
    if words.home:
        yield words.home.lower(), "Home"
    yield from ((asked.lower(), words.output(asked)) for asked in words.asked.values())
    for q in style.project.sequences:
        if q.name in style.states:
            yield style.states[q.name].lower(), f"{q.name}.State"
        for s in q.steps:
            active = style.active(q, s)
            if active != "FALSE":
                yield active.lower(), f"{q.name}.{s.name}.X"
                at, number = active.split(" = ") if " = " in active else (active, "")
                was = {a: w for key, w in getattr(style, "was", {}).items() if (a := style.at[key])}.get(at)  # type: ignore[attr-defined]
                if was is not None:
                    yield f"{was} = {number}".lower(), f"{q.name}.{s.name}.X"
            own = style.kept[(q.name, s.name)]
            yield own.time.lower(), f"{q.name}.{s.name}.T"
            if own.late:
                yield own.late.lower(), f"{q.name}.{s.name}.Late"
    known = dict(_members(style))
    for e in words.edges.values():
        operand, time = (_replaced(t, known) for t in (e.operand, e.time))
        known[f"{e.block}.Q".lower()] = known[e.value.lower()] = f"{e.function}({operand}{', ' + time if time else ''})"
        yield e.value.lower(), known[e.value.lower()]
        if words.plain_edges:
            yield f"{e.block}.Q".lower(), known[e.value.lower()]
            yield words.seen.get(e.block, e.value).lower(), known[e.value.lower()]


def _members(style: Style) -> Iterator[tuple[str, str]]:
    yield from ((asked.lower(), style.words.output(asked)) for asked in style.words.asked.values())
    for q in style.project.sequences:
        for s in q.steps:
            yield style.active(q, s).lower(), f"{q.name}.{s.name}.X"
            yield style.time(q, s).lower(), f"{q.name}.{s.name}.T"


def _replaced(text: str, known: dict[str, str]) -> str:
    out, place = [], 0
    found = tokens(text)
    for n, t in enumerate(found):
        if t.start < place:
            continue
        three = " ".join(x.word.lower() for x in found[n : n + 3])
        for key, end in ((three, found[min(n + 2, len(found) - 1)].end), (t.word.lower(), t.end)):
            if key in known and key != "false":
                out += [text[place : t.start], known[key]]
                place = end
                break
    return "".join(out) + text[place:]


def _put(project: Project, change: Change) -> Project:
    kind, *rest = change.of
    new = change.new
    if kind == "opening":
        return replace(project, opening=new)
    if kind == "closing":
        return replace(project, closing=new)
    if kind == "home":
        return replace(project, home=new)
    if kind == "trip":
        return replace(
            project, trips=tuple(replace(t, condition=new) if t.name == rest[0] else t for t in project.trips)
        )
    if kind == "interlock":
        locks = enumerate(project.interlocks)
        return replace(project, interlocks=tuple(replace(x, condition=new) if i == rest[0] else x for i, x in locks))
    sequences = []
    for q in project.sequences:
        if q.name == rest[0] and kind == "hold":
            q = replace(q, hold_when=new)
        elif q.name == rest[0] and kind == "body":
            q = replace(q, bodies=tuple(replace(b, text=new) if b.name == rest[1] else b for b in q.bodies))
        elif q.name == rest[0] and kind == "condition":
            q = replace(
                q,
                transitions=tuple(
                    replace(t, condition=new) if i == rest[1] else t for i, t in enumerate(q.transitions)
                ),
            )
        sequences.append(q)
    return replace(project, sequences=tuple(sequences))
