"""The essence of a catalog record: what a healthy host leaves alone, summed to four bytes.

Hosts rewrite the catalog whenever they use a volume: dates, counts, entries of their own. What was built is still there
as long as each number keeps its folder and name, and its forks keep their sizes and blocks.
"""

from __future__ import annotations

from collections.abc import Iterator

from blake3 import blake3

from ...common.collecting import without_collections
from .compose import records_of_catalog
from .layout import Layout
from .parse import CatalogItem, parse_catalog
from .read import HfsPlusVolume
from .records import FIRST_USER, ForkData

SIZE = 4
UNUSED = bytes(SIZE)


def _essence(item: CatalogItem) -> bytes:
    digest = blake3(f"{item.parent}/".encode() + item.name)
    if item.file is not None:
        digest.update(item.file.finderInfo[:8])
        for fork in (ForkData.unpack(item.file.dataFork), ForkData.unpack(item.file.resourceFork)):
            digest.update(fork.logicalSize.to_bytes(8, "big") + fork.extents)
    return digest.digest(SIZE)


@without_collections()
def essences_of(layout: Layout) -> bytes:
    """Return the essences of everything in a layout's catalog, in the order of their numbers from FIRST_USER on."""
    made = [UNUSED] * (layout.catalogue.next_number - FIRST_USER)
    for record in records_of_catalog(layout):
        item = parse_catalog(record)
        number = number_of(item)
        if number >= FIRST_USER:
            made[number - FIRST_USER] = _essence(item)
    return b"".join(made)


def number_of(item: CatalogItem) -> int:
    """Return the catalog ID that a record gives to something; 0 of a thread."""
    return item.folder.folderID if item.folder else item.file.fileID if item.file else 0


def _items(volume: HfsPlusVolume) -> Iterator[CatalogItem]:
    for leaf in volume.catalog.leaves():
        for record in leaf.records:
            item = parse_catalog(record)
            if item.thread is None:
                yield item


def changed_numbers(volume: HfsPlusVolume, essences: bytes) -> tuple[list[int], list[int]]:
    """Return the numbers of what is no longer as built, and of what a host has added. Raises VolumeError."""
    found = {number_of(item): _essence(item) for item in _items(volume) if number_of(item) >= FIRST_USER}
    built = {
        FIRST_USER + at // SIZE: essences[at : at + SIZE]
        for at in range(0, len(essences), SIZE)
        if essences[at : at + SIZE] != UNUSED
    }
    changed = [number for number, essence in built.items() if found.get(number) != essence]
    return changed, sorted(set(found) - set(built))
