"""Action qualifiers of IEC 61131-3: what each of them does, stated once (semantics section 5).

Action control, what is remembered of transitions, the study, the code styles, the checks and the reading of marks go by
these rules; none of them knows a qualifier by its name. A new one is a name and a line in `RULES`. One is not of the standard: `RUN`, on a
sequence.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, StrEnum, auto


class When(Enum):
    """The scans in which a block counts."""

    ENTERED = auto()
    """The scan in which its step is entered."""
    ACTIVE = auto()
    """All scans in which its step is active."""
    LEFT = auto()
    """The scan in which its step is left."""


class By(Enum):
    """What a time does."""

    BEFORE = auto()
    """It counts while the time has not passed."""
    SINCE = auto()
    """It counts from then on."""


@dataclass(frozen=True, slots=True)
class Rule:
    """What a block does in the scans in which it counts, by the time of its step too (`in_step`): it contributes TRUE, or
    is `stored` and contributes from then on, by the time since it was stored (`since_stored`), or `resets` its target.
    """

    when: When
    in_step: By | None = None
    stored: bool = False
    since_stored: By | None = None
    resets: bool = False
    runs: bool = False
    """Its target is a sequence."""

    @property
    def timed(self) -> bool:
        """Whether the block takes a time."""
        return self.in_step is not None or self.since_stored is not None

    @property
    def steady(self) -> bool:
        """Whether it contributes as long as its step is active, whatever the time."""
        return self == Rule(When.ACTIVE)

    @property
    def pulse(self) -> bool:
        """Whether it contributes in one scan only."""
        return not self.stored and not self.resets and self.when is not When.ACTIVE

    @property
    def once(self) -> bool:
        """Whether it could be stored in many scans of one activation, and is in the first of them."""
        return self.stored and self.when is When.ACTIVE


class Qualifier(StrEnum):
    """Action qualifiers of IEC 61131-3."""

    N = "N"
    L = "L"
    D = "D"
    P = "P"
    P1 = "P1"
    P0 = "P0"
    S = "S"
    R = "R"
    SD = "SD"
    DS = "DS"
    SL = "SL"
    RUN = "RUN"
    """Ours: runs another sequence (semantics section 12). What it means is written out before anything runs, so no rule says it."""

    @property
    def rule(self) -> Rule:
        return RULES[self]

    @property
    def timed(self) -> bool:
        return RULES[self].timed

    @property
    def stored(self) -> bool:
        return RULES[self].stored

    @property
    def resets(self) -> bool:
        return RULES[self].resets

    @property
    def runs(self) -> bool:
        return RULES[self].runs


RULES = {
    Qualifier.N: Rule(When.ACTIVE),
    Qualifier.L: Rule(When.ACTIVE, in_step=By.BEFORE),
    Qualifier.D: Rule(When.ACTIVE, in_step=By.SINCE),
    Qualifier.P: Rule(When.ENTERED),
    Qualifier.P1: Rule(When.ENTERED),
    Qualifier.P0: Rule(When.LEFT),
    Qualifier.S: Rule(When.ENTERED, stored=True),
    Qualifier.R: Rule(When.ACTIVE, resets=True),
    Qualifier.SD: Rule(When.ENTERED, stored=True, since_stored=By.SINCE),
    Qualifier.DS: Rule(When.ACTIVE, in_step=By.SINCE, stored=True),
    Qualifier.SL: Rule(When.ENTERED, stored=True, since_stored=By.BEFORE),
    Qualifier.RUN: Rule(When.ACTIVE, runs=True),
}

ACTING = tuple(q for q in Qualifier if not q.runs)
"""The qualifiers of the standard, for blocks that act on a variable or a body."""
