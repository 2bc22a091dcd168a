"""What is worked out of tuples and declarations again and again, kept by their identity: a file is frozen, so it stays right."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from spokeshave.model.signals import Declarations

Items = TypeVar("Items", bound=tuple[Any, ...])
Made = TypeVar("Made")
MOST = 256


def remembered(make: Callable[[Items], Made]) -> Callable[[Items], Made]:
    """Keeps what was made of tuples lately, by identity: charts and files are asked for their parts again and again."""
    known: dict[int, tuple[Items, Made]] = {}

    def made(items: Items) -> Made:
        found = known.get(id(items))
        if found is not None and found[0] is items:
            return found[1]
        if len(known) >= MOST:
            known.clear()
        worked_out = make(items)
        known[id(items)] = (items, worked_out)  # not looked up again: another thread may forget it
        return worked_out

    return made


_made: dict[tuple[object, ...], tuple[Declarations, Any]] = {}


def of_declared(make: Callable[[Declarations], Made], declared: Declarations) -> Made:
    """What is made of declarations, kept by their identity: a file is asked for its variables again and again."""
    key = (make, *map(id, declared))
    found = _made.get(key)
    if found is None or any(a is not b for a, b in zip(found[0], declared)):
        if len(_made) >= MOST:
            _made.clear()
        found = _made[key] = (declared, make(declared))
    made: Made = found[1]
    return made
