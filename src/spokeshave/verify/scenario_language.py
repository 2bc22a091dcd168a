"""Scenario rows against a machine file: names looked up, expressions checked, with located problems."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.check import Checker, Symbol
from spokeshave.language.parse import parse_expression
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.scenario_lists import cases_of
from spokeshave.language.scenario_rows import DeedRow, ExpectRow, GivenRow, Sheet
from spokeshave.language.syntax import Problem, TextError
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.project import Project, Scenario
from spokeshave.verify.scenario_names import row_fault, way_to


@dataclass(frozen=True, slots=True)
class SheetEdge:
    """A RISING, FALLING or HELD of an expectation. It is not the program's: it looks at the ends of scans, and its slot is one of
    those that are counted from the end of the list of values.
    """

    kind: str
    slot: int
    operand: ck.Checked
    time: ck.Checked | None


class SheetScope(TextScope):
    """Scenarios see outputs as they go out, after interlocks and forces. Only expectations have edges: a moment comes when its
    condition becomes TRUE anyway.
    """

    def __init__(self, table: SlotTable, edges: list[SheetEdge] | None = None, before: int = 0) -> None:
        super().__init__(table)
        self.edges, self.before = edges, before

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        found = super().lookup(parts)
        if isinstance(found, Symbol) and len(parts) == 1 and parts[0] in self.table.final:
            return Symbol(found.name, found.type, self.table.final[parts[0]], found.locked)
        return found

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        if self.edges is None:
            advice = "it is done when its condition becomes TRUE; write the condition alone"
            raise TextError([Problem(1, 1, f"{kind} is not for the moment of a row", advice)])
        slot = -1 - self.before - len(self.edges)
        self.edges.append(SheetEdge(kind, slot, operand, time))
        return slot


_last_table: list[tuple[Project, SlotTable]] = []
"""The slots of the project that was last asked for: all scenarios of a machine file are checked one after the other."""


def _table(project: Project) -> SlotTable:
    if not _last_table or _last_table[0][0] is not project:
        _last_table[:] = [(project, SlotTable(project))]
    return _last_table[0][1]


@dataclass(frozen=True, slots=True)
class Checked:
    """A sheet with its expressions checked: `conditions[row]` are the trees of a row's expressions."""

    sheet: Sheet
    conditions: dict[int, tuple[ck.Checked, ...]]
    problems: tuple[Problem, ...]
    edges: tuple[SheetEdge, ...] = ()
    """Those of its expectations, inner ones first."""


def check_sheet(project: Project, text: str, edges_before: int = 0) -> Checked:
    """Parses a scenario without lists and checks every name in it against the project. `edges_before` are the edges of other sheets that are
    played in the same run.
    """
    key = (text, edges_before)
    known = _last_sheets.get(key)
    if known is None or known[0] is not project:
        if len(_last_sheets) >= MOST_SHEETS:
            _last_sheets.clear()
        known = _last_sheets[key] = (project, _check_sheet(project, text, edges_before))
    return known[1]


MOST_SHEETS = 64
_last_sheets: dict[tuple[str, int], tuple[Project, Checked]] = {}
"""What was checked last: a scenario is looked through before it is run."""


def _check_sheet(project: Project, text: str, edges_before: int) -> Checked:
    sheet = parse_scenario(text)
    edges: list[SheetEdge] = []
    of_moments, of_expectations = SheetScope(_table(project)), SheetScope(_table(project), edges, edges_before)
    problems = list(sheet.problems)
    conditions: dict[int, tuple[ck.Checked, ...]] = {}
    rows: list[DeedRow | ExpectRow | GivenRow] = [*sheet.given, *sheet.deeds, *sheet.expectations]
    for row in rows:
        if not isinstance(row, GivenRow):
            texts = row.conditions if isinstance(row, ExpectRow) else (row.moment.condition,)
            scope = of_expectations if isinstance(row, ExpectRow) else of_moments
            trees = [_condition(t, row, at, scope, problems) for at, t in enumerate(texts) if t]
            conditions[row.line] = tuple(t for t in trees if t is not None)
        message, advice = row_fault(project, row)
        if message:
            problems.append(Problem(row.line, 1, message, advice))
    problems += _out_of_time(sheet)
    known = {m.lower() for m in sheet.marks}
    for expected in sheet.expectations:
        if expected.kind == "reach" and expected.note and expected.note.lower() not in known:
            offer = did_you_mean(expected.note, sheet.marks) or 'a row such as: on Roast.Drop: mark "dropping"'
            problems.append(Problem(expected.line, 1, f"no row marks {expected.note!r}", offer))
    return Checked(sheet, conditions, tuple(sorted(problems, key=lambda p: (p.line, p.column))), tuple(edges))


def _seconds(ms: int) -> str:
    return f"{ms / 1000:g} s"


def _out_of_time(sheet: Sheet) -> list[Problem]:
    """Rows for a time that has passed when their turn comes: they are done one after the other, as they stand."""
    found, latest = [], 0
    for row in sheet.deeds:
        if row.moment.kind == "at":
            if row.moment.ms < latest:
                said = f"this is for {_seconds(row.moment.ms)}, and stands under a row for {_seconds(latest)}"
                found.append(Problem(row.line, 1, said, "rows are done one after the other: move it up"))
            latest = max(latest, row.moment.ms)
    return found


def scenario_problems(project: Project, scenario: Scenario) -> tuple[Problem, ...]:
    """What is wrong with a scenario's text, for every choice of its lists, and with what it says it shows."""
    cases = cases_of(scenario.text)
    problems = list(cases.problems)
    for one in cases.lists:
        if project.signal(one.name) or project.device(one.name) or project.sequence(one.name):
            problems.append(
                Problem(one.line, 1, f"{one.name} is a name of the machine file", "call the list otherwise")
            )
    sheet = Sheet()
    for case in cases.cases:
        checked = check_sheet(project, case.text)
        problems += checked.problems
        sheet = checked.sheet
    known = [r.ident for r in project.requirements]
    for line, ident in sheet.shows:
        if ident not in known:
            problems.append(Problem(line, 1, f"there is no requirement {ident}", did_you_mean(ident, known)))
    try:
        way = way_to(project, sheet.start, scenario.name)
    except ValueError as error:
        problems.append(Problem(_line_of(scenario.text, "start"), 1, str(error)))
    else:
        for other, mark in way:
            if check_sheet(project, other.text).problems:
                message = f"{other.name}, which marks {mark!r}, cannot be run as it is"
                problems.append(Problem(_line_of(scenario.text, "start"), 1, message, "mend its rows first"))
    problems += _marks(project, scenario, sheet, bool(cases.lists))
    return tuple(sorted(dict.fromkeys(problems), key=lambda p: (p.line, p.column)))


def _marks(project: Project, scenario: Scenario, sheet: Sheet, lists: bool) -> list[Problem]:
    """Situations that another scenario names too, or that a list would name several times."""
    out = []
    for row in sheet.deeds:
        if row.do != "mark":
            continue
        if lists:
            out.append(Problem(row.line, 1, "a scenario with lists marks no situation", "mark it in one of its own"))
        for other in project.scenarios:
            twice = other.name != scenario.name and "mark" in other.text.lower()
            if twice and row.value.lower() in (m.lower() for m in parse_scenario(other.text).marks):
                out.append(Problem(row.line, 1, f"{other.name} marks {row.value!r} too", "give one another name"))
    return out


def _line_of(text: str, word: str) -> int:
    return next((n for n, row in enumerate(text.splitlines(), 1) if row.strip().lower().startswith(word)), 1)


def _condition(
    text: str, row: DeedRow | ExpectRow, index: int, scope: SheetScope, problems: list[Problem]
) -> ck.Checked | None:
    checker = Checker(scope)
    offset = max(0, row.text.find(text))
    tree = None
    number = isinstance(row, ExpectRow) and row.kind == "value_from" and index == 0
    try:
        parsed = parse_expression(text)
        tree = checker.expression_any(parsed) if number else checker.condition(parsed)
        found = checker.problems
        if number and not found and tree is not None and tree.type == "BOOL":
            found = [Problem(1, 1, f"{text} is BOOL, a value is a number", "write always, never or count")]
    except TextError as error:
        found = error.problems
    problems += [sx.Problem(row.line, offset + p.column, p.message, p.advice, p.start, p.end) for p in found]
    return None if found else tree
