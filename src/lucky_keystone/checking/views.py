"""A drive seen through a frame: a part of it, or with some bytes replaced."""

from __future__ import annotations

from msgspec import Struct

from ..content.contents import SizedReadable


class Front(Struct, frozen=True):
    """The first `size` bytes of a drive."""

    drive: SizedReadable
    size: int

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive."""
        return self.drive.read_at(offset, size)


class Patched(Struct, frozen=True):
    """A drive as if `data` stood at byte `offset`."""

    drive: SizedReadable
    offset: int
    data: bytes

    @property
    def size(self) -> int:
        return self.drive.size

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive, with those that stand in for it."""
        found = bytearray(self.drive.read_at(offset, size))
        start, end = max(self.offset, offset), min(self.offset + len(self.data), offset + size)
        if start < end:
            found[start - offset : end - offset] = self.data[start - self.offset : end - self.offset]
        return bytes(found)
