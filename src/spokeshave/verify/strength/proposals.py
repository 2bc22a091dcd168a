"""Scenarios under which a mistake and the machine file without it first do something else, where no scenario that is there comes to that."""

from __future__ import annotations

import re
from collections.abc import Iterator

from spokeshave.language.literals import value_text
from spokeshave.language.scenario import parse_scenario
from spokeshave.language.tokens import Tokens
from spokeshave.machine.kinds import failures_of
from spokeshave.model.project import Project, Scenario, Signal, SignalClass, Type
from spokeshave.verify.proposed.hands import numbers_in
from spokeshave.verify.strength.planted import Mistake

_STEPS = {Type.REAL: 0.5, Type.INT: 1.0, Type.DINT: 1.0}
USUAL_MS = 5000
"""How long a run is where there is no scenario to go by."""
MOST = 12
"""Variants that are tried for a mistake."""
_EXPECTS = re.compile(r"^[ \t]*(expect|shows)\b.*\n?", re.IGNORECASE | re.MULTILINE)


def variants(project: Project, mistake: Mistake, scenario: Scenario | None) -> list[Scenario]:
    """Other stimuli, nearest first: `scenario` with an input that stands otherwise, or with a device that fails, of those that the mistake is
    about; for an interlock its output asked for by hand.
    """
    found: list[Scenario] = []
    for said, rows, drops in _deeds(project, mistake, scenario):
        base = _EXPECTS.sub("", scenario.text) if scenario is not None else f"run for {USUAL_MS} ms"
        kept = [
            row for row in base.splitlines() if not drops or not re.search(rf"\bset {drops} to\b", row, re.IGNORECASE)
        ]
        name = f"{scenario.name}, {said}" if scenario is not None else said[:1].upper() + said[1:]
        # Rows are done as they stand: what is done at the start comes before the others, a later loss of power behind them.
        rows = [*kept, *rows] if mistake.kind == "retain" else [*rows, *kept]
        found.append(Scenario(name, "\n".join(rows).strip()))
    return found[:MOST]


def _deeds(project: Project, mistake: Mistake, scenario: Scenario | None) -> Iterator[tuple[str, list[str], str]]:
    """What is done otherwise in words, the rows that do it, and the input of which other rows go."""
    names = [s for s in (project.signal(n) for n in _names(mistake)) if s is not None]
    inputs = [s for s in names if s.cls is SignalClass.INPUT and s.type is Type.BOOL]
    if mistake.place.kind == "interlock":
        output = mistake.place.item
        ask = ["at 100 ms: hand drive on", f"after 100 ms: ask {output} to TRUE"]
        yield f"{output} asked for by hand", ask, ""
        for s in inputs:
            for value in ("TRUE", "FALSE"):
                yield f"{output} asked for with {s.name} {value}", [f"at 0 ms: force {s.name} to {value}", *ask], s.name
        for s in names:
            if s.cls is SignalClass.OUTPUT and s.name.lower() != output.lower():
                both = [*ask, f"after 100 ms: ask {s.name} to TRUE"]
                yield f"{output} asked for with {s.name}", both, ""
    yield from _numbers(project, mistake, names)
    if mistake.kind == "retain":
        length = (parse_scenario(scenario.text).length_ms if scenario is not None else 0) or USUAL_MS
        for part in (3, 2, 6):
            ms = length * (part - 1) // part
            yield f"with the power lost after {ms / 1000:g} s", [f"at {ms} ms: power cycle"], ""
    wired = {signal.lower(): d for d in project.devices for _, signal in d.wires}
    for s in inputs:
        for value in ("FALSE", "TRUE"):
            yield f"with {s.name} {value}", [f"at 0 ms: force {s.name} to {value}"], s.name
        device = wired.get(s.name.lower())
        for failure in failures_of(device) if device is not None else ():
            yield f"{device.name} {failure}", [f'at 0 ms: break {device.name} "{failure}"'], ""  # type: ignore[union-attr]


def _numbers(project: Project, mistake: Mistake, names: list[Signal]) -> Iterator[tuple[str, list[str], str]]:
    """A number that comes in beside what it is compared with, at it, and on its other side."""
    limits = [float(s.start) for s in names if s.cls is SignalClass.SETTING and s.type in _STEPS]
    limits += [x for text in mistake.changed for x in numbers_in(text)]
    for s in names:
        step = _STEPS.get(s.type)
        if s.cls is not SignalClass.INPUT or step is None:
            continue
        for limit in dict.fromkeys(limits):
            for value in (limit - step, limit, limit + step):
                shown = value_text(value if s.type is Type.REAL else round(value), s.type)
                yield f"with {s.name} at {shown}", [f"at 0 ms: force {s.name} to {shown}"], s.name


def _names(mistake: Mistake) -> list[str]:
    """The names that the text with the mistake, and without it, speak of; those first that only one of them does."""
    was, now = (_words(text) for text in mistake.changed)
    if not was and not now:
        now = _words(mistake.words)
    only = [n for n in (*was, *now) if (n in was) != (n in now)]
    return list(dict.fromkeys((*only, *was, *now)))


def _words(text: str) -> list[str]:
    try:
        words = Tokens(text)
    except ValueError:
        return re.findall(r"[A-Za-z_]\w*", text)
    return [words.word(i) for i in range(len(words.kinds) - 1) if words.word(i).isidentifier()]
