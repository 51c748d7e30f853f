"""How much room the manifest needs, told before anything is composed."""

from __future__ import annotations

from collections.abc import Iterable

from ..content import BLOCK
from ..extents import align_up
from ..tables.gpt import entry_sectors

HASH_SIZE = 32
_HEAD = 512
_ABOUT = 8 << 10  # names and measures
_REGIONS = 16  # of a volume: each may end in a block that is not full


def manifest_offset(table: str, sector_size: int) -> int:
    """Return the byte where the manifest starts: behind sector 0, or behind the entries of a GPT."""
    return sector_size if table == "mbr" else (2 + entry_sectors(sector_size)) * sector_size


def manifest_room(hashed: Iterable[int], told: int, sector_size: int) -> int:
    """Return bytes that surely hold a manifest.

    `hashed` are the bytes of each volume that have hashes, `told` those of its text that tell of single folders or
    files.
    """
    hashes = sum(HASH_SIZE * (size // BLOCK + _REGIONS + 2) for size in hashed)
    return align_up(_HEAD + _ABOUT + told + hashes, max(sector_size, 4096))
