"""A drive that remembers which of its bytes could not be read, so that what passed is told from what lasts."""

from __future__ import annotations

from contextlib import suppress

from ..common.errors import DriveError
from ..content.contents import SizedReadable

_MOST_PLACES = 64
"""Reads that are tried again: each may take a damaged drive many seconds."""


class Watched:
    """Reads like the drive below it."""

    def __init__(self, drive: SizedReadable) -> None:
        self._drive, self.size = drive, drive.size
        self._failed: dict[tuple[int, int], None] = {}

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive. Raises what it raises, and remembers where."""
        try:
            return self._drive.read_at(offset, size)
        except DriveError:
            self._failed[offset, size] = None
            raise

    def passed(self) -> int | None:
        """Try again what failed; return the first byte of what can be read now, None where nothing can."""
        for offset, size in list(self._failed)[:_MOST_PLACES]:
            with suppress(DriveError):
                self._drive.read_at(offset, size)
                return offset
        return None
