"""The two streams of LZMS: range-coded decisions from the front, codes and plain bits from the back."""

from __future__ import annotations

from .huffman import PackingError

_WORD = 16
_HISTORY = 64
"""Outcomes that a decision remembers; the zeros among them are its chance of a zero, out of 64."""
_FIRST_ZEROS, _FIRST_HISTORY = 48, 0x5555_5555
_WHOLE = 0xFFFF_FFFF


class Decisions:
    """Decides bit by bit; words are taken from the front."""

    def __init__(self, data: bytes) -> None:
        self._data, self._position = data, 4
        self._range = _WHOLE
        self._code = int.from_bytes(data[:2], "little") << _WORD | int.from_bytes(data[2:4], "little")

    def decide(self, chance: Chance) -> int:
        """Return the next decision, and have its chance remember it. Raises PackingError behind the end."""
        if self._range <= 0xFFFF:
            if self._position + 2 > len(self._data):
                raise PackingError("it ends early")
            self._range <<= _WORD
            self._code = self._code << _WORD | int.from_bytes(self._data[self._position : self._position + 2], "little")
            self._position += 2
        bound = (self._range >> 6) * min(max(chance.zeros, 1), _HISTORY - 1)
        if self._code < bound:
            self._range = bound
            bit = 0
        else:
            self._range -= bound
            self._code -= bound
            bit = 1
        chance.remember(bit)
        return bit


class Chance:
    """The last outcomes of one decision."""

    __slots__ = ("_history", "zeros")

    def __init__(self) -> None:
        self.zeros, self._history = _FIRST_ZEROS, _FIRST_HISTORY

    def remember(self, bit: int) -> None:
        self.zeros += (self._history >> (_HISTORY - 1)) - bit
        self._history = (self._history << 1 | bit) & ((1 << _HISTORY) - 1)


class Context:
    """A decision whose chance depends on how the last ones of its kind were decided."""

    def __init__(self, bits: int) -> None:
        self._mask = (1 << bits) - 1
        self._state = 0
        self._chances = [Chance() for _ in range(1 << bits)]

    def decide(self, decisions: Decisions) -> int:
        bit = decisions.decide(self._chances[self._state])
        self._state = (self._state << 1 | bit) & self._mask
        return bit


class BackBits:
    """Bits of 16-bit words, the last word first, each taken from its top bit."""

    def __init__(self, data: bytes) -> None:
        self._data, self._position = data, len(data)
        self._value = self._count = 0

    def peek(self, count: int) -> int:
        """Return the next bits without taking them; zeros before the first word."""
        while self._count < count:
            word = 0
            if self._position >= 2:
                word = int.from_bytes(self._data[self._position - 2 : self._position], "little")
            self._position -= 2
            self._value = self._value << _WORD | word
            self._count += _WORD
        return self._value >> (self._count - count)

    def take(self, count: int) -> int:
        """Take the next bits. Raises PackingError where they lie before the first word."""
        value = self.peek(count)
        self._count -= count
        self._value &= (1 << self._count) - 1
        if 8 * self._position + self._count < 0:
            raise PackingError("it ends early")
        return value
