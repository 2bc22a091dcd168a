"""What an operator touches and sees: pushbutton, emergency stop, selector, lamp."""

from __future__ import annotations

from spokeshave.machine.device import Device, Parameter, State, Terminal
from spokeshave.model.project import Value


class _Hand(Device):
    """State: (k0, hand, failures). The hand is where the operator has put it."""

    def start(self) -> State:
        return (0, 0, frozenset())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: int) -> State:
        return (k, hand, failed)

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"hand": float(state[1])}


class Pushbutton(_Hand):
    """A button. `normally_closed` 1: the contact reads TRUE released; a broken wire reads FALSE either way."""

    kind = "button"
    title = "Pushbutton"
    terminals = (Terminal("contact", False),)
    parameters = (Parameter("normally_closed", "", 0, 0, "1: opens when pressed"),)
    failures = ("contact stuck closed", "wire broken")
    positions = 2

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        if "wire broken" in state[2]:
            return (False,)
        if "contact stuck closed" in state[2]:
            return (True,)
        return (bool(state[1]) != bool(self.value["normally_closed"]),)

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"hand": float(state[1]), "contact": float(self.sense(state, k)[0])}


class EmergencyStop(Pushbutton):
    """Stays pressed until it is released; normally closed unless said otherwise."""

    kind = "emergency"
    title = "Emergency stop"
    parameters = (Parameter("normally_closed", "", 1, 0, "1: opens when pressed"),)


class Selector(_Hand):
    """A switch with up to four positions, each with its own contact, and a lettering for each."""

    kind = "selector"
    title = "Selector"
    terminals = (
        Terminal("at_0", False), Terminal("at_1", False), Terminal("at_2", False), Terminal("at_3", False)
    )  # fmt: skip
    parameters = (
        Parameter("positions", "", 2, 2, "2 to 4"),
        Parameter("start", "", 0, 0, "position before scan 0"),
    )
    failures = ("wire broken",)
    positions = 4

    def start(self) -> State:
        return (0, min(int(self.value["start"]), self.count - 1), frozenset())

    @property
    def count(self) -> int:
        return max(2, min(4, int(self.value["positions"])))

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        broken = "wire broken" in state[2]
        return tuple(not broken and int(state[1]) == i for i in range(4))


class Lamp(Device):
    """State: (k0, on, failures)."""

    kind = "lamp"
    title = "Lamp"
    terminals = (Terminal("lit", True),)
    failures = ("failed",)

    def start(self) -> State:
        return (0, False, frozenset())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: int) -> State:
        return (k, bool(drives[0]), failed)

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return ()

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"lit": float(state[1] and "failed" not in state[2])}
