"""How work in a process says how far it is, and hears that nobody waits for it; nothing at all in the program itself."""

from __future__ import annotations

from typing import Any

from spokeshave.verify import VerifyError

SLOTS = 1 << 16
"""Places for what is under way at the same time."""


class EndedError(VerifyError):
    """Nobody waits for this work any longer."""


_parts: Any = None
_ended: Any = None
_number = 0
"""The work in hand; 0 in the program itself."""


def share(parts: Any, ended: Any) -> None:
    """The memory a process shares with its program: how far each work is, and the last one ended in each place."""
    global _parts, _ended
    _parts, _ended = parts, ended


def take_in_hand(number: int) -> None:
    """What `look` is about from now on; 0 for nothing."""
    global _number
    _number = number


def look(part: float | None = None) -> None:
    """Called by work from time to time: says how much of it is done, 0 to 1. Raises `EndedError` if it was cancelled.

    In the program itself it does nothing.
    """
    if not _number:
        return
    if part is not None:
        _parts[_number % SLOTS] = part
    if _ended[_number % SLOTS] >= _number:
        raise EndedError("nobody waits for this")
