"""Requests out of a stream of bytes (Modbus messaging on TCP/IP, MBAP header: transaction, protocol, length, unit)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from spokeshave.fieldbus import FieldbusError

HEADER = struct.Struct(">HHHB")
MOST_LENGTH = 254
"""What a length field may say: the unit's number and a request of 253 bytes."""


class NoiseError(FieldbusError, ValueError):
    """What comes is no Modbus: nobody knows where the next request would begin."""


@dataclass(frozen=True, slots=True)
class Frame:
    """One request as it came; `pdu` begins with the function code."""

    transaction: int
    unit: int
    pdu: bytes

    def refused(self, code: int) -> bytes:
        """The answer that says why a request is not done, ready to send."""
        return HEADER.pack(self.transaction, 0, 3, self.unit) + bytes((self.pdu[0] | 0x80, code))


def frames(data: bytes) -> Iterator[tuple[Frame, int]]:
    """The whole requests at the beginning of `data`, each with how many bytes are used so far. What is left is part of one.

    Raises `NoiseError` at a header that is none.

    >>> [(f.pdu.hex(), used) for f, used in frames(bytes.fromhex("000700000006010300000002" "0008"))]
    [('0300000002', 12)]
    """
    at = 0
    while len(data) - at >= HEADER.size:
        transaction, protocol, length, unit = HEADER.unpack_from(data, at)
        if protocol != 0 or not 2 <= length <= MOST_LENGTH:
            raise NoiseError(f"protocol {protocol}, length {length}")
        end = at + 6 + length
        if len(data) < end:
            return
        yield Frame(transaction, unit, data[at + HEADER.size : end]), end
        at = end
