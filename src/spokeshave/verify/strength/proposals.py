"""Scenarios under which a mistake and the machine file without it first do something else, where no scenario that is there comes to that."""

from __future__ import annotations

import re
from collections.abc import Iterator

from spokeshave.language.tokens import Tokens
from spokeshave.machine.kinds import failures_of
from spokeshave.model.project import Project, Scenario, SignalClass, Type
from spokeshave.verify.strength.planted import Mistake

MOST = 10
"""Variants that are tried for a mistake."""
_EXPECTS = re.compile(r"^[ \t]*(expect|shows)\b.*\n?", re.IGNORECASE | re.MULTILINE)


def variants(project: Project, mistake: Mistake, scenario: Scenario | None) -> list[Scenario]:
    """Other stimuli, nearest first: `scenario` with an input that stands otherwise, or with a device that fails, of those that the mistake is
    about; for an interlock its output asked for by hand.
    """
    found: list[Scenario] = []
    for said, rows, drops in _deeds(project, mistake):
        base = _EXPECTS.sub("", scenario.text) if scenario is not None else "run for 5 s"
        kept = [
            row for row in base.splitlines() if not drops or not re.search(rf"\bset {drops} to\b", row, re.IGNORECASE)
        ]
        name = f"{scenario.name}, {said}" if scenario is not None else said[:1].upper() + said[1:]
        found.append(Scenario(name, "\n".join([*rows, *kept]).strip()))
    return found[:MOST]


def _deeds(project: Project, mistake: Mistake) -> Iterator[tuple[str, list[str], str]]:
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
    wired = {signal.lower(): d for d in project.devices for _, signal in d.wires}
    for s in inputs:
        for value in ("FALSE", "TRUE"):
            yield f"with {s.name} {value}", [f"at 0 ms: force {s.name} to {value}"], s.name
        device = wired.get(s.name.lower())
        for failure in failures_of(device) if device is not None else ():
            yield f"{device.name} {failure}", [f'at 0 ms: break {device.name} "{failure}"'], ""  # type: ignore[union-attr]


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
