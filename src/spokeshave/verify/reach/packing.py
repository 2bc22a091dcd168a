"""Situations as whole numbers: each cell of a situation has some bits in one of a few 64-bit words."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Key = tuple[str, int, int]
"""What a cell is: ("code", sequence, step), ("var", slot, 0), ("trip", index, 0) and so on."""

Words = NDArray[np.uint64]
"""(situations, words)"""


@dataclass(frozen=True, slots=True)
class Cell:
    """`low` is added to what stands in the bits, so that small negative numbers fit."""

    key: Key
    bits: int
    word: int
    shift: int
    low: int


class Layout:
    """Where each cell stands. Add them all before anything is packed."""

    def __init__(self) -> None:
        self.cells: list[Cell] = []
        self.words = 1
        self._used = 0

    def add(self, key: Key, values: int, low: int = 0) -> None:
        """A cell for `values` different values from `low` on."""
        bits = max(1, (values - 1).bit_length())
        if self._used + bits > 64:
            self.words, self._used = self.words + 1, 0
        self.cells.append(Cell(key, bits, self.words - 1, self._used, low))
        self._used += bits

    def pack(self, columns: dict[Key, NDArray[np.int32]], rows: int) -> Words:
        words = [np.zeros(rows, np.uint64) for _ in range(self.words)]  # each in one piece of memory while it is made
        for c in self.cells:
            column = columns[c.key]
            value = (column - c.low if c.low else column).astype(np.uint64)
            value <<= np.uint64(c.shift)
            words[c.word] |= value
        return np.stack(words, axis=1)

    def unpack(self, packed: Words) -> dict[Key, NDArray[np.int32]]:
        return {c.key: self._read(packed, c) for c in self.cells}

    def column(self, packed: Words, key: Key) -> NDArray[np.int32]:
        """One cell of all situations."""
        return self._read(packed, next(c for c in self.cells if c.key == key))

    def _read(self, packed: Words, c: Cell) -> NDArray[np.int32]:
        bits = (packed[:, c.word] >> np.uint64(c.shift)) & np.uint64((1 << c.bits) - 1)
        return bits.astype(np.int32) + np.int32(c.low)


def as_keys(packed: Words) -> NDArray[np.void] | NDArray[np.uint64]:
    """One item a situation, in an order that stays: what sorting and searching work on."""
    if packed.shape[1] == 1:
        return packed[:, 0]
    return np.ascontiguousarray(packed.byteswap()).view(np.dtype((np.void, packed.shape[1] * 8)))[:, 0]
