"""What an operator touches: pushbutton, emergency stop, selector, setpoint."""

from __future__ import annotations

from typing import ClassVar

from spokeshave.machine.device import NEVER, Device, Parameter, Parameters, State, Terminal
from spokeshave.model.project import Type, Value

_CLOSED = Parameter("normally_closed", "", 0, 0, "opens when pressed", flag=True)
_BOUNCE = Parameter("bounce_ms", "ms", 0, 0, "how long a contact opens and closes again after it was moved")


class _Hand(Device):
    """State: (k0, hand, failures, scan in which the hand moved). The hand is where the operator has put it."""

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        super().__init__(parameters, period_ms, used)
        self.bounce = round(self.value.get("bounce_ms", 0) / period_ms)

    def start(self) -> State:
        return (0, self.first_hand(), frozenset(), -(1 << 40))

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        return (k, hand, failed, k if hand != state[1] else state[3])

    def next_change(self, state: State, k: int) -> int:
        return k + 1 if k - state[3] < self.bounce else NEVER

    def bounces(self, state: State, k: int) -> bool:
        """Whether the contact is where it was before the hand moved, because it bounces."""
        return 0 < k - int(state[3]) < self.bounce and (k - int(state[3])) % 2 == 1

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"hand": float(state[1])}


class Pushbutton(_Hand):
    """A button. A broken wire reads FALSE either way. A latching one stays in until it is pressed again."""

    kind = "button"
    title = "Pushbutton"
    main = "hand"
    rarely = frozenset(("bounce_ms",))
    terminals = (Terminal("contact", False, also="button pb pressed"),)
    parameters: ClassVar[tuple[Parameter, ...]] = (
        _CLOSED,
        Parameter("latching", "", 0, 0, "stays in until it is pressed again", flag=True),
        _BOUNCE,
    )
    failures = ("contact stuck closed", "contact stuck open", "wire broken")
    positions = 2

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        if state[2] & {"wire broken", "contact stuck open"}:
            return (False,)
        if "contact stuck closed" in state[2]:
            return (True,)
        return (bool(state[1]) ^ bool(self.value["normally_closed"]) ^ self.bounces(state, k),)

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"hand": float(state[1]), "contact": float(bool(self.sense(state, k)[0]))}


class EmergencyStop(Pushbutton):
    """Stays pressed until it is released; normally closed unless said otherwise."""

    kind = "emergency"
    title = "Emergency stop"
    main = "hand"
    rarely = frozenset(("bounce_ms",))
    terminals = (Terminal("contact", False, also="ok emergency estop stop"),)
    parameters = (Parameter("normally_closed", "", 1, 0, "opens when pressed", flag=True), _BOUNCE)


class Selector(_Hand):
    """A switch with up to four positions, each with its own contact. Between two of them no contact is closed."""

    kind = "selector"
    title = "Selector"
    main = "hand"
    rarely = frozenset(("bounce_ms",))
    terminals = tuple(Terminal(f"at_{i}", False, note=f"TRUE in position {i}") for i in range(4))
    parameters = (
        Parameter("positions", "", 2, 2, "2 to 4"),
        Parameter("start", "", 0, 0, "position before scan 0"),
        _BOUNCE,
    )
    failures = ("wire broken", *(f"contact {i} stuck on" for i in range(4)))
    positions = 4

    def first_hand(self) -> float:
        return min(int(self.value["start"]), self.count - 1)

    @property
    def count(self) -> int:
        return max(2, min(4, int(self.value["positions"])))

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        dead = "wire broken" in state[2] or self.bounces(state, k)
        return tuple((not dead and int(state[1]) == i) or f"contact {i} stuck on" in state[2] for i in range(4))


class Setpoint(_Hand):
    """A knob for a number between two limits."""

    kind = "setpoint"
    title = "Setpoint"
    main = "value"
    one_way = False
    terminals = (Terminal("value", False, Type.REAL, also="setpoint set wanted"),)
    parameters = (
        Parameter("least", "", 0, -1e9),
        Parameter("most", "", 100, -1e9),
        Parameter("start", "", 0, -1e9, "value before scan 0"),
        Parameter("step", "", 1, 1e-6, "how far one notch of the wheel turns it"),
    )
    failures = ("wire broken", "stuck")
    positions = 1

    def first_hand(self) -> float:
        return self.value["start"]

    def start(self) -> State:
        return (0, self.first_hand(), frozenset(), self.first_hand())

    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        """The last item of the state is what it gives while it is stuck."""
        return (k, hand, failed, state[3] if "stuck" in failed and "stuck" in state[2] else self._within(state[1])
                if "stuck" in failed else self._within(hand))  # fmt: skip

    def _within(self, hand: float) -> float:
        return max(self.value["least"], min(self.value["most"], float(hand)))

    def next_change(self, state: State, k: int) -> int:
        return NEVER

    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        return (0.0 if "wire broken" in state[2] else float(state[3]),)

    def number(self, state: State, k: int) -> float:
        return float(self.sense(state, k)[0])

    def picture(self, state: State, k: int) -> dict[str, float]:
        return {"hand": self._within(state[1]), "value": float(self.sense(state, k)[0])}
