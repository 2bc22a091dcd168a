"""Plain code edited beyond texts, states and marks: branches that open and close side by side, threads, trips, holds, interlocks.

before ──found──┐
                ├── what differs ── done to the model ── written out again ── has to say what the text says
after ──found───┘
"""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import replace

from spokeshave.changes.compare import MISSING, Difference, differences, taken_over
from spokeshave.changes.renames import aligned, renames
from spokeshave.formats.code.agree import Unlike, hold_against
from spokeshave.formats.code.found import OtherForm, found_in
from spokeshave.formats.code.found.states import TOLD
from spokeshave.formats.code.loose import hangs_loose
from spokeshave.formats.code.plain import PlainStyle
from spokeshave.formats.code.reshape import variables_of
from spokeshave.formats.code.said import Said, said
from spokeshave.formats.code.styles import in_priority
from spokeshave.formats.code.tokens import common, tokens
from spokeshave.formats.code.write import Generated, generate
from spokeshave.formats.errors import FormatError
from spokeshave.formats.states.fold import written_by
from spokeshave.language import LanguageError
from spokeshave.language.parse import parse_statements
from spokeshave.language.syntax import KEYWORDS
from spokeshave.model.diagnostics import line_and_column
from spokeshave.model.project import Action, Instance, Project, Sequence, Signal, SignalClass, Transition, Type
from spokeshave.model.tree import way_key


def refound(
    text: str, start: int, end: int, code: Generated, whole: Project, helpers: bool
) -> tuple[Project, list[Said]] | None:
    """The machine file of `code` as its text has it, which stands from `start` to `end` now, and what differs in words; None where it
    has statements of other forms. `whole` has also what only the text declares; new `helpers` may be missing. Raises `FormatError` with
    line and column where it says what no chart says.
    """
    edited = text[start:end]
    if (lone := _without_states(edited, code, whole)) is not None:
        line, column = line_and_column(text, start + lone.start())
        advice = f"write CASE {lone[0]}Was OF with a label, the name of the state beside it, and END_CASE;"
        raise FormatError(f"{lone[0]} has no states", line=line, column=column, advice=advice)
    found = _both(edited, code, whole)
    if found is None:
        return None
    before, after, own = found
    changes = [_unranked(d) for d in differences(before, after) if d.path[-1] != "priority"]
    bare = [d for d in changes if not _is_order_of_marks(d)]
    attempts = [bare, changes] if len(bare) < len(changes) else [changes]
    for wanted in attempts:
        project = taken_over(without(whole, own), [_marked(d, whole) for d in wanted])
        project = _in_turn(project, before, after)
        numbers = [[s.number for s in q.steps] for q in project.sequences]
        if hangs_loose(project) or any(len(set(n)) < len(n) for n in numbers) or _swallowed(code.project, project):
            return None
        try:
            hold_against(text, start, end, _written(project, text, start, end, code), code if helpers else None)
            return project, said(wanted, aligned(before, renames(before, after)), after)
        except Unlike:
            if wanted is attempts[-1]:
                raise
    return None


def _written(project: Project, text: str, start: int, end: int, code: Generated) -> Generated:
    """The code of what was found. Raises `FormatError` with line and column where it has none, or no lines for a state."""
    edited = text[start:end]

    def fail(at: int, message: str, advice: str) -> FormatError:
        line, column = line_and_column(text, start + at)
        return FormatError(message, line=line, column=column, advice=advice)

    try:
        again = generate(project, "plain", bool(code.scan_time))
    except FormatError as error:  # no chart whose states a CASE can have
        raise fail(common(edited, code.text), error.message, "lead the ways otherwise") from None
    if lost := _lost(again, code):
        label = re.search(rf"\b{lost}\s*:", edited)
        advice = "lead to it, or take it out"
        raise fail(label.start() if label else 0, f"nothing leads to state {lost} any more", advice)
    return again


def _both(edited: str, code: Generated, whole: Project) -> tuple[Project, Project, set[str]] | None:
    """What the texts of `code` and the `edited` one are as charts, and the variables of the code alone in lower case; None for other
    forms.
    """
    signals, instances = variables_of(code)
    signals |= {s.name.lower(): s for s in whole.signals}
    instances |= {i.name.lower(): i for i in whole.instances}
    new = new_names(edited, code, whole)
    blocks = {name.lower(): Instance(name, kind) for name in new if (kind := _kind(name, edited))}
    numbers = {name.lower(): Signal(name, SignalClass.INTERNAL, Type.INT, initial=-1) for name in new}
    base = replace(
        code.project, signals=(), instances=(), sequences=(), trips=(), interlocks=(), opposed=(), alarms=(),
        opening="", closing="", home="", reset="",
    )  # fmt: skip
    try:
        before = found_in(code.text, base, signals, instances)
        more = {low: s for low, s in numbers.items() if low not in blocks}
        after = found_in(edited, base, signals | more, instances | blocks)
    except (OtherForm, LanguageError, LookupError, ValueError):
        return None
    if any(s for s in code.project.signals if before.signal(s.name) and after.signal(s.name) is None):
        return None  # taken for a variable of the code
    left = {x.name.lower() for listed in (after.signals, after.instances) for x in listed}
    own = {v.name.lower() for v in code.variables} | more.keys() | (blocks.keys() - left)
    own |= {x.name.lower() for listed in (whole.signals, whole.instances) for x in listed} - left
    return without(before, own), without(after, own), own


def new_names(text: str, code: Generated, p: Project) -> list[str]:
    """Names in a text that neither the machine file nor its code has yet: threads and helpers that somebody has typed."""
    known = {
        x.name.lower() for listed in (p.signals, p.instances, p.tables, p.routines, code.variables) for x in listed
    }
    words = [t.word.split(".")[0] for t in tokens(text)]
    found = {w.lower(): w for w in words if w.isidentifier() and w.upper() not in KEYWORDS}
    return [w for low, w in found.items() if low not in known]


def _without_states(text: str, code: Generated, whole: Project) -> re.Match[str] | None:
    """A new thread to which something leads, and which has neither a CASE nor a state that only waits."""
    threads = "|".join(re.escape(q.name) for q in code.project.sequences)
    for name in new_names(text, code, whole):
        cases = re.search(rf"\bCASE\s+{name}(Was)?\s+OF\b", text, re.IGNORECASE)
        told = any(m["at"].lower() == name.lower() for m in TOLD.finditer(text))
        if re.fullmatch(rf"({threads})\d+", name, re.IGNORECASE) and cases is None and not told:
            return re.search(rf"\b{name}\b(?=\s*:=)", text)
    return None


def _kind(name: str, text: str) -> str:
    """The block of a new name that is called with inputs: those of edges and of how long something holds, a timer, a counter; empty for a
    variable.
    """
    called = re.search(rf"\b{name}\s*\(\s*(CLK|IN|CU|CD)\s*:=", text, re.IGNORECASE)
    if called is None:
        return ""
    edge = "F_TRIG" if "fall" in name.lower() else "R_TRIG"
    return {"IN": "TON", "CU": "CTU", "CD": "CTD", "CLK": edge}[called[1].upper()]


def _lost(now: Generated, before: Generated) -> int:
    """The number of a step that nothing leads to any more; 0 for none."""
    assert isinstance(now.maker, PlainStyle) and isinstance(before.maker, PlainStyle)
    here, there = now.maker.threads, before.maker.threads
    for q in now.project.sequences:
        known = there[q.name].of if q.name in there else {}
        if lost := next((s for s in q.steps if s.name in known and s.name not in here[q.name].of), None):
            return lost.number
    return 0


def _swallowed(before: Project, after: Project) -> bool:
    """Whether logic sets what steps act on: lines that no mark says, and all that stand behind them."""
    acted = {a.target.lower() for q in before.sequences for s in q.steps for a in s.actions}
    return any(
        (written_by(parse_statements(new)) - written_by(parse_statements(old))) & acted
        for old, new in ((before.opening, after.opening), (before.closing, after.closing))
    )


def without(project: Project, own: Collection[str]) -> Project:
    """Without variables of the code alone, whose names are in lower case."""
    signals = tuple(s for s in project.signals if s.name.lower() not in own)
    instances = tuple(i for i in project.instances if i.name.lower() not in own)
    return replace(project, signals=signals, instances=instances)


def _unranked(d: Difference) -> Difference:
    """A transition that is new gets its place among the others from the order in which they are asked for."""
    way = len(d.path) == 4 and d.path[2] == "transitions" and d.before is MISSING
    return replace(d, after={**d.after, "priority": None}) if way else d


def _is_order_of_marks(d: Difference) -> bool:
    """Whether the blocks of a step only stand in another order, which no text tells for sure."""
    return _on_marks(d) and sorted(map(_block, d.before)) == sorted(map(_block, d.after))


def _on_marks(d: Difference) -> bool:
    return len(d.path) == 5 and d.path[4] == "actions"


def _block(a: Action) -> tuple[str, str, str]:
    """What a text tells of a block."""
    return str(a.qualifier.rule), a.target.lower(), a.time


def _marked(d: Difference, whole: Project) -> Difference:
    """Blocks that have come or gone, among those that the step has; in the order of the text where only that is another."""
    if not _on_marks(d):
        return d
    q = next((q for q in whole.sequences if q.name.lower() == d.path[1]), None)
    step = q.step(d.path[3]) if q is not None else None
    if step is None:
        return d
    was, now = [_block(a) for a in d.before], [_block(a) for a in d.after]
    left = [a for a in step.actions if _block(a) not in was or _block(a) in now]
    if _is_order_of_marks(d):
        left.sort(key=lambda a: now.index(_block(a)) if _block(a) in now else len(now))
    return replace(d, after=(*left, *(a for a in d.after if _block(a) not in was)))


def _in_turn(project: Project, before: Project, after: Project) -> Project:
    """The ways out of each step are asked for in the order that the text has, where it has another one than before."""
    out = []
    for q in project.sequences:
        was, now = before.sequence(q.name), after.sequence(q.name)
        out.append(q if was is None or now is None else _turns(q, was, now))
    return replace(project, sequences=tuple(out))


def _turns(q: Sequence, was: Sequence, now: Sequence) -> Sequence:
    ways = list(q.transitions)
    before, after, mine = (_leaving(x) for x in (was, now, q))
    for s in q.steps:
        wanted = [way_key(t) for _, t in after.get(s.name, ())]
        if len(wanted) < 2 or wanted == [way_key(t) for _, t in before.get(s.name, ())]:
            continue
        if wanted == [way_key(t) for _, t in mine.get(s.name, ())]:
            continue
        for i, _ in mine.get(s.name, ()):
            if way_key(ways[i]) in wanted:
                ways[i] = replace(ways[i], priority=wanted.index(way_key(ways[i])) + 1)
    return replace(q, transitions=tuple(ways))


def _leaving(q: Sequence) -> dict[str, list[tuple[int, Transition]]]:
    """The ways out of each step with their index, in the order in which they are asked for."""
    found: dict[str, list[tuple[int, Transition]]] = {}
    for i in in_priority(q):
        for source in q.transitions[i].sources:
            found.setdefault(source, []).append((i, q.transitions[i]))
    return found
