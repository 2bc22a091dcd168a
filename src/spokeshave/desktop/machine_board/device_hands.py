"""Hands on the machine: what a click, a press, a drag or the wheel on a device of the board does to the run."""

from __future__ import annotations

from spokeshave.desktop.runner import Runner
from spokeshave.engine.by_hand import asked_by_click
from spokeshave.machine.belt import TAKING
from spokeshave.machine.device import Device as Kind
from spokeshave.machine.operator import Pushbutton, Selector, Setpoint
from spokeshave.model.project import Device


class Hands:
    """`held` is the device that is pressed and let go with the mouse button or the key. A press lasts for one scan at
    least, however short the tap: on a bench that stands still, until it goes on.
    """

    def __init__(self, runner: Runner) -> None:
        self.runner = runner
        self.held: str | None = None
        self._pressed_at = -1
        self._to_let_go: str | None = None
        runner.advanced.connect(self._let_go)

    def at(self, d: Device) -> tuple[Kind, float] | None:
        """The device in the run and where its hand is."""
        session = self.runner.session
        if session is None:
            return None
        index = next((i for i, x in enumerate(session.program.devices) if x.name == d.name), -1)
        return None if index < 0 else (session.program.devices[index].device, session.situation.dev_hand[index])

    @property
    def by_hand(self) -> bool:
        """Whether it is hand drive."""
        return self.runner.session is not None and self.runner.session.situation.hand is not None

    def operate(self, d: Device, takes: bool = False) -> bool:
        """An operator's hand on a button, a selector or a belt, from which it `takes` an item or puts one on; FALSE for other devices."""
        at = self.at(d)
        if at is None or (d.kind == "belt" and self.by_hand):
            return False
        device, hand = at
        if isinstance(device, Selector):
            self.runner.do("hand", d.name, (int(hand) + 1) % device.count)
        elif isinstance(device, Pushbutton) and (d.kind == "emergency" or device.value.get("latching")):
            self.runner.do("hand", d.name, 0 if hand else 1)
        elif isinstance(device, Pushbutton) or d.kind == "belt":
            self._let_go(at_once=True)
            self.held, self._pressed_at = d.name, self.runner.session.k if self.runner.session is not None else -1
            self.runner.do("hand", d.name, TAKING if takes and d.kind == "belt" else 1)
        else:
            return False
        return True

    def release(self) -> None:
        if self.held:
            self._to_let_go, self.held = self.held, None
            self._let_go()

    def _let_go(self, at_once: bool = False) -> None:
        """Lets go what was released, once a scan has seen the press; a run that was wound back or reset has no press."""
        name, session = self._to_let_go, self.runner.session
        if name is None or (session is not None and session.k == self._pressed_at and not at_once):
            return
        self._to_let_go = None
        if session is not None and session.k >= self._pressed_at:
            self.runner.do("hand", name, 0)

    def drive(self, d: Device, first_half: bool) -> bool:
        """In hand drive, turns over what drives a device; FALSE out of it and without a drive."""
        session = self.runner.session
        if session is None:
            return False
        asked = asked_by_click(session.program, session.situation, d.name, first_half)
        for output, on in asked:
            self.runner.do("ask", output, on)
        return bool(asked)

    def turn_to(self, d: Device, part: float) -> None:
        """A setpoint to a part of its way, on one of its notches."""
        at = self.at(d)
        if at is not None and isinstance(at[0], Setpoint):
            value = at[0].value
            number = value["least"] + max(0.0, min(1.0, part)) * (value["most"] - value["least"])
            self.runner.do("hand", d.name, round(round(number / value["step"]) * value["step"], 9))

    def notch(self, d: Device, way: int) -> bool:
        """A setpoint one notch up or down; FALSE for other devices."""
        at = self.at(d)
        if at is None or not isinstance(at[0], Setpoint):
            return False
        value = at[0].value
        wanted = max(value["least"], min(value["most"], at[1] + way * value["step"]))
        self.runner.do("hand", d.name, round(wanted, 9))
        return True
