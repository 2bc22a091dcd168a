"""Alarms of a machine file (semantics 9.6): what is told, and how urgent it is, when something goes wrong.

A window, a trip and a hold tell by themselves; a rule gives their alarm words of its own. Other alarms have a condition.

    on            raised by                                   called, in scenarios too
    late S.A      step A of S lasts longer than its window    S.A is late
    trip Stop     the trip comes                              trip Stop
    hold S        S is held by its condition                  hold S
    (nothing)     `condition`, TRUE for `delay`               its name
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace

CLASSES = ("message", "warning", "fault")
"""How urgent an alarm is, the least first."""
KINDS = ("late", "trip", "hold")
_HOLE = re.compile(r"\{([^{}]*)\}")
_DIGITS = re.compile(r"^(.*):\s*([0-9])\s*$", re.DOTALL)


@dataclass(frozen=True, slots=True)
class AlarmRule:
    """An alarm with a `condition`, or the words for what `on` names. In `text` stand values in braces: `{Temp:1} degrees`.

    `delay` is how long the condition has to be TRUE, a TIME literal or a setting; `device` what the alarm points at.
    """

    name: str
    condition: str = ""
    text: str = ""
    cls: str = "warning"
    delay: str = ""
    device: str = ""
    on: str = ""

    @property
    def key(self) -> str:
        """What tells it apart from others, in lower case."""
        return (self.on or self.name).lower()


def ident_of(rule: AlarmRule) -> str:
    """What the log of a run calls an alarm: `late Roast.Drop` is `late:Roast.Drop`, one of its own `alarm:TooHot`."""
    kind, _, rest = rule.on.strip().partition(" ")
    return f"{kind.lower()}:{rest.strip()}" if rule.on else f"alarm:{rule.name}"


def phrase_of(ident: str) -> str:
    """What an alarm is called whatever its text says.

    >>> phrase_of("late:Roast.Drop"), phrase_of("trip:Stop"), phrase_of("alarm:TooHot")
    ('Roast.Drop is late', 'trip Stop', 'TooHot')
    """
    kind, _, rest = ident.partition(":")
    return {"late": f"{rest} is late", "alarm": rest}.get(kind, f"{kind} {rest}")


@dataclass(frozen=True, slots=True)
class Hole:
    """A value in a text: its expression, how many digits behind the point (-1 for as many as it has), where it stands."""

    expression: str
    digits: int
    at: int


def pieces(text: str) -> list[str | Hole]:
    """A text taken apart at the values in braces. A brace without its partner is a character like others.

    >>> pieces("at {Temp:1} degrees")
    ['at ', Hole(expression='Temp', digits=1, at=4), ' degrees']
    """
    out: list[str | Hole] = []
    at = 0
    for m in _HOLE.finditer(text):
        digits = _DIGITS.match(m[1])
        out += [text[at : m.start()]] if m.start() > at else []
        out.append(Hole(digits[1] if digits else m[1], int(digits[2]) if digits else -1, m.start(1)))
        at = m.end()
    return [*out, text[at:]] if at < len(text) else out


def in_alarm(rule: AlarmRule, put: Callable[[str], str]) -> AlarmRule:
    """An alarm with everything in it that may speak of signals and steps passed through `put`."""
    kind, _, rest = rule.on.partition(" ")
    return replace(
        rule,
        condition=put(rule.condition),
        delay=put(rule.delay),
        text=_HOLE.sub(lambda m: "{" + put(m[1]) + "}", rule.text),
        on=f"{kind} {put(rest)}" if rest and kind != "trip" else rule.on,
    )
