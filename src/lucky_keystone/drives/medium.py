"""What a drive is to everything that reads or writes it: bytes at offsets, a flush, and their errors."""

from __future__ import annotations

from typing import Protocol


class Medium(Protocol):
    """An opened drive: an image file, a device, or a simulated drive. Offsets and sizes in bytes.

    All of these raise DriveError when the drive does not do it, DriveGone when it is no longer there.
    """

    size: int

    def write_at(self, offset: int, data: memoryview) -> None:
        """Write all of `data`."""

    def write_zeros(self, offset: int, size: int) -> None:
        """Make these bytes zero, without using room where the medium can leave it out."""

    def readinto_at(self, offset: int, view: memoryview) -> None:
        """Fill all of `view`."""

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes."""

    def flush(self) -> None:
        """Return when everything written is on the medium."""

    def forget_cache(self) -> None:
        """Let following reads come from the medium rather than from a cache, where the system can do so."""


class OpenMedium(Medium, Protocol):
    """A medium that whoever opened it has to close."""

    def close(self) -> None:
        """Give up the handle and every lock."""
