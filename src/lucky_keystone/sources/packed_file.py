"""The bytes of a file that a volume keeps compressed, as a content."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from ..common.errors import SourceError
from ..content.contents import Reader, Whence

_PIECE = 4 << 20


class PackedFile(Struct, frozen=True):
    """Decoded where it is read."""

    path: str
    size: int
    """Bytes as programs read them."""
    place: Whence
    """Of what is stored."""
    read: Callable[[int, int], bytes]
    """(offset, size) to bytes."""

    def where(self) -> Whence:
        return self.place

    def open(self) -> Reader:
        return _PackedReader(self)

    def read_at(self, offset: int, size: int) -> bytes:
        if offset < 0 or size < 0 or offset + size > self.size:
            raise SourceError(f"{self.path}: {size} bytes at {offset} were requested, out of {self.size}.")
        return self.read(offset, size)


class _PackedReader:
    def __init__(self, content: PackedFile) -> None:
        self._content, self._done = content, 0

    def readinto(self, view: memoryview) -> int:
        size = min(len(view), self._content.size - self._done)
        for at in range(0, size, _PIECE):
            data = self._content.read_at(self._done + at, min(_PIECE, size - at))
            view[at : at + len(data)] = data
        self._done += size
        return size

    def close(self) -> None:
        """Nothing is held."""
