"""What a machine file keeps of its reachability study: what is assumed of the inputs, and what is asked."""

from __future__ import annotations

from dataclasses import dataclass

Value = bool | int | float


MOST = 2_000_000
"""Situations a study goes through, at most, if nobody says otherwise."""


@dataclass(frozen=True, slots=True)
class StudyPlan:
    """`assumptions` are conditions on inputs that always hold. `together` are pairs of outputs, `before` pairs of steps as
    `Sequence.Step`, of which the first should always come first. `settings` may have one of several values each; others are as in the file.
    """

    assumptions: tuple[str, ...] = ()
    together: tuple[tuple[str, str], ...] = ()
    before: tuple[tuple[str, str], ...] = ()
    settings: tuple[tuple[str, tuple[Value, ...]], ...] = ()
    never: tuple[str, ...] = ()
    """Conditions that must never be; or `while A: B`."""
