"""Canonical Huffman codes as tables, and the bits they are read from."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

_BEHIND_END = 4
"""Bytes behind the end that may be taken, as zeros: packers do not agree on what they write last."""


class PackingError(ValueError):
    """A compressed chunk is damaged; the message says how."""


class BitSource(Protocol):
    """What codes are read from."""

    def peek(self, count: int) -> int:
        """Return the next bits without taking them."""

    def take(self, count: int) -> int:
        """Take the next bits."""


class Bits:
    """Bits of 16-bit little-endian words, each taken from its top bit ([MS-XCA] 2.2; the same in LZX)."""

    def __init__(self, data: bytes, position: int = 0) -> None:
        self.data, self.position = data, position
        self._value = self._count = 0

    def peek(self, count: int) -> int:
        """Return the next `count` bits (at most 16) without taking them; zeros behind the end."""
        while self._count < count:
            self._value = self._value << 16 | self._word()
            self._count += 16
        return self._value >> (self._count - count)

    def take(self, count: int) -> int:
        """Take the next `count` bits (at most 16). Raises PackingError where they lie well behind the end."""
        value = self.peek(count)
        self._count -= count
        self._value &= (1 << self._count) - 1
        if 8 * self.position - self._count > 8 * (len(self.data) + _BEHIND_END):
            raise PackingError("it ends early")
        return value

    def align(self) -> None:
        """Leave out 1 to 16 bits, to the next word; what follows is read as bytes from `position`."""
        words, partial = divmod(self._count, 16)
        self.position += (0 if partial else 2) - 2 * words
        self._value = self._count = 0

    def _word(self) -> int:
        word = int.from_bytes(self.data[self.position : self.position + 2], "little")
        self.position += 2
        return word


class HuffmanCode:
    """A canonical Huffman code."""

    def __init__(self, lengths: Sequence[int], most: int, name: str) -> None:
        """`lengths` of the symbols' codes, in bits, 0 for none; `most` the longest that the format allows.

        Raises PackingError for lengths that make no code. A code of no symbols is one until it is used.
        """
        self._most, self._name = most, name
        self._table: list[int] = []
        for length in range(1, most + 1):
            for symbol, own in enumerate(lengths):
                if own == length:
                    self._table += [symbol << 5 | length] * (1 << (most - length))
        whole = 1 << most
        if len(self._table) > whole:
            raise PackingError(f"its {name} gives more codes than there are")
        if 0 < len(self._table) < whole and sum(1 for own in lengths if own) > 1:
            raise PackingError(f"its {name} leaves codes without a symbol")
        self._table += [0] * (whole - len(self._table))

    def read(self, bits: BitSource) -> int:
        """Take a symbol from `bits`. Raises PackingError for a code that stands for none."""
        entry = self._table[bits.peek(self._most)]
        if not entry:
            raise PackingError(f"it has a code that its {self._name} does not give")
        bits.take(entry & 31)
        return entry >> 5
