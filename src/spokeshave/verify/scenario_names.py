"""What the rows of a scenario name, looked up in the machine file: devices, signals, sequences, steps, marks."""

from __future__ import annotations

from dataclasses import replace

from spokeshave.language.literals import duration_ms, read_value
from spokeshave.language.parse import parse_expression
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.scenario_rows import DeedRow, ExpectRow, GivenRow
from spokeshave.language.syntax import TextError
from spokeshave.machine.kinds import KINDS, build, failures_of
from spokeshave.model.diagnostics import did_you_mean, several
from spokeshave.model.project import Device, Project, Scenario, Signal, SignalClass, Type, Value
from spokeshave.model.recipes import recipe_of
from spokeshave.verify.usage import names_in

Fault = tuple[str, str]
"""What is wrong and what to do; empty texts if nothing is."""

FINE: Fault = ("", "")


def row_fault(project: Project, row: DeedRow | ExpectRow | GivenRow) -> Fault:
    """A problem with the devices, signals, sequences and steps a row names."""
    if isinstance(row, GivenRow):
        return _given(project, row)
    if isinstance(row, ExpectRow):
        if row.kind.startswith("cycle"):
            known = [q.name for q in project.sequences]
            there = project.sequence(row.names[0]) is not None
            return FINE if there else (f"there is no sequence {row.names[0]}", did_you_mean(row.names[0], known))
        if row.kind in ("order", "exact_order"):
            pairs = [(row.names[0], n) for n in row.names[1:]]
        else:
            pairs = list(zip(row.names[::2], row.names[1::2]))
        return next((p for p in (_step(project, *pair) for pair in pairs) if p[0]), FINE)
    if row.moment.kind == "on_step":
        problem = _step(project, row.moment.sequence, row.moment.step)
        if problem[0]:
            return problem
    return _deed(project, row)


def typed_value(text: str, signal: Signal) -> Value:
    """The value a row gives a signal. Times may be written `3 s`. Raises `ValueError`."""
    text = text.strip()
    if signal.type is Type.TIME and not text.lstrip("+-").isdigit():
        return duration_ms(text)
    return read_value(text, signal.type)


def hand_value(text: str) -> float:
    """Where a selector or a setpoint is turned. Raises `ValueError`."""
    number = float(text)
    return int(number) if number.is_integer() else number


def reset_hands(project: Project) -> list[Device | Signal]:
    """What makes the reset expression rise: the buttons behind its inputs, or the inputs that no device gives."""
    try:
        names = [n for n, _ in names_in(parse_expression(project.reset))]
    except TextError:
        return []
    found: list[Device | Signal] = []
    for name in names:
        signal = project.signal(name)
        if signal is None or signal.cls is not SignalClass.INPUT or signal.type is not Type.BOOL:
            continue
        giver = next((d for d in project.devices if any(s.lower() == name for _, s in d.wires)), None)
        if giver is None:
            found.append(signal)
        elif KINDS[giver.kind].positions and giver.kind not in ("selector", "setpoint"):
            found.append(giver)
    return found


def mark_of(project: Project, name: str) -> Scenario | None:
    """The scenario that names a situation with a `mark` row."""
    wanted = name.lower()
    for s in project.scenarios:
        if "mark" in s.text.lower() and any(m.lower() == wanted for m in parse_scenario(s.text).marks):
            return s
    return None


def way_to(project: Project, start: str, name: str = "") -> list[tuple[Scenario, str]]:
    """The scenarios to run one after the other, each up to a mark, to begin at the situation `start`.

    Raises `ValueError` where there is no such situation, or one begins at itself. `name` is the scenario that asks.
    """
    way: list[tuple[Scenario, str]] = []
    while start:
        scenario = mark_of(project, start)
        if scenario is None:
            known = sorted(m for s in project.scenarios for m in parse_scenario(s.text).marks)
            raise ValueError(f"no scenario marks {start!r}; there are: {several(known) or 'no marks yet'}")
        if scenario.name == name or any(scenario is s for s, _ in way):
            raise ValueError(f"{scenario.name} marks {start!r} and would begin at itself")
        way.insert(0, (scenario, start))
        start = parse_scenario(scenario.text).start
    return way


def _step(project: Project, sequence: str, step: str) -> Fault:
    q = project.sequence(sequence)
    if q is None:
        return f"there is no sequence {sequence}", did_you_mean(sequence, (s.name for s in project.sequences))
    if q.step(step) is None:
        return f"{q.name} has no step {step}", did_you_mean(step, (s.name for s in q.steps))
    return FINE


def _turn(device: Device, text: str) -> Fault:
    """A problem with where a selector or a setpoint is turned."""
    try:
        number = float(text)
    except ValueError:
        return f"{text} is not a number", "write turn Knob to 2"
    values = {p.name: p.default for p in KINDS[device.kind].parameters} | dict(device.parameters)
    if device.kind == "setpoint":
        low, high = values["least"], values["most"]
        there = low <= number <= high
        return FINE if there else (f"{device.name} goes from {low:g} to {high:g}, not to {text}", "")
    last = int(values["positions"]) - 1
    there = number.is_integer() and 0 <= number <= last
    return FINE if there else (f"{device.name} has the positions 0 to {last}, not {text}", "")


def _device(project: Project, name: str) -> tuple[Device | None, Fault]:
    device = project.device(name)
    if device is None:
        return None, (f"there is no device {name}", did_you_mean(name, (d.name for d in project.devices)))
    return device, FINE


def _failure(device: Device, name: str) -> Fault:
    known = failures_of(device)
    return FINE if name in known else (f"{device.name} has no failure {name!r}", f"it has {', '.join(known)}")


def _recipe(project: Project, name: str) -> Fault:
    if recipe_of(project, name) is not None:
        return FINE
    known = [r.name for r in project.recipes]
    offer = did_you_mean(name, known) or (f"there are: {several(known)}" if known else "the file has no recipes yet")
    return f"there is no recipe {name}", offer


def _given(project: Project, row: GivenRow) -> Fault:
    if row.kind == "recipe":
        return _recipe(project, row.value)
    signal = project.signal(row.target)
    if row.kind == "value" and signal is not None:
        if signal.cls is not SignalClass.SETTING:
            return f"{signal.name} is an {signal.cls}", "what is given is a setting or where a selector stands"
        return _value(row.value, signal)
    device, fault = _device(project, row.target)
    if device is None:
        return fault if row.kind != "value" else (f"there is no setting and no device {row.target}", fault[1])
    if row.kind == "failure":
        return _failure(device, row.value)
    if row.kind == "parameter":
        known = [p.name for p in KINDS[device.kind].parameters]
        if row.parameter not in known:
            offer = did_you_mean(row.parameter, known) or f"it has {', '.join(known) or 'none'}"
            return f"{device.name} has no parameter {row.parameter}", offer
        try:
            number = float(row.value)
        except ValueError:
            return f"{row.value} is not a number", "parameters are plain numbers in their unit"
        others = tuple(p for p in device.parameters if p[0] != row.parameter)
        try:
            build(replace(device, parameters=(*others, (row.parameter, number))), project.period_ms)
        except ValueError as error:
            return str(error), ""
        return FINE
    return _hand(device, "turn" if row.kind == "value" else "hold", row.value)


def _hand(device: Device, do: str, value: str) -> Fault:
    kind = KINDS[device.kind]
    if not kind.positions or (do == "turn") != (device.kind in ("selector", "setpoint")):
        return f"{device.name} is a {kind.title.lower()}", "buttons are pressed, selectors and setpoints turned"
    return _turn(device, value) if do == "turn" else FINE


def _value(text: str, signal: Signal) -> Fault:
    try:
        typed_value(text, signal)
    except ValueError as error:
        return str(error), ""
    return FINE


def _deed(project: Project, row: DeedRow) -> Fault:
    if row.do in ("press", "hold", "release", "take", "turn", "break_device", "mend_device"):
        device, fault = _device(project, row.target)
        if device is None:
            return fault
        if row.do == "take":
            return (
                FINE
                if device.kind == "belt"
                else (f"{device.name} is a {KINDS[device.kind].title.lower()}", "items are taken from belts")
            )
        return _failure(device, row.value) if row.do.endswith("_device") else _hand(device, row.do, row.value)
    if row.do in ("set_value", "force", "unforce"):
        signal = project.signal(row.target)
        if signal is None:
            return f"there is no signal {row.target}", did_you_mean(row.target, (s.name for s in project.signals))
        legal = (SignalClass.INPUT, SignalClass.SETTING if row.do == "set_value" else SignalClass.OUTPUT)
        if signal.cls not in legal:
            return f"{signal.name} is an {signal.cls}", f"this works on an {legal[0]} or {legal[1]}"
        return _value(row.value, signal) if row.value else FINE
    if row.do == "use_recipe":
        return _recipe(project, row.value)
    if row.do == "ask":
        signal = project.signal(row.target)
        if signal is None or signal.cls is not SignalClass.OUTPUT or signal.type is not Type.BOOL:
            outputs = (s.name for s in project.signals if s.cls is SignalClass.OUTPUT)
            return f"{row.target} is no BOOL output", did_you_mean(row.target, outputs)
        return _value(row.value, signal)
    if row.do == "reset" and not reset_hands(project):
        return "nothing can be pressed to reset", "give the project a reset expression with an input in it"
    return FINE
