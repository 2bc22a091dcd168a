"""How far each device and setting may be off, as a machine file keeps it: `Gate 20 %, CoolTime 5 %`."""

from __future__ import annotations

import re

from spokeshave.model.diagnostics import did_you_mean, quoted
from spokeshave.model.project import Project
from spokeshave.verify import VerifyError
from spokeshave.verify.room.knobs import knobs_of

MOST_PERCENT = 90.0
"""A device that is faster by more would be there before it begins."""
_ONE = re.compile(r"(\S+?)\s*(?:=|\s)\s*([0-9]+(?:\.[0-9]+)?)\s*%?")


class ToleranceError(VerifyError):
    """A text that is no list of tolerances; says which part and why."""


def read_tolerances(project: Project, text: str) -> tuple[tuple[str, float], ...]:
    """Names with percents, parted by commas. Raises `ToleranceError` for what is no device with times of its own and no setting that is a
    time.

    >>> read_tolerances(Project(), "")
    ()
    """
    known = {k.name.lower(): k.name for k in knobs_of(project, ())}
    found: dict[str, float] = {}
    for part in (x.strip() for x in text.split(",")):
        if not part:
            continue
        match = _ONE.fullmatch(part)
        if match is None:
            raise ToleranceError(f"{quoted(part)} is no tolerance; write Name 20 %")
        name = known.get(match[1].lower())
        if name is None:
            offer = (
                did_you_mean(match[1], known.values())
                or "those are devices that take time, and settings that are times"
            )
            raise ToleranceError(f"{quoted(match[1])} has no tolerance; {offer}")
        if not float(match[2]) <= MOST_PERCENT:
            raise ToleranceError(f"{name} may be off by {MOST_PERCENT:g} % at most")
        found[name] = float(match[2])
    return tuple(found.items())


def tolerances_text(tolerances: tuple[tuple[str, float], ...]) -> str:
    """As it is written.

    >>> tolerances_text((("Gate", 20.0), ("CoolTime", 2.5)))
    'Gate 20 %, CoolTime 2.5 %'
    """
    return ", ".join(f"{name} {percent:g} %" for name, percent in tolerances)
