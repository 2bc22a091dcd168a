"""Scenario rows against a machine file: names looked up, expressions checked, with located problems."""

from __future__ import annotations

from dataclasses import dataclass

from spokeshave.engine.names import SlotTable, TextScope
from spokeshave.language import checked as ck
from spokeshave.language import syntax as sx
from spokeshave.language.check import Checker, Symbol
from spokeshave.language.literals import read_value
from spokeshave.language.parse import parse_expression
from spokeshave.language.scenario import DeedRow, ExpectRow, Sheet, parse_scenario
from spokeshave.language.syntax import Problem, TextError
from spokeshave.machine.kinds import KINDS, failures_of
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.project import Device, Project, Scenario, SignalClass


class SheetScope(TextScope):
    """Scenarios see outputs as they go out, after interlocks and forces."""

    def lookup(self, parts: tuple[str, ...]) -> Symbol | str:
        found = super().lookup(parts)
        if isinstance(found, Symbol) and len(parts) == 1 and parts[0] in self.table.final:
            return Symbol(found.name, found.type, self.table.final[parts[0]], found.locked)
        return found

    def edge(self, kind: str, operand: ck.Checked, time: ck.Checked | None) -> int:
        raise TextError(
            [Problem(1, 1, f"{kind} is not for scenarios", "use when ..., or whenever ... then within ...")]
        )


@dataclass(frozen=True, slots=True)
class Checked:
    """A sheet with its expressions checked: `conditions[row]` are the trees of a row's expressions."""

    sheet: Sheet
    conditions: dict[int, tuple[ck.Checked, ...]]
    problems: tuple[Problem, ...]


def check_sheet(project: Project, text: str) -> Checked:
    """Parses a scenario and checks every name in it against the project."""
    sheet = parse_scenario(text)
    scope = SheetScope(SlotTable(project))
    problems = list(sheet.problems)
    conditions: dict[int, tuple[ck.Checked, ...]] = {}
    rows: list[DeedRow | ExpectRow] = [*sheet.deeds, *sheet.expectations]
    for row in rows:
        texts = row.conditions if isinstance(row, ExpectRow) else (row.moment.condition,)
        trees = [_condition(t, row.line, row.text, scope, problems) for t in texts if t]
        conditions[row.line] = tuple(t for t in trees if t is not None)
        message, advice = _names(project, row)
        if message:
            problems.append(Problem(row.line, 1, message, advice))
    return Checked(sheet, conditions, tuple(sorted(problems, key=lambda p: (p.line, p.column))))


def scenario_problems(project: Project, scenario: Scenario) -> tuple[Problem, ...]:
    """What is wrong with a scenario's text, and with what it says it shows."""
    problems = check_sheet(project, scenario.text).problems
    known = [r.ident for r in project.requirements]
    missing = [r for r in scenario.shows if r not in known]
    extra = tuple(Problem(1, 1, f"there is no requirement {r}", did_you_mean(r, known)) for r in missing)
    return (*extra, *problems)


def _condition(text: str, line: int, row: str, scope: SheetScope, problems: list[Problem]) -> ck.Checked | None:
    checker = Checker(scope)
    offset = max(0, row.find(text))
    tree = None
    try:
        tree = checker.condition(parse_expression(text))
        found = checker.problems
    except TextError as error:
        found = error.problems
    problems += [sx.Problem(line, offset + p.column, p.message, p.advice, p.start, p.end) for p in found]
    return None if found else tree


def _names(project: Project, row: DeedRow | ExpectRow) -> tuple[str, str]:
    """A problem with the devices, signals, sequences and steps a row names, and what to do."""
    if isinstance(row, ExpectRow):
        if row.kind in ("order", "exact_order"):
            pairs = [(row.names[0], n) for n in row.names[1:]]
        else:
            pairs = list(zip(row.names[::2], row.names[1::2]))
        return next((p for p in (_step(project, *pair) for pair in pairs) if p[0]), ("", ""))
    if row.moment.kind == "on_step":
        problem = _step(project, row.moment.sequence, row.moment.step)
        if problem[0]:
            return problem
    return _deed(project, row)


def _step(project: Project, sequence: str, step: str) -> tuple[str, str]:
    q = project.sequence(sequence)
    if q is None:
        return f"there is no sequence {sequence}", did_you_mean(sequence, (s.name for s in project.sequences))
    if q.step(step) is None:
        return f"{q.name} has no step {step}", did_you_mean(step, (s.name for s in q.steps))
    return "", ""


def _turn(device: Device, text: str) -> tuple[str, str]:
    """A problem with where a selector or a setpoint is turned."""
    try:
        number = float(text)
    except ValueError:
        return f"{text} is not a number", "write turn Knob to 2"
    values = {p.name: p.default for p in KINDS[device.kind].parameters} | dict(device.parameters)
    if device.kind == "setpoint":
        low, high = values["least"], values["most"]
        return (
            ("", "") if low <= number <= high else (f"{device.name} goes from {low:g} to {high:g}, not to {text}", "")
        )
    last = int(values["positions"]) - 1
    there = number.is_integer() and 0 <= number <= last
    return ("", "") if there else (f"{device.name} has the positions 0 to {last}, not {text}", "")


def _deed(project: Project, row: DeedRow) -> tuple[str, str]:
    if row.do in ("press", "hold", "release", "turn", "break_device", "mend_device"):
        device = project.device(row.target)
        if device is None:
            return f"there is no device {row.target}", did_you_mean(row.target, (d.name for d in project.devices))
        kind = KINDS[device.kind]
        if row.do in ("break_device", "mend_device"):
            if row.value not in failures_of(device):
                return f"{row.target} has no failure {row.value!r}", f"it has {', '.join(failures_of(device))}"
        elif not kind.positions or (row.do == "turn") != (device.kind in ("selector", "setpoint")):
            return f"{row.target} is a {kind.title.lower()}", "buttons are pressed, selectors and setpoints turned"
        elif row.do == "turn":
            return _turn(device, row.value)
    elif row.do in ("set_value", "force", "unforce"):
        signal = project.signal(row.target)
        if signal is None:
            return f"there is no signal {row.target}", did_you_mean(row.target, (s.name for s in project.signals))
        legal = (SignalClass.INPUT, SignalClass.SETTING if row.do == "set_value" else SignalClass.OUTPUT)
        if signal.cls not in legal:
            return f"{signal.name} is an {signal.cls}", f"this works on an {legal[0]} or {legal[1]}"
        if row.value:
            try:
                read_value(row.value, signal.type)
            except ValueError as error:
                return str(error), ""
    return "", ""
