"""Where a manifest is kept that has no room on its drive: a shelf beside it, one per drive."""

from __future__ import annotations

from typing import Protocol


class Shelf(Protocol):
    """What this computer keeps for one drive."""

    def get(self) -> bytes | None:
        """Return what was put there last, None when there is nothing."""

    def put(self, data: bytes) -> None:
        """Keep `data`, instead of what was there. Raises DriveError when it cannot be kept."""

    def clear(self) -> None:
        """Keep nothing any more."""


class NoShelf:
    """Keeps nothing."""

    def get(self) -> bytes | None:
        return None

    def put(self, data: bytes) -> None:
        return None

    def clear(self) -> None:
        return None
