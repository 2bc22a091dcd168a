"""How many scans it takes until a comparison with something that moves turns."""

from __future__ import annotations

MIRROR = {"lt": "gt", "gt": "lt", "le": "ge", "ge": "le", "eq": "eq", "ne": "ne"}
"""The operator with its sides exchanged."""


def first_at(now: int, need: int, period: int) -> int:
    """How many scans from now until a time that is `now` reaches `need`; 0 if it has."""
    return 0 if now >= need else -(-(need - now) // period)


def turns_in(op: str, now: int, c: int, period: int) -> int:
    """Scans until the truth of `now op c` changes, for a time that passes; 0 if it never does again."""
    if op in ("ge", "lt"):
        return first_at(now, c, period)
    if op in ("gt", "le"):
        return (c - now) // period + 1 if now <= c else 0
    return first_at(now, c, period) if now < c else 1 if now == c else 0
