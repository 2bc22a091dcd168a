"""What is written on a chart, and how much room it takes. Units are pixels."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from spokeshave.model.project import Action, Step, Transition

STEP_H = 34
BLOCK_H = 20
CHIP_H = 16
LINE_H = 15
CHAR_W = 7.3
LEAST_STEP_W = 92
LINE_CHARS = 32
MOST_LINES = 6
_OPERATOR = re.compile(r" (?=AND\b|OR\b|XOR\b|&)")


def block_text(action: Action) -> str:
    """An action block as it stands beside its step: `D T#2s Gate`."""
    return f"{action.qualifier} {action.time} {action.target}" if action.time else f"{action.qualifier} {action.target}"


@lru_cache(maxsize=20_000)
def condition_lines(text: str) -> tuple[str, ...]:
    """A condition in at most `MOST_LINES` lines of about `LINE_CHARS` letters, cut before an operator where possible. Who
    needs more reads the end in the tooltip.

    >>> condition_lines("GateClosed AND NOT GateOpened AND NOT DarkRoast")
    ('GateClosed AND NOT GateOpened', 'AND NOT DarkRoast')
    """
    rest = " ".join(text.split())
    lines: list[str] = []
    while len(rest) > LINE_CHARS and len(lines) < MOST_LINES - 1:
        ends = [m.start() for m in _OPERATOR.finditer(rest, 1, LINE_CHARS + 1)] or [
            m.start() for m in re.finditer(" ", rest[: LINE_CHARS + 1])
        ]
        cut = ends[-1] if ends else LINE_CHARS
        lines.append(rest[:cut])
        rest = rest[cut:].strip()
    return (*lines, rest if len(rest) <= LINE_CHARS else rest[: LINE_CHARS - 1] + "…")


def window_text(step: Step) -> str:
    """A time window as it is typed.

    >>> window_text(Step("Fill", 20, longest="T#6s", shortest="T#1s"))
    '1s to 6s'
    """
    low, high = step.shortest.removeprefix("T#"), step.longest.removeprefix("T#")
    return f"{low} to {high}" if low and high else high or (f"at least {low}" if low else "")


def chips(step: Step) -> tuple[str, ...]:
    """What is written small below a step: its time window and its permissive.

    >>> chips(Step("Fill", 20, longest="T#6s", shortest="T#1s", permissive="Ready"))
    ('1s to 6s', 'needs Ready')
    """
    low, high = step.shortest, step.longest
    window = window_text(step) if low else f"at most {window_text(step)}" if high else ""
    needs = step.permissive if len(step.permissive) <= 24 else step.permissive[:23] + "…"
    return tuple(x for x in (window, f"needs {needs}" if needs else "") if x)


def chips_top(step: Step) -> float:
    """Upper edge of the chips, from the upper edge of the step."""
    return max(STEP_H, BLOCK_H * len(step.actions)) + 2


def chip_width(text: str) -> float:
    """How wide a chip with this text is, in pixels."""
    return 6.2 * len(text) + 10


@dataclass(frozen=True, slots=True)
class Size:
    """Of a step or bar around its centre line: to the left, to the right, and down; a step's box and action table."""

    left: float
    right: float
    down: float
    box_w: float = 0.0
    actions_w: float = 0.0


def step_size(step: Step) -> Size:
    """The room a step takes with its action blocks and chips, in pixels."""
    w = max(LEAST_STEP_W, CHAR_W * (len(step.name) + len(str(step.number)) + 3) + 16)
    actions = CHAR_W * max(len(block_text(a)) for a in step.actions) + 18 if step.actions else 0.0
    small = chips(step)
    right = max(w / 2 + (12 + actions if actions else 0), 5 + sum(chip_width(c) + 4 for c in small))
    down = chips_top(step) + (CHIP_H if small else 0)
    return Size(w / 2, right, down, w, actions)


def bar_size(t: Transition) -> Size:
    """Down is measured from the bar."""
    return _text_size(t.condition)


@lru_cache(maxsize=20_000)
def _text_size(condition: str) -> Size:
    lines = condition_lines(condition)
    return Size(17.0, 24 + CHAR_W * max(map(len, lines)), 10 + LINE_H * (len(lines) - 1))
