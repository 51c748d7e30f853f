"""What came of an image on a server: kept for a while, remembered by a hash for good, and counted in its sum.

What comes again must be the same bytes.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable

from blake3 import blake3

from ..common.errors import SourceError
from .ranges import GRANULE
from .summing import Summing

_KEPT = 512  # granules: 32 MiB
_KEPT_FOR_SEVERAL = 768
_DIGEST = 16


class Granules:
    """Pieces of GRANULE bytes each; the last one may be shorter. `lock` is that of the file they are of."""

    def __init__(self, size: int, lock: threading.Lock, total: Summing, changed: Callable[[str], SourceError]) -> None:
        """`size`: bytes of the image. `changed` makes the error of a file that is another one now."""
        self._lock, self._sum, self._changed = lock, total, changed
        count = -(-size // GRANULE)
        self._digests, self._known = bytearray(_DIGEST * count), bytearray(count)
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._most = _KEPT
        self.frontier = 0
        """Bytes from the beginning on that the sum covers."""

    def serve_several(self) -> None:
        """Keep more: drives that are laid out differently read the same places, one a little after the other."""
        self._most = _KEPT_FOR_SEVERAL

    def holds(self, number: int) -> bool:
        """Tell whether a granule is kept. The lock is the caller's."""
        return number in self._kept

    def admit(self, at: int, data: bytes) -> None:
        """Compare what came with what came before, and count it in the sum where it continues that.

        `at` is the first byte of a granule. Raises SourceError.
        """
        with self._lock:
            for inside in range(0, len(data), GRANULE):
                number = (at + inside) // GRANULE
                digest = blake3(data[inside : inside + GRANULE]).digest(_DIGEST)
                place = slice(_DIGEST * number, _DIGEST * (number + 1))
                if self._known[number] and self._digests[place] != digest:
                    raise self._changed(f"other bytes come now near byte {at + inside:,}")
                self._known[number], self._digests[place] = 1, digest
            if self._most > _KEPT:
                self._remember(at // GRANULE, data)
            behind = self.frontier - at
            if 0 <= behind < len(data):
                self._sum.update(data[behind:])
                self.frontier = at + len(data)

    def keep(self, number: int, data: bytes) -> None:
        """Admit granules from `number` on, and keep them."""
        self.admit(number * GRANULE, data)
        with self._lock:
            self._remember(number, data)

    def fill(self, offset: int, view: memoryview) -> int:
        """Fill the front of `view`, from byte `offset` of the image, with what is kept; return how many bytes came."""
        done = 0
        with self._lock:
            while done < len(view):
                number = (offset + done) // GRANULE
                if number not in self._kept:
                    break
                if self._most == _KEPT:  # else what came first goes first: the others have read it
                    self._kept.move_to_end(number)
                inside = offset + done - number * GRANULE
                piece = self._kept[number][inside : inside + len(view) - done]
                view[done : done + len(piece)] = piece
                done += len(piece)
        return done

    def _remember(self, number: int, data: bytes) -> None:
        for inside in range(0, len(data), GRANULE):
            self._kept[number + inside // GRANULE] = data[inside : inside + GRANULE]
        while len(self._kept) > self._most:
            self._kept.popitem(last=False)
