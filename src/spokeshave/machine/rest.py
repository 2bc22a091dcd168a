"""Whether a failure sleeps: it came while the device stood still, and until it moves it might as well have come later."""

from __future__ import annotations

from spokeshave.machine.device import NEVER, Device, State
from spokeshave.model.project import Value

LOOKS = 4


def sleeps(
    device: Device, state: State, drives: tuple[Value, ...], hand: float, failure: str, since: int, until: int
) -> bool:
    """Whether `failure` coming in scan `since` is the same as coming in scan `until`, for a device that is not turned
    between them and has no other failure: it stands still in both cases, and shows nothing of it.
    """
    failed = frozenset([failure])
    early = device.turn(state, since, drives, failed, hand)
    late = device.turn(state, until, drives, failed, hand)
    if not (_stands(device, state, since) and _stands(device, early, since)):
        return False
    shown = device.sense(state, since)
    if any(device.sense(x, k) != shown for x, k in ((state, until), (early, since), (early, until), (late, until))):
        return False
    stands = device.picture(state, since) == device.picture(state, until)
    same = device.picture(early, until) == device.picture(late, until) == device.picture(early, since)
    return stands and same and device.hazards(early, until) == device.hazards(state, until)


def _stands(device: Device, state: State, k: int) -> bool:
    """Whether it shows the same for ever from scan `k` on. A device may look again a few times before it says so."""
    shown = device.sense(state, k)
    for _ in range(LOOKS):
        k = device.next_change(state, k)
        if k == NEVER:
            return True
        if device.sense(state, k) != shown:
            return False
    return False
