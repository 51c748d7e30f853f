"""How much room the manifest needs, told before anything is composed."""

from __future__ import annotations

from ..content import BLOCK
from ..extents import align_up
from ..tables.gpt import entry_sectors
from ..volumes.fat32.compose import Layout

HASH_SIZE = 32
_HEAD = 512
_ABOUT = 8 << 10  # names and measures
_PER_FOLDER = 40  # two numbers as text, with their punctuation


def manifest_offset(table: str, sector_size: int) -> int:
    """Return the byte where the manifest starts: behind sector 0, or behind the entries of a GPT."""
    return sector_size if table == "mbr" else (2 + entry_sectors(sector_size)) * sector_size


def manifest_room(layout: Layout, volume_size: int | None, sector_size: int) -> int:
    """Return bytes that surely hold the manifest of `layout` on a volume of up to `volume_size` bytes.

    Hashes cover the boot sectors, both FATs (4 bytes a cluster each), the folders and the files.
    """
    clusters = layout.clusters_used
    fats = 8 * max((volume_size or clusters * layout.cluster_size) // layout.cluster_size, clusters)
    hashed = clusters * layout.cluster_size + fats + (8 << 20)
    hashes = HASH_SIZE * (hashed // BLOCK + 16)
    return align_up(_HEAD + _ABOUT + _PER_FOLDER * len(layout.folders) + hashes, max(sector_size, 4096))
