"""Which clusters of a volume are in use: a bit each, so that a volume of 2 TiB needs 8 MiB of memory."""

from __future__ import annotations

from typing import Any

import numpy as np


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
