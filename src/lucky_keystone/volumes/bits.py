"""Bitmaps of volumes, made piece by piece."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

from ..common.later import np

_PIECE = 1 << 16
"""Bytes made at once."""


def bits(size: int, used: Sequence[tuple[int, int]], order: Literal["little", "big"]) -> Iterator[bytes]:
    """Yield `size` bytes of a bitmap in which the bits in `used` (first, end; rising) are set.

    `order` says which bit of a byte is its first one: 'little' the lowest.
    """
    for start in range(0, size, _PIECE):
        length = min(_PIECE, size - start)
        first, end = 8 * start, 8 * (start + length)
        mine = [(low, high) for low, high in used if low < end and high > first]
        if not mine:
            yield bytes(length)
            continue
        made = np.zeros(8 * length, np.uint8)
        for low, high in mine:
            made[max(low - first, 0) : high - first] = 1
        yield np.packbits(made, bitorder=order).tobytes()
