"""Which clusters of a volume are in use: a bit each, so that a volume of 2 TiB needs 8 MiB of memory."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

from msgspec import Struct

from ...common.later import np

_PIECE = 1 << 16
"""Bytes of a bitmap looked at together."""


class ClusterMap:
    """One bit for each cluster, all clear at first."""

    def __init__(self, count: int) -> None:
        self._bits = np.zeros(-(-count // 8), np.uint8)

    def mark(self, first: int, count: int) -> bool:
        """Mark clusters `first` to `first + count - 1`; return True when one of them was marked already."""
        start, end = first // 8, -(-(first + count) // 8)
        bits = np.unpackbits(self._bits[start:end], bitorder="little")
        mine = bits[first - 8 * start : first - 8 * start + count]
        crossed = bool(mine.any())
        mine[:] = 1
        self._bits[start:end] = np.packbits(bits, bitorder="little")
        return crossed

    def marked(self, first: int, count: int) -> np.ndarray[Any, Any]:
        """Return a boolean array for clusters `first` and on."""
        start, end = first // 8, -(-(first + count) // 8)
        bits = np.unpackbits(self._bits[start:end], bitorder="little")
        return bits[first - 8 * start : first - 8 * start + count].astype(bool)


class Compared(Struct, frozen=True):
    """What a volume's own bitmap says beside the clusters that its files have. Clusters."""

    free: int
    lost: int
    """Marked, but no file's."""
    unmarked: int
    """A file's, but marked as free."""


def compare_bitmap(
    read: Callable[[int, int], bytes], count: int, used: ClusterMap, order: Literal["little", "big"]
) -> Compared:
    """Compare the bitmap of `count` clusters with those in `used`. `read` gives its bytes at an offset.

    `order` says which bit of a byte is its first one: 'little' the lowest.
    """
    free = lost = unmarked = 0
    for start in range(0, count, 8 * _PIECE):
        size = min(8 * _PIECE, count - start)
        data = read(start // 8, -(-size // 8))
        bits = np.unpackbits(np.frombuffer(data, np.uint8), bitorder=order)[:size].astype(bool)
        taken = used.marked(start, size)[: len(bits)]
        free += int(np.count_nonzero(~bits))
        lost += int(np.count_nonzero(bits & ~taken))
        unmarked += int(np.count_nonzero(~bits & taken))
    return Compared(free, lost, unmarked)
