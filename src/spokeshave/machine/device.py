"""What every device kind has: terminals, parameters, failure modes, and its answers in closed form."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from spokeshave.machine import MachineError
from spokeshave.model.project import Type, Value

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

NEVER = 1 << 62
"""A scan that does not come: nothing will change by itself."""

State = tuple[Any, ...]
Plan = tuple[tuple[int, tuple[tuple[int, Value], ...]], ...]
"""Scans, each with the sensors that show something else from then on: their index in `sense`, and what they show."""
END_OF_PLAN: Plan = ((NEVER, ()),)
Motion = tuple[State, int, int]
"""A state that holds for the scans from the first to before the second number."""
Parameters = Mapping[str, float]


def in_words(name: str) -> str:
    """A name of the machine file as words.

    >>> in_words("in_position"), in_words("inlet2"), in_words("at_0")
    ('in position', 'inlet 2', 'at 0')
    """
    return re.sub(r"(?<=[a-z])(?=\d)", " ", name).replace("_", " ")


@dataclass(frozen=True, slots=True)
class Terminal:
    """A place to wire a signal. A `drive` takes an output in, a sensor gives an input out.

    A `REAL` drive that is a `number` takes any of the number types. `also` are words that signals at such a terminal
    are often named with, for proposals.
    """

    name: str
    drive: bool
    type: Type = Type.BOOL
    note: str = ""
    also: str = ""
    total: bool = False
    """Whether a sensor tells what has been done in all, and not where the device is."""
    say: str = ""
    """What a person reads, where the name alone says too little."""

    @property
    def words(self) -> str:
        """What a person reads: `pulse_in` is no word."""
        return self.say or in_words(self.name)

    def takes(self, kind: Type) -> bool:
        """Whether a signal of this type may be wired here."""
        return kind is self.type or (self.drive and self.type is Type.REAL and kind in (Type.INT, Type.DINT))


MOST = 1e9
"""No number of a device is as large as this."""


@dataclass(frozen=True, slots=True)
class Parameter:
    """A number of the device with its unit, usual value and smallest legal value. A `flag` is 0 or 1."""

    name: str
    unit: str
    default: float
    least: float = 0.0
    note: str = ""
    flag: bool = False


class ParameterError(MachineError):
    """A parameter that makes no sense; carries its name."""

    def __init__(self, name: str, message: str) -> None:
        super().__init__(f"{name}: {message}")
        self.name = name


class Device(ABC):
    """One device with its parameters worked out for a scan period.

    A state is a tuple whose first item is the scan `k0` from which it holds. `drives` are the values of the drive
    terminals in their order. All methods are pure.
    """

    kind: ClassVar[str]
    title: ClassVar[str]
    main: ClassVar[str] = ""
    """The number of its `picture` that one looks at first."""
    terminals: ClassVar[tuple[Terminal, ...]]
    parameters: ClassVar[tuple[Parameter, ...]] = ()
    failures: ClassVar[tuple[str, ...]] = ()
    rarely: ClassVar[frozenset[str]] = frozenset()
    """Terminals and parameters that few machines need, beside those with a number behind them: a form shows them last."""
    positions: ClassVar[int] = 0
    """How many places an operator can put it in by hand; 0 for devices without a hand."""
    one_way: ClassVar[bool] = True
    """Whether its number goes one way between two turns, so that only the borders ahead of it matter."""
    jumps: ClassVar[bool] = False
    """Whether a turn can change at once what it shows, as when an item is taken: then it is read anew in the next scan."""
    harmed_by_time: ClassVar[bool] = False
    """Whether `hazards` can come without a turn; the last value of `sense` then tells whether there are any."""

    def __init__(self, parameters: Parameters, period_ms: int, used: frozenset[str] | None = None) -> None:
        """`used` are the terminals that somebody looks at or drives; all without it."""
        self.period_ms = period_ms
        self.used = frozenset(t.name for t in self.terminals) if used is None else used
        self._shows_number = any(t.type is Type.REAL and t.name in self.used for t in self.sensor_terminals())
        self.value = {p.name: float(parameters.get(p.name, p.default)) for p in self.parameters}
        for p in self.parameters:
            given = self.value[p.name]
            if given >= MOST:
                raise ParameterError(p.name, f"{given:g} {p.unit} is too large; below {MOST:g}")
            if not given >= p.least:
                raise ParameterError(p.name, f"{given:g} {p.unit} is too small; at least {p.least:g}")

    @classmethod
    def drive_terminals(cls) -> tuple[Terminal, ...]:
        return tuple(t for t in cls.terminals if t.drive)

    @classmethod
    def sensor_terminals(cls) -> tuple[Terminal, ...]:
        return tuple(t for t in cls.terminals if not t.drive)

    def first_hand(self) -> float:
        """Where the operator's hand is before scan 0."""
        return 0

    def scans(self, seconds: float) -> int:
        """A duration in whole scans, at least one, rounded to the nearest."""
        return max(1, round(seconds * 1000 / self.period_ms))

    @abstractmethod
    def start(self) -> State:
        """The state before scan 0, with nothing driven and nothing failed."""

    @abstractmethod
    def turn(self, state: State, k: int, drives: tuple[Value, ...], failed: frozenset[str], hand: float) -> State:
        """The state from scan `k` on, when drives, failures or the operator's hand changed in scan `k`.

        Other drives alone do not change what is sensed in scan `k` itself.
        """

    @abstractmethod
    def sense(self, state: State, k: int) -> tuple[Value, ...]:
        """What the sensor terminals show at scan `k >= k0`, in their order."""

    def next_change(self, state: State, k: int) -> int:
        """The first scan after `k` in which `sense` may give something else if nothing turns; NEVER for none."""
        return NEVER

    def ahead(self, state: State, k: int) -> Plan:
        """What comes after scan `k` if nothing turns: one scan at least, in their order. A plan that tells everything
        ends with NEVER. A number that nobody takes is left out.
        """
        following = self.next_change(state, k) if self._shows_number else self.next_switch(state, k)
        if following == NEVER:
            return END_OF_PLAN
        pairs = enumerate(zip(self.sense(state, k), self.sense(state, following)))
        return ((following, tuple((i, new) for i, (old, new) in pairs if new != old)),)

    def next_switch(self, state: State, k: int) -> int:
        """As `next_change`, for the BOOL sensors alone."""
        return self.next_change(state, k)

    def settled(self, state: State) -> int:
        """The scan from which on the REAL sensors stay as they are if nothing turns."""
        return int(state[0])

    def number(self, state: State, k: int) -> float:
        """What the REAL sensor shows at scan `k`. A kind has one at most."""
        raise NotImplementedError(f"{self.kind} shows no number")

    def reaches(self, state: State, value: float) -> int:
        """About when the number gets to `value`: where to look first; what is found is confirmed by `number`."""
        return int(state[0])

    def readings(self, motions: Sequence[Motion]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
        """The scans in which `number` gives something else than in the scan before, and what, for motions one after
        the other. Two arrays of one length, in the order of time.
        """
        raise NotImplementedError(f"{self.kind} shows no number")

    @abstractmethod
    def picture(self, state: State, k: int) -> dict[str, float]:
        """What the board draws at scan `k`, as named numbers."""

    def hazards(self, state: State, k: int) -> tuple[str, ...]:
        """What is being done to the device at scan `k` that would harm a real one."""
        return ()


def true_values(device: Device, state: State, k: int) -> tuple[Value, ...]:
    """What the sensor terminals would show at scan `k` if none of them failed: where the device is."""
    fine = [frozenset() if isinstance(x, frozenset) else x for x in state]
    return device.sense(type(state)._make(fine) if hasattr(state, "_make") else tuple(fine), k)


def first_scan(low: int, high: int, test: Any) -> int:
    """The first scan in `low..high` with `test(scan)` TRUE, for a test that stays TRUE; NEVER if `high` fails.

    The same predicate decides here and in scanning, so that a jump lands on the scan that scanning would find.
    """
    if low > high or not test(high):
        return NEVER
    while low < high:
        middle = (low + high) // 2
        if test(middle):
            high = middle
        else:
            low = middle + 1
    return low


def first_scan_near(guess: int, low: int, high: int, test: Any) -> int:
    """As `first_scan`, looking around `guess` first, in steps that double."""
    if low > high:
        return NEVER
    at = low if guess < low else high if guess > high else guess
    if test(at) and (at == low or not test(at - 1)):
        return at
    if not test(high):
        return NEVER
    reach = 1
    if test(at):
        high = at
        while low < high and test(max(low, high - reach)):
            high, reach = max(low, high - reach), 2 * reach
        low = max(low, high - reach + 1)
    else:
        low = at + 1
        while not test(min(high, at + reach)):
            low, reach = at + reach + 1, 2 * reach
        high = min(high, at + reach)
    return first_scan(low, high, test)


def counted(counts: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """For (2, 0, 3): whose each item is, (0, 0, 2, 2, 2), and which of them it is, (0, 1, 0, 1, 2)."""
    import numpy as np

    whose = np.repeat(np.arange(len(counts)), counts)
    return whose, np.arange(len(whose)) - np.repeat(np.cumsum(counts) - counts, counts)


def keep_last(scans: NDArray[np.int64], numbers: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Where several steps are passed in one scan, the last of them is shown."""
    import numpy as np

    keep = np.append(scans[1:] != scans[:-1], True)[: len(scans)]
    return scans[keep], numbers[keep]


def stuck(name: str, value: bool, failed: frozenset[str]) -> bool:
    """A contact's value under the failures `<name> stuck on` and `<name> stuck off`."""
    if f"{name} stuck on" in failed:
        return True
    return value and f"{name} stuck off" not in failed
