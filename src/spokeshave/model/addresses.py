"""Addresses of inputs and outputs as IEC 61131-3 writes them, `%IX0.3`, `%QW4`: which take the same bits, which are free."""

from __future__ import annotations

import re
from dataclasses import dataclass

from spokeshave.model.project import Signal, SignalClass, Type

_ADDRESS = re.compile(r"%([IQM])([XBWDL]?)(\d+)(?:\.(\d+))?", re.IGNORECASE)
_BITS = {"X": 1, "B": 8, "W": 16, "D": 32, "L": 64}
SIZES = {Type.BOOL: "X", Type.INT: "W", Type.DINT: "D", Type.REAL: "D", Type.TIME: "D"}
AREAS = {SignalClass.INPUT: "I", SignalClass.OUTPUT: "Q", SignalClass.INTERNAL: "M", SignalClass.SETTING: "M"}


@dataclass(frozen=True, slots=True)
class Address:
    """An area and the bits `first` to `first + bits` of it. Larger sizes count in their own size, as `%IW2` in words."""

    area: str
    first: int
    bits: int

    def overlaps(self, other: Address) -> bool:
        return (
            self.area == other.area and self.first < other.first + other.bits and other.first < self.first + self.bits
        )


def read_address(text: str) -> Address:
    """Raises ValueError with a message for people.

    >>> read_address("%IX1.2")
    Address(area='I', first=10, bits=1)
    """
    found = _ADDRESS.fullmatch(text.strip())
    if not found:
        raise ValueError(f"{text.strip()!r} is not an address; write it like %IX0.3, %QX1.0 or %IW4")
    size = (found[2] or "X").upper()
    if size == "X":
        bit = int(found[4] or 0)
        if bit > 7:
            raise ValueError(f"{text.strip()} has bit {bit}; a byte has bits 0 to 7")
        return Address(found[1].upper(), 8 * int(found[3]) + bit, 1)
    if found[4]:
        raise ValueError(f"{text.strip()}: only a bit has a point, such as %IX{found[3]}.{found[4]}")
    return Address(found[1].upper(), _BITS[size] * int(found[3]), _BITS[size])


def address_text(area: str, size: str, first: int) -> str:
    """The address of the given size that begins at bit `first`."""
    return f"%{area}X{first // 8}.{first % 8}" if size == "X" else f"%{area}{size}{first // _BITS[size]}"


def address_problem(signals: tuple[Signal, ...], row: int, text: str) -> str:
    """What is wrong with an address for the signal at `row`, or an empty string."""
    if not text.strip():
        return ""
    try:
        here = read_address(text)
    except ValueError as error:
        return str(error)
    signal = signals[row]
    area = AREAS[signal.cls]
    if here.area != area and signal.cls in (SignalClass.INPUT, SignalClass.OUTPUT):
        return f"{text.strip()} is no address of an {signal.cls}; it begins with %{area}"
    if here.bits < _BITS[SIZES[signal.type]]:
        return f"{text.strip()} is too small for {signal.type}; use %{area}{SIZES[signal.type]}..."
    for i, other in enumerate(signals):
        if i != row and other.address:
            try:
                there = read_address(other.address)
            except ValueError:
                continue
            if here.overlaps(there):
                same = here == there
                return f"{text.strip()} is {'the address of' if same else 'part of the address of'} {other.name} ({other.address})"
    return ""


def address_problems(signals: tuple[Signal, ...]) -> dict[str, str]:
    """What is wrong with addresses, by the names of the signals that have them."""
    known: list[tuple[Address, int]] = []
    for i, s in enumerate(signals):
        if s.address:
            try:
                known.append((read_address(s.address), i))
            except ValueError:
                known.append((Address("", i, 1), i))
    known.sort(key=lambda k: (k[0].area, k[0].first, -k[0].bits))
    suspects = {i for a, i in known if not a.area}
    suspects |= {i for a, i in known if a.area != AREAS[signals[i].cls] or a.bits < _BITS[SIZES[signals[i].type]]}
    furthest: tuple[str, int, int] | None = None
    for a, i in known:
        if furthest is not None and furthest[0] == a.area and a.first < furthest[1]:
            suspects |= {i, furthest[2]}
        if furthest is None or furthest[0] != a.area or a.first + a.bits > furthest[1]:
            furthest = (a.area, a.first + a.bits, i)
    found = {signals[i].name: address_problem(signals, i, signals[i].address) for i in sorted(suspects)}
    return {name: problem for name, problem in found.items() if problem}


def next_address(signals: tuple[Signal, ...], row: int) -> str:
    """The first free address behind those that signals of the same class have."""
    signal = signals[row]
    area, size = AREAS[signal.cls], SIZES[signal.type]
    bits, end = _BITS[size], 0
    for i, s in enumerate(signals):
        if i != row and s.address:
            try:
                there = read_address(s.address)
            except ValueError:
                continue
            if there.area == area:
                end = max(end, there.first + there.bits)
    return address_text(area, size, -(-end // bits) * bits)


def following(text: str, by: int = 1) -> str:
    """The address, or the name with a number at its end, that many further: for filling down.

    >>> following("%IX0.7"), following("Lamp09"), following("Gate")
    ('%IX1.0', 'Lamp10', 'Gate')
    """
    found = _ADDRESS.fullmatch(text.strip())
    if found:
        a = read_address(text)
        return address_text(a.area, (found[2] or "X").upper(), a.first + by * a.bits)
    number = re.search(r"(\d+)$", text)
    if not number:
        return text
    return text[: number.start()] + str(int(number[1]) + by).zfill(len(number[1]))
