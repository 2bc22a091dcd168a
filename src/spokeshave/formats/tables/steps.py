"""A sequence from the rows of a table: steps with their marks, what each awaits, where it leads. Nothing is taken in silence.

No.  Step     Valve  Top   Time  Next          Step 20 Fill: Valve(N)
10   Rest            1                         10 to 20: Top
20   Fill     X            2,5                 20 to 30: Fill.T >= T#2s500ms
                     0           10            20 to 10: NOT Top
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace

from spokeshave.formats.tables.cells import (
    DOTS,
    OFF,
    ON,
    SPOKEN,
    condition_of,
    identifier,
    parts_of,
    switched,
    time_of,
    waits_only,
    with_times,
)
from spokeshave.formats.tables.columns import COUNTS, SIGNALS, Column, columns_of
from spokeshave.formats.tables.flow import Flow, Way
from spokeshave.formats.tables.grid import Sheet
from spokeshave.formats.tables.headings import (
    find_step_heading,
    plain_head,
    unit_of,
    with_second_row,
)
from spokeshave.formats.tables.plan import Note, Plan, known_names
from spokeshave.language.parse import parse_expression
from spokeshave.language.syntax import TextError
from spokeshave.model.edits import EditError, free_name, read_marks, taken_names
from spokeshave.model.project import (
    Action,
    Project,
    Qualifier,
    Signal,
    SignalClass,
    Step,
    Type,
)

_SUMS = frozenset(
    ("total", "sum", "summe", "gesamt", "cycle time", "zykluszeit", "taktzeit", "gesamtzeit", "total time")
)
_CLASS = {
    "input": SignalClass.INPUT,
    "output": SignalClass.OUTPUT,
    "counter": SignalClass.INTERNAL,
    "value": SignalClass.OUTPUT,
}
_LITERAL = re.compile(r"(?:T#)?(?:[0-9]+(?:d|h|ms|m|s))+")


_SAID = re.compile(r"([^()]+)\(([^()]+)\)")
"""An output with what it does behind it: `Y10 (flap)`."""


def plan_sequence(
    sheet: Sheet, project: Project, chosen: Mapping[int, str] | None = None, heading: int | None = None, name: str = "",
    bodies: Mapping[str, str] | None = None,
) -> Plan:  # fmt: skip
    """What a sheet says of a sequence, for a file that has the signals of `project`. `chosen` are roles of columns and `heading`
    the row (from 0) that somebody has chosen, `bodies` texts by the names of bodies. What is wrong stands in the plan; nothing is raised.
    """
    plan = Plan(sheet)
    if heading is None:
        found = find_step_heading(sheet)
        if found is None:
            plan.problems.append(Note(0, "no row has headings that are known, such as Step, Condition, Next"))
            return plan
        sheet, heading = with_second_row(sheet, found.row, found.roles)
        plan.sheet = sheet
    plan.heading = heading
    plan.columns = columns_of(sheet, heading, known_names(project), chosen)
    _Reader(plan, project, name, dict(bodies or {})).read()
    return plan


class _Reader:
    """Goes through the rows of a plan."""

    def __init__(self, plan: Plan, project: Project, name: str, bodies: dict[str, str]) -> None:
        self.plan, self.project, self.sheet = plan, project, plan.sheet
        self.name = name
        self.known = known_names(project)
        self.at = {c.role: c.index for c in plan.columns if c.role and c.role not in SIGNALS}
        self.steps: list[Step] = []
        self.spelt: dict[str, str] = {}
        """Names and numbers of steps as the table has them, in lower case, and the names they have here."""
        self.ways: list[Way] = []
        self.bodies = bodies
        self.new: dict[str, Signal] = {}
        self.heads = {h: s.name for h, s in self.known.items()}
        cells = {
            sheet_cell.lower()
            for c in plan.columns
            if c.role in SIGNALS
            for _, sheet_cell in self.sheet.column(c.index, plan.heading + 1)
        }
        self.dots = DOTS if not cells & (ON - {"1"}) and not plan.sheet.filled else frozenset()
        self.unitless: set[str] = set()
        spoken = [any(map(switched, parts_of(text))) for _, text in self._names() if text]
        marks = {"output", "outputs"} & {c.role for c in plan.columns}
        self.says_marks = not marks and spoken.count(True) > 1 and 2 * spoken.count(True) >= len(spoken)
        """Whether the names of the steps say what is switched in them, and nothing else does."""
        self.end_before = 0

    def _names(self) -> Iterator[tuple[int, str]]:
        return self.sheet.column(self.at["name"], self.plan.heading + 1) if "name" in self.at else iter(())

    def cell(self, row: int, role: str) -> str:
        return self.sheet.cell(row, self.at[role]).strip() if role in self.at else ""

    def head(self, role: str) -> str:
        return self.sheet.cell(self.plan.heading, self.at[role]) if role in self.at else ""

    # -- the table

    def read(self) -> None:
        plan = self.plan
        if "name" not in self.at and "number" not in self.at:
            plan.problems.append(Note(plan.heading + 1, "no column is the step's number or name; choose one"))
            return
        if plan.heading:
            said = " / ".join(
                x for x in (" ".join(dict.fromkeys(filter(None, row))) for row in self.sheet.rows[: plan.heading]) if x
            )
            if said:
                plan.notes.append(Note(plan.heading + 1, f"the headings stand here; above them: {said[:120]}"))
        self._signals()
        for row in range(plan.heading + 1, len(self.sheet.rows)):
            self._row(row)
        if not self.steps:
            plan.problems.append(Note(plan.heading + 1, "there is no step below these headings"))
            return
        flow = Flow(plan, self._sequence_name(), self.steps, self.ways, self.spelt, self.head("next"), self.bodies)
        plan.sequence = flow.sequence()
        plan.signals = list(self.new.values())

    def _signals(self) -> None:
        taken = taken_names(self.project)
        seen: dict[str, str] = {}
        for c in self.plan.columns:
            if c.role not in SIGNALS:
                if c.why and c.head:
                    self.plan.notes.append(Note(0, f"the column {c.head} is left out: {c.why}"))
                continue
            low = c.signal.lower()
            if low in seen:
                self.plan.problems.append(Note(self.plan.heading + 1, f"two columns are the signal {c.signal}", c.head))
            seen[low] = c.head
            if c.role == "body":
                if low not in {n.lower() for n in self.bodies}:
                    self.bodies[c.signal] = ""
                    self.plan.notes.append(Note(0, f"a body {c.signal} without a text", c.head))
                continue
            self.heads[c.head.strip().lower()] = c.signal
            if low in {s.name.lower() for s in self.project.signals}:
                continue
            if low in taken:
                self.plan.problems.append(
                    Note(self.plan.heading + 1, f"{c.signal} is the name of something else", c.head)
                )
            cells = [text for _, text in self.sheet.column(c.index, self.plan.heading + 1) if text]
            kind = Type.BOOL
            if c.role == "counter":
                kind = Type.INT
            elif c.role == "value":
                kind = Type.REAL if any("." in x or "," in x for x in cells) else Type.INT
            comment = "" if c.head.strip() == c.signal else " ".join(c.head.split())
            self.new[low] = Signal(c.signal, _CLASS[c.role], kind, c.address, comment=comment)
            said = f"new {self.new[low].cls} {c.signal}, {kind}"
            if c.guessed:
                self.plan.questions.append(Note(0, f"{said}: taken as an output; it may be an input", c.head))
            else:
                self.plan.notes.append(Note(0, said, c.head))

    def _row(self, row: int) -> None:
        number, name = self.cell(row, "number"), self.cell(row, "name")
        others = [c for c in self.plan.columns if c.role and c.role not in ("number", "name", "comment")]
        empty = not any(self.sheet.cell(row, c.index).strip() for c in others) and not any(
            (row, c.index) in self.sheet.filled for c in others
        )
        if empty and not number and not name:
            return
        if plain_head(name) in _SUMS or plain_head(number) in _SUMS:
            self.plan.note(row, f"{name or number} is no step: the row is left out")
            return
        if all(self.sheet.cell(row, c.index) == c.head for c in self.plan.columns if c.head):
            return  # the headings again, as on the next page of a long list
        last = self.steps[-1] if self.steps else None
        again = last is not None and (number, name) == self._spelt_last
        if (number or name) and not again:
            if empty and not number:
                self.plan.note(row, f"{name} has nothing beside it: taken as a title, not as a step")
                return
            self._step(row, number, name)
        elif last is None:
            self.plan.wrong(row, "the first row has neither number nor name of a step")
            return
        elif not again:
            marked = [c.head for c in others if c.role == "output" and self._marks(row, c)]
            if marked:
                self.plan.wrong(row, f"marks without a step, in {', '.join(marked)}")
        self._way(row, further=not (number or name) or again)

    _spelt_last: tuple[str, str] = ("", "")

    def _step(self, row: int, number: str, name: str) -> None:
        taken = {s.name.lower() for s in self.steps} | {s.name.lower() for s in self.project.signals} | set(self.new)
        self._spelt_last = (number, name)
        own = identifier(name) or (f"S{number}" if number.isdigit() else identifier(number) or "Step")
        unique = free_name(own, taken)
        if unique.lower() != own.lower():
            self.plan.note(row, f"there is a {own} already: this step is called {unique}")
        digits = int(number) if number.lstrip("-").isdigit() and len(number) < 10 else None
        if digits is None or any(s.number == digits for s in self.steps):
            if digits is not None:
                self.plan.wrong(row, f"the number {number} stands twice", self.head("number"))
            elif number:
                self.plan.note(
                    row, f"{number} is no whole number: numbered on from the step above", self.head("number")
                )
            digits = 10 * (max((s.number for s in self.steps), default=0) // 10 + 1)
        comment = self.cell(row, "comment")
        if name and name != unique:
            comment = f"{name}: {comment}" if comment else name
        times = {role: self._time(row, role) for role in ("longest", "shortest")}
        actions: list[Action] = []
        sets: list[str] = []
        for c in self.plan.columns:
            if c.role in ("output", "body"):
                actions += self._marks(row, c)
            elif c.role == "run":
                actions += [Action(Qualifier.RUN, c.signal) for _ in self._marks(row, c)[:1]]
            elif c.role in ("counter", "value"):
                sets += self._sets(row, c)
            elif c.role == "outputs":
                actions += self._listed(row, c)
        if self.says_marks:
            for turned in filter(None, map(switched, parts_of(name))):
                actions += self._turned(row, self.head("name"), *turned)
        for text in sets:
            actions.append(Action(Qualifier.P1, self._body(text, unique)))
        self.steps.append(Step(unique, digits, tuple(actions), times["longest"], times["shortest"], comment=" ".join(comment.split()),
                               response=self.cell(row, "late") or "alarm", permissive=self.cell(row, "permissive")))  # fmt: skip
        for key in (number, name, unique, f"{number} {name}"):
            if key.strip():
                self.spelt.setdefault(plain_head(key), unique)
                self.spelt.setdefault(key.strip().lower(), unique)

    def _marks(self, row: int, c: Column) -> tuple[Action, ...]:
        text = self.sheet.cell(row, c.index).strip()
        low = text.lower()
        if (not text and (row, c.index) in self.sheet.filled) or low in ON or low in self.dots or SPOKEN.get(low):
            return (Action(Qualifier.N, c.signal),)
        if low in OFF or low in DOTS or low in SPOKEN:
            return ()
        try:
            return read_marks(text, c.signal)
        except EditError as error:
            self.plan.wrong(row, f"{text!r} is no mark: {error}", c.head)
            return ()

    def _listed(self, row: int, c: Column) -> list[Action]:
        """Outputs that a cell lists by their names."""
        out = []
        for part in parts_of(self.sheet.cell(row, c.index)):
            words = part.split()
            if part.lower() in OFF | {"none", "keine", "all off", "alle aus"}:
                continue
            if (turned := switched(part)) is not None:
                out += self._turned(row, c.head, *turned)
                continue
            qualifier = words[0] if len(words) > 1 and words[0].upper() in ("N", "S", "R", "P", "P0", "P1") else "N"
            spelt = " ".join(words[qualifier != "N" or (words[0] == "N" and len(words) > 1) :])
            out += self._output(row, c.head, spelt, Qualifier(qualifier.upper()))
        return out

    def _turned(self, row: int, head: str, spelt: str, on: bool) -> list[Action]:
        """The mark of an output that a text switches: it stays so until another step switches it again."""
        return self._output(row, head, spelt, Qualifier.S if on else Qualifier.R)

    def _output(self, row: int, head: str, spelt: str, qualifier: Qualifier) -> list[Action]:
        """A mark of an output by its name; a new one where there is none."""
        said = _SAID.fullmatch(spelt)
        spelt, comment = (said[1].strip(), said[2].strip()) if said is not None else (spelt, "")
        known = self.known.get(spelt.lower())
        name = known.name if known is not None else identifier(spelt, "In")
        if not name:
            self.plan.wrong(row, f"{spelt!r} is no name of an output", head)
            return []
        if known is None and name.lower() not in self.new:
            words = comment or ("" if name == spelt else spelt)
            self.new[name.lower()] = Signal(name, SignalClass.OUTPUT, comment=words)
            self.plan.note(row, f"new output {name}, BOOL", head)
        return [Action(qualifier, name)]

    def _sets(self, row: int, c: Column) -> list[str]:
        """What a count or a value is set to on entry."""
        text = self.sheet.cell(row, c.index).strip()
        found = COUNTS.fullmatch(text)
        if not text or text in ("-", "–") or (found and found["op"] not in ("+", ":=")):
            return []
        if found:
            return [
                f"{c.signal} := {c.signal} + {found['value']};"
                if found["op"] == "+"
                else f"{c.signal} := {found['value']};"
            ]
        plain = text.replace(",", ".")
        signal = self.known.get(c.signal.lower()) or self.new[c.signal.lower()]
        try:
            value = float(plain)
        except ValueError:
            self.plan.wrong(row, f"{text!r} is no number", c.head)
            return []
        return [f"{c.signal} := {value if signal.type is Type.REAL else int(value)};"]

    def _body(self, text: str, step: str) -> str:
        """The name of a body with this text; the same text has one body."""
        for name, own in self.bodies.items():
            if own == text:
                return name
        signal, _, value = text.rstrip(";").partition(" := ")
        stem = f"Count_{signal}" if "+" in value else f"Clear_{signal}" if value == "0" else f"Set_{signal}"
        name = free_name(stem, {n.lower() for n in self.bodies} | taken_names(self.project) | set(self.new))
        self.bodies[name] = text
        return name

    def _time(self, row: int, role: str) -> str:
        """A time as TIME, or the name of a setting; empty for none."""
        text = self.cell(row, role)
        if not text or text in ("-", "–"):
            return ""
        setting = self.known.get(text.lower())
        if setting is not None and setting.type is Type.TIME:
            return setting.name
        if _LITERAL.fullmatch(text):
            return f"T#{text.removeprefix('T#')}"
        try:
            made, told = time_of(text, unit_of(self.head(role)))
        except ValueError as error:
            self.plan.wrong(row, str(error), self.head(role))
            return ""
        if told and told not in self.unitless:
            self.unitless.add(told)
            self.plan.note(row, told, self.head(role))
        return made

    # -- ways out

    def _way(self, row: int, further: bool) -> None:
        step = self.steps[-1]
        parts: list[str] = []
        text, target = self.cell(row, "condition"), self.cell(row, "next")
        duration = self._time(row, "duration")
        if waits_only(text) and not duration:
            duration, text = time_of(waits_only(text))[0], ""
        if text and text not in ("-", "–"):
            parts.append(self._condition(row, text))
        parts += self._inputs(row)
        ended = self._ended(row)
        if duration or ended:
            parts.append(f"{step.name}.T >= {duration or ended}")
            if len(parts) > 1:
                self.plan.note(row, f"time and condition: {step.name} is left when both hold")
        if further and not parts and not target:
            return
        priority = self.cell(row, "priority")
        condition = " AND ".join(_closed(p) for p in parts) if len(parts) > 1 else "".join(parts)
        self.ways.append(
            Way(row, step.name, condition, target, int(priority) if priority.isdigit() else None, self.cell(row, "way"))
        )

    def _condition(self, row: int, text: str) -> str:
        text = with_times(text, self.steps[-1].name)
        names = self.heads | {n.name.lower(): n.name for n in self.new.values()} | {"home": "Home"}
        found = condition_of(text, names)
        if found is None:
            self.plan.note(
                row,
                f"the condition is kept as a comment, and FALSE until somebody writes it: {text[:80]}",
                self.head("condition"),
            )
            return f"FALSE (* {' '.join(text.split()).replace('*)', '* )')} *)"
        made, new = found
        for name, kind in new.items():
            low = name.lower()
            if low in {s.name.lower() for s in self.steps} or low in self.new or low == "home":
                continue
            self.new[low] = Signal(name, SignalClass.INPUT, kind)
            self.plan.note(row, f"new input {name}, {kind}", self.head("condition"))
        return made

    def _inputs(self, row: int) -> list[str]:
        """Input cells: 1 must be on, 0 must be off; counter cells with a comparison."""
        out = []
        for c in self.plan.columns:
            text = self.sheet.cell(row, c.index).strip()
            low = text.lower()
            if c.role == "counter" and (found := COUNTS.fullmatch(text)) and found["op"] not in ("+", ":="):
                out.append(f"{c.signal} {found['op']} {found['value']}")
            if c.role != "input":
                continue
            if low in ON or (not text and (row, c.index) in self.sheet.filled) or low in self.dots:
                out.append(c.signal)
            elif low in ("0", "off", "false", "no", "nein", "aus", "falsch", "n"):
                out.append(f"NOT {c.signal}")
            elif low not in OFF and low not in DOTS:
                self.plan.wrong(row, f"{text!r} is neither on nor off", c.head)
        return out

    def _ended(self, row: int) -> str:
        """How long a step takes that ends at a time of the cycle."""
        from spokeshave.language.literals import time_ms, time_text

        end = self._time(row, "end") if "end" in self.at else ""
        if not end.startswith("T#"):
            return ""
        ms = time_ms(end)
        took = ms - self.end_before
        if took < 0:
            self.plan.wrong(row, f"the step ends at {end[2:]}, before the one above it", self.head("end"))
            return ""
        self.end_before = ms
        return time_text(took)

    def _sequence_name(self) -> str:
        taken = taken_names(self.project) | set(self.new) | {s.name.lower() for s in self.steps}
        title = next((c for row in self.sheet.rows[: self.plan.heading] for c in row if c.strip()), "")
        stem = identifier(self.name) or identifier(title[:40]) or "Sequence"
        return free_name(stem, taken)


def _closed(condition: str) -> str:
    """A condition with the parentheses it needs beside an AND."""
    try:
        tree = parse_expression(condition)
    except TextError:
        return f"({condition})"
    weak = getattr(tree, "op", "") in ("OR", "XOR")
    return f"({condition})" if weak else condition


def taken(project: Project, plan: Plan) -> Project:
    """The file with the sequence and the signals of a plan. Raises EditError for one that has problems."""
    if plan.problems or plan.sequence is None:
        raise EditError(str(plan.problems[0]) if plan.problems else "there is no sequence in this table")
    return replace(project, signals=(*project.signals, *plan.signals), sequences=(*project.sequences, plan.sequence))
