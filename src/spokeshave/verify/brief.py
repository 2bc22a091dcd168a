"""The brief: numbers in its sentences as settings, and what shows a requirement besides scenarios."""

from __future__ import annotations

import re
from dataclasses import dataclass

from spokeshave.language.literals import duration_ms
from spokeshave.model import edits
from spokeshave.model.diagnostics import did_you_mean
from spokeshave.model.edits import EditError
from spokeshave.model.project import Project, Requirement, Scenario, Signal, SignalClass, Type, Value
from spokeshave.verify.check.run import CODES
from spokeshave.verify.protection import rules

_TIMES = {"ms": "ms", "s": "s", "sec": "s", "second": "s", "seconds": "s", "min": "min", "minute": "min", "minutes": "min",
          "h": "h", "hour": "h", "hours": "h"}  # fmt: skip
_NUMBER = re.compile(
    r"(?<![\w.,])(\d+(?:[.,]\d+)?)\s*(°C|°F|K|%|bar|mbar|kPa|mm|cm|m|kg|g|l|ml|Hz|rpm|V|A|kW"
    r"|ms|sec|seconds?|s|min|minutes?|h|hours?|batches|times|pieces|items|cycles|dips)(?![\w])"
)
_SMALL_LIST = (
    "a an the at for of to in on by is are has have been be it its and or than then that this only least "
    "most more less with within after before when while until each every from stays stay lasts last reached "
    "without not no ends end"
)
_SMALL = frozenset(_SMALL_LIST.split())


@dataclass(frozen=True, slots=True)
class Number:
    """A number with its unit in a sentence: where it stands, what it would be as a setting."""

    text: str
    start: int
    type: Type
    value: Value
    unit: str


def numbers_in(text: str) -> list[Number]:
    """The numbers with a unit in a sentence, in their order.

    >>> [(n.text, n.type.value, n.value) for n in numbers_in("It rests 4 s above 160 °C.")]
    [('4 s', 'TIME', 4000), ('160 °C', 'REAL', 160.0)]
    """
    out = []
    for m in _NUMBER.finditer(text):
        amount, unit = m[1].replace(",", "."), m[2]
        if unit in _TIMES:
            try:
                out.append(Number(m[0], m.start(), Type.TIME, duration_ms(f"{amount} {_TIMES[unit]}"), ""))
            except ValueError:
                continue
        elif unit.isalpha() and len(unit) > 3 and "." not in amount:
            out.append(Number(m[0], m.start(), Type.INT, int(amount), ""))
        else:
            out.append(Number(m[0], m.start(), Type.REAL, float(amount), unit))
    return out


def settings_like(project: Project, number: Number) -> list[str]:
    """The settings that have this type and value already."""
    return [
        s.name
        for s in project.signals
        if s.cls is SignalClass.SETTING and s.type is number.type and s.start == number.value
    ]


def name_for(project: Project, requirement: Requirement, number: Number) -> str:
    """A free name for a setting, from the words before the number: `stays open for at least 3 s` gives `OpenTime`."""
    words = re.findall(r"[A-Za-z]+", requirement.text[: number.start])
    word = next((w for w in reversed(words) if w.lower() not in _SMALL and len(w) > 2), requirement.ident)
    tail = {Type.TIME: "Time", Type.INT: "Count"}.get(
        number.type, "Temp" if number.unit in ("°C", "°F", "K") else "Limit"
    )
    stem = "".join(c for c in word.capitalize() if c.isalnum())
    if stem.lower() in ("temperature", "time", "limit"):
        stem, tail = stem + requirement.ident, ""
    name = stem if stem.endswith(tail) else stem + tail
    return name if name.lower() not in edits.taken_names(project) else edits.free_name(name, edits.taken_names(project))


def make_setting(project: Project, ident: str, number: Number, name: str) -> Project:
    """The machine file with the number as a setting. Raises `EditError` for a name that is taken or no name."""
    if not re.fullmatch(r"[A-Za-z]\w*", name):
        raise EditError(f"{name!r} is no name: letters, digits and underscores, a letter first")
    if name.lower() in edits.taken_names(project):
        raise EditError(f"{name} is taken")
    new = Signal(
        name,
        SignalClass.SETTING,
        number.type,
        comment=f"{number.text} of {ident}",
        initial=number.value,
        unit=number.unit,
    )
    return edits.add_item(project, "signals", new)


def link_names(project: Project) -> list[str]:
    """Everything that can show a requirement: scenarios, rules of the matrix, and findings that must not be."""
    names = [s.name for s in project.scenarios]
    names += list(dict.fromkeys(r.name for r in rules(project)))
    return names + [f"check {code}" for code in CODES]


def split_links(project: Project, text: str) -> tuple[list[Scenario], list[str]]:
    """The scenarios and the other links in a list with commas or semicolons; a name may have commas of its own. Raises `EditError` for
    what is neither.
    """
    scenarios: list[Scenario] = []
    links: list[str] = []
    known = {n.lower(): n for n in link_names(project)}
    parts = [p.strip() for p in text.replace(";", ",").split(",") if p.strip()]
    while parts:
        whole = (", ".join(parts[:n]) for n in range(len(parts), 0, -1))
        name = next((w for w in whole if project.scenario(w) is not None or w.lower() in known), None)
        if name is None:
            names = ", ".join(s.name for s in project.scenarios) or "none yet"
            offer = did_you_mean(parts[0], known.values())
            raise EditError(f"there is no scenario and no rule {parts[0]!r}; {offer or f'there are: {names}'}")
        found = project.scenario(name)
        if found is not None:
            scenarios.append(found)
        else:
            links.append(known[name.lower()])
        del parts[: name.count(",") + 1]
    return scenarios, links


def link_problem(project: Project, text: str) -> str:
    """What is wrong with such a list; empty for one that can be taken."""
    try:
        split_links(project, text)
    except EditError as error:
        return str(error)
    return ""


_KINDS = (
    ("interlock", r"\b(never|only (?:with|over|while|if)|not .* together|at the same time)\b"),
    ("fault", r"\b(alarm\w*|fault\w*|fail\w*|stop|emergency|jam\w*|late|trip\w*|overtemperature)\b"),
    ("recovery", r"\b(reset|again|resume\w*|go(?:es)? on|power|mended|recover\w*)\b"),
    ("manual", r"\b(by hand|manual\w*|jog\w*)\b"),
    ("time", r"\b\d+(?:[.,]\d+)?\s*(?:ms|s|min|h|seconds?|minutes?)\b"),
)


def guess_kind(text: str) -> str:
    """The kind of a sentence from its words: interlock, fault, recovery, manual, time, else order."""
    return next((kind for kind, words in _KINDS if re.search(words, text, re.IGNORECASE)), "order")
