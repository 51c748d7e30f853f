"""What adds files to a volume, by the kinds of volume that take any."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from ...checking.found import FoundVolume
from ...common.errors import SourceError
from ...content.tree import File
from ...volumes.fat32.adding import add_files
from ...volumes.fat32.kind import LARGEST_FILE
from ...volumes.fat32.read import Fat32Volume
from ..remedy import Case, Change, Order

Writer = Callable[[Case, FoundVolume, Mapping[str, File], Sequence[str]], list[Change]]
"""Returns what puts files onto a volume and takes others off it. Raises SourceError where they do not fit."""


def _fat32(_case: Case, found: FoundVolume, files: Mapping[str, File], removed: Sequence[str]) -> list[Change]:
    volume = found.volume
    assert isinstance(volume, Fat32Volume)
    for path, file in files.items():
        if file.size > LARGEST_FILE:
            raise SourceError(f"{path} has {file.size:,} bytes, too many for FAT32.", advice="Use a drive with NTFS.")
    made = add_files(volume, _spelled(files), removed)
    names = ", ".join(files)
    return [
        *(Change(at, content, Order.CONTENTS, f"bytes of {names}") for at, content in made.contents),
        *_changes(made.taken, (Order.COPIES, Order.FIRSTS), "FAT entries of the clusters it takes"),
        *(Change(at, data, Order.NAMES, f"folder entry of {names}") for at, data in made.names),
        *_changes(made.freed, (Order.FREED_COPIES, Order.FREED), "FAT entries of clusters that become free"),
        *(Change(at, data, Order.FREED, "count of free clusters in FSInfo") for at, data in made.counted),
    ]


def _changes(groups: tuple[list[tuple[int, bytes]], ...], orders: tuple[Order, ...], words: str) -> list[Change]:
    return [Change(at, data, order, words) for order, group in zip(orders, groups, strict=True) for at, data in group]


def _spelled(files: Mapping[str, File]) -> Mapping[str, File]:
    """Return new loaders under names in upper case: those need no long entry, and every firmware finds them."""
    return {
        path.upper() if path.lower().startswith("efi/") or path == "bootmgr" else path: file
        for path, file in files.items()
    }


WRITERS: Mapping[str, Writer] = {"fat32": _fat32}
