"""Where the manifest lies on a drive, and how much room it needs, found before anything is composed."""

from __future__ import annotations

from collections.abc import Iterable

from ..content.contents import BLOCK
from ..content.extents import MIB, align_up
from ..tables.styles import STYLES
from ..volumes.kind import Budget

HASH_SIZE = 32
"""Bytes of a hash (BLAKE3)."""
END_ROOM = MIB
"""Bytes at the end of a drive that hold the manifest where the beginning belongs to a raw image."""
_HEAD = 512
_ABOUT = 8 << 10  # names and dimensions
_REGIONS = 16  # of a volume: each may end in a block that is not full


def front_places(sector_size: int) -> list[int]:
    """Return the bytes where a manifest may begin behind a table."""
    return [style.front(sector_size) for style in STYLES.values()]


def end_place(drive_size: int, sector_size: int) -> int:
    """Return the byte where a manifest begins at a drive's end."""
    return drive_size // sector_size * sector_size - END_ROOM


def manifest_room(budgets: Iterable[Budget], sector_size: int) -> int:
    """Return bytes that surely hold a manifest of volumes that ask for `budgets`."""
    hashes = text = 0
    for budget in budgets:
        hashes += HASH_SIZE * (budget.hashed // BLOCK + _REGIONS + 2)
        text += budget.text
    return align_up(_HEAD + _ABOUT + text + hashes, max(sector_size, 4096))
