"""LZMS, as solid resources of install images have it; one chunk at a time.

There is no published description; what is here was found to agree with an independent unpacker.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import accumulate

from .adaptive import AdaptiveCode
from .huffman import PackingError
from .matches import copy_match
from .ranges import BackBits, Context, Decisions
from .x86 import undo_x86

_LITERALS, _POWERS = 256, 8
_SLOW, _FAST = 1024, 512
"""Symbols after which codes are rebuilt."""
_KEPT = 3
"""Offsets, and distances of sums, that can be repeated."""
_OFFSET_RUNS = (9, 0, 9, 7, 10, 15, 15, 20, 20, 30, 33, 40, 42, 45, 60, 73, 80, 85, 95, 105, 6)
_LENGTH_RUNS = (27, 4, 6, 4, 5, 2, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 1)
"""How many slots lie 1, 2, 4 ... values apart."""
_OFFSET_END, _LENGTH_END = 0x7FFF_FFFF, 0x4001_08AB


def _bases(runs: Sequence[int], end: int) -> list[int]:
    """Return the first value of each slot, and the end of the last."""
    steps = [1 << power for power, count in enumerate(runs) for _ in range(count)]
    return [*accumulate(steps), end]


OFFSETS, LENGTHS = _bases(_OFFSET_RUNS, _OFFSET_END), _bases(_LENGTH_RUNS, _LENGTH_END)


def offset_slots(size: int) -> int:
    """Return how many slots of offsets a chunk of `size` bytes uses."""
    return sum(1 for base in OFFSETS[:-1] if base <= size - 1) if size > 1 else 0


def unpack(data: bytes, size: int, _window: int = 0) -> bytes:
    """Return the `size` bytes that a chunk holds. Raises PackingError."""
    if len(data) < 4 or len(data) % 2:
        raise PackingError("it is not a whole number of words, or too short")
    return _Chunk(data, size).unpacked()


class _Repeats:
    """What can be repeated; what was used by the item just before waits until the next one is done."""

    def __init__(self) -> None:
        self._queue: list[int] = list(range(1, _KEPT + 2))
        self._waiting: int | None = None
        self._used: int | None = None

    def again(self, number: int) -> int:
        """Take out the entry that is repeated."""
        return self._queue.pop(number)

    def used(self, value: int) -> None:
        """Note what the present item uses."""
        self._used = value

    def item_done(self) -> None:
        """Let in what waited; what the item itself used waits from now on."""
        if self._waiting is not None:
            self._queue.insert(0, self._waiting)
            del self._queue[_KEPT + 1 :]
        self._waiting, self._used = self._used, None


class _Chunk:
    def __init__(self, data: bytes, size: int) -> None:
        self._size, self._out = size, bytearray()
        self._decisions, self._bits = Decisions(data), BackBits(data)
        slots = offset_slots(size)
        self._literals = AdaptiveCode(_LITERALS, _SLOW)
        self._offsets, self._sums = AdaptiveCode(slots, _SLOW), AdaptiveCode(slots, _SLOW)
        self._lengths, self._powers = AdaptiveCode(len(LENGTHS) - 1, _FAST), AdaptiveCode(_POWERS, _FAST)
        self._is_copy, self._is_sum = Context(4), Context(5)
        self._repeats_offset, self._repeats_sum = Context(6), Context(6)
        self._which_offset, self._which_sum = (tuple(Context(6) for _ in range(_KEPT - 1)) for _ in range(2))
        self._recent, self._recent_sums = _Repeats(), _Repeats()

    def unpacked(self) -> bytes:
        while len(self._out) < self._size:
            if not self._is_copy.decide(self._decisions):
                self._out.append(self._literals.read(self._bits))
            elif not self._is_sum.decide(self._decisions):
                self._copy()
            else:
                self._add()
            self._recent.item_done()
            self._recent_sums.item_done()
        undo_x86(self._out)
        return bytes(self._out)

    def _copy(self) -> None:
        if self._repeats_offset.decide(self._decisions):
            offset = self._recent.again(self._chosen(self._which_offset))
        else:
            offset = self._number(self._offsets, OFFSETS)
        self._recent.used(offset)
        copy_match(self._out, offset, self._number(self._lengths, LENGTHS), self._size)

    def _add(self) -> None:
        """Each byte is the sum of two before it, less a third: tables of numbers that rise look alike so."""
        if self._repeats_sum.decide(self._decisions):
            both = self._recent_sums.again(self._chosen(self._which_sum))
        else:
            both = self._powers.read(self._bits) << 32
            both |= self._number(self._sums, OFFSETS)
        self._recent_sums.used(both)
        power, distance = both >> 32, both & 0xFFFF_FFFF
        span, offset = 1 << power, distance << power
        length, out = self._number(self._lengths, LENGTHS), self._out
        if span + offset > len(out):
            raise PackingError("a sum reaches before its first byte")
        if len(out) + length > self._size:
            raise PackingError("a sum reaches beyond its end")
        for at in range(len(out), len(out) + length):
            out.append(out[at - span] + out[at - offset] - out[at - span - offset] & 0xFF)

    def _chosen(self, contexts: Sequence[Context]) -> int:
        """Return which of the repeated ones it is."""
        for number, context in enumerate(contexts):
            if not context.decide(self._decisions):
                return number
        return len(contexts)

    def _number(self, code: AdaptiveCode, bases: Sequence[int]) -> int:
        slot = code.read(self._bits)
        count = (bases[slot + 1] - bases[slot]).bit_length() - 1
        if count <= 16:
            return bases[slot] + self._bits.take(count)
        high = self._bits.take(count - 16)
        return bases[slot] + (high << 16 | self._bits.take(16))
