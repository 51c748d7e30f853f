"""A deflated member of an archive, read at any offset.

Deflated bytes have no blocks to begin at. While they are decoded, a copy of the decoder's state is kept every 16 MiB; a
later reading resumes from the nearest one. Nothing is unpacked to disk.
"""

from __future__ import annotations

import threading
import zlib
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..common.errors import SourceError
from ..content.contents import IMAGE_ORDER, Seekable
from .summed import Running, Sum

_STEP = 16 << 20  # bytes that come out between two resumption points; a point takes about 40 KiB
_PIECE = 1 << 20  # bytes decoded and kept together
_STORED = 256 << 10  # bytes read at once
_PIECES_KEPT = 24
_ADVICE = "It is damaged or incomplete: download or copy it again."


class _Point(Struct, frozen=True):
    """A place where decoding can resume. Bytes."""

    out: int
    """What has come out before."""
    stored: int
    """What has been read before."""
    waiting: bytes
    """What has been read and not been decoded."""
    decoder: Any
    sum: Running | None
    """Of what has come out, where there is one to compare it with."""


class DeflatedFile:
    """Has what a file of a source has: see `content.RangedFile`."""

    def __init__(
        self, stored: Seekable, size: int, name: str, *, wbits: int = -15, expected: Sum | None = None
    ) -> None:
        """`size` in bytes, decoded; `expected` of all that comes out, where the archive has it. `wbits` as zlib's."""
        self.path, self.size, self.underlying, self.order = Path(name), size, stored, IMAGE_ORDER
        self._stored, self.sum = stored, expected
        begun = expected.begin() if expected is not None else None
        self._points = [_Point(0, 0, b"", zlib.decompressobj(wbits), begun)]
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._lock = threading.RLock()
        self._cursor = self._resumed(self._points[0])

    def _resumed(self, point: _Point) -> _Cursor:
        return _Cursor(self._stored, point, self._fault)

    def _fault(self, why: str) -> SourceError:
        return SourceError(f"{self.path}: its deflated bytes are damaged: {why}.", advice=_ADVICE)

    def acquire(self) -> int:
        """Return a descriptor for one more user: what is below opens by itself."""
        return 0

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`. Raises SourceError for bytes that are damaged or cut."""
        if offset + len(view) > self.size:
            raise self._fault(f"{len(view):,} bytes at {offset:,} were requested, out of {self.size:,}")
        done = 0
        with self._lock:
            while done < len(view):
                number, inside = divmod(offset + done, _PIECE)
                piece = self._piece(number)[inside : inside + len(view) - done]
                view[done : done + len(piece)] = piece
                done += len(piece)

    def _piece(self, number: int) -> bytes:
        kept = self._kept.get(number)
        if kept is not None:
            self._kept.move_to_end(number)
            return kept
        start = number * _PIECE
        if not self._cursor.out <= start < self._cursor.out + 2 * _STEP:
            nearest = self._points[bisect_right(self._points, start, key=lambda point: point.out) - 1]
            self._cursor = self._resumed(nearest)
        while True:
            made = self._cursor.out // _PIECE
            try:
                piece = self._next_piece()
            except SourceError:
                self._cursor = self._resumed(self._points[0])
                raise
            self._kept[made] = piece
            if len(self._kept) > _PIECES_KEPT:
                self._kept.popitem(last=False)
            if made == number:
                return piece

    def _next_piece(self) -> bytes:
        """Decode on for one piece; keep a point where one is due, and compare size and sum at the end."""
        cursor = self._cursor
        piece = cursor.decode(min(_PIECE, self.size - cursor.out))
        if cursor.out - self._points[-1].out >= _STEP and cursor.out < self.size:
            self._points.append(cursor.point())
        if cursor.out == self.size:
            cursor.refuse_more()
            if self.sum is not None and cursor.sum is not None:
                self.sum.compare(cursor.sum, str(self.path))
        return piece


class _Cursor:
    """A place in the decoded bytes."""

    def __init__(self, stored: Seekable, point: _Point, fault: Callable[[str], SourceError]) -> None:
        self._content, self._fault = stored, fault
        self.out, self._read, self._waiting = point.out, point.stored, point.waiting
        self.sum = point.sum.copy() if point.sum is not None else None
        self._decoder = point.decoder.copy()

    def point(self) -> _Point:
        running = self.sum.copy() if self.sum is not None else None
        return _Point(self.out, self._read, self._waiting, self._decoder.copy(), running)

    def decode(self, size: int) -> bytes:
        """Return the next `size` bytes."""
        found: list[bytes] = []
        left = size
        while left:
            if not self._waiting and not self._decoder.eof:
                self._waiting = self._more()
            try:
                data = self._decoder.decompress(self._waiting, left)
            except zlib.error as error:
                raise self._fault(str(error)) from error
            if not data and (self._decoder.eof or (not self._waiting and self._read >= self._content.size)):
                raise self._fault(f"they end at byte {self.out + size - left:,}")
            self._waiting = self._decoder.unconsumed_tail
            found.append(data)
            left -= len(data)
        self.out += size
        piece = b"".join(found)
        if self.sum is not None:
            self.sum.update(piece)
        return piece

    def _more(self) -> bytes:
        data = self._content.read_at(self._read, min(_STORED, self._content.size - self._read))
        self._read += len(data)
        return data

    def refuse_more(self) -> None:
        """Refuse a stream that continues after its size, or has no end mark."""
        while not self._decoder.eof:
            if not self._waiting:
                self._waiting = self._more()
                if not self._waiting:
                    raise self._fault("they have no end mark")
            try:
                more = self._decoder.decompress(self._waiting, 1)
            except zlib.error as error:
                raise self._fault(str(error)) from error
            self._waiting = self._decoder.unconsumed_tail
            if more:
                raise self._fault("they decode to more than the archive says")
