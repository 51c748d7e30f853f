"""Regions of a drive: runs of neighbouring extents that mean one thing, and all that is said of each kind of them."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from itertools import pairwise

from msgspec import Struct

from .extents import Extent


class RegionKind(StrEnum):
    """What a region is; the value is in manifests."""

    TABLE = "table"
    GPT = "gpt"
    RESERVED = "reserved"
    FAT1 = "fat1"
    FAT2 = "fat2"
    BOOT = "boot"
    MFT = "mft"
    LOG = "log"
    BITMAP = "bitmap"
    FOLDERS = "folders"
    FILES = "files"
    OWN_FILES = "own files"
    BOOTCOPY = "bootcopy"
    HEADER = "header"
    EXTENTS = "extents"
    ATTRIBUTES = "attributes"
    CATALOG = "catalog"
    ALTERNATE = "alternate"
    IMAGE = "image"


class RegionTraits(Struct, frozen=True):
    """What is said of a kind of region."""

    area: str
    """The area of a drive that findings name."""
    subject: str
    """Begins a sentence: 'the first FAT is'."""
    shared: bool = False
    """True when it is the same on all drives that are laid out alike: one reading of the source serves several."""


TRAITS = {
    RegionKind.TABLE: RegionTraits("table", "sector 0 has"),
    RegionKind.GPT: RegionTraits("table", "the GPT has"),
    RegionKind.RESERVED: RegionTraits("boot sectors", "the boot sectors have"),
    RegionKind.FAT1: RegionTraits("FAT", "the first FAT has"),
    RegionKind.FAT2: RegionTraits("FAT", "the second FAT has"),
    RegionKind.BOOT: RegionTraits("boot sectors", "the boot sectors have"),
    RegionKind.MFT: RegionTraits("MFT", "the MFT has"),
    RegionKind.LOG: RegionTraits("log", "the log file has"),
    RegionKind.BITMAP: RegionTraits("allocation bitmap", "the allocation bitmap has"),
    RegionKind.FOLDERS: RegionTraits("folders", "the folders have"),
    RegionKind.FILES: RegionTraits("files", "the files have", shared=True),
    # What names the drive itself, as a boot store does: no two drives have the same.
    RegionKind.OWN_FILES: RegionTraits("files", "the boot stores have"),
    RegionKind.BOOTCOPY: RegionTraits("boot sectors", "the copy of the boot sector has"),
    RegionKind.HEADER: RegionTraits("volume header", "the volume header has"),
    RegionKind.EXTENTS: RegionTraits("catalog", "the extents overflow file has"),
    RegionKind.ATTRIBUTES: RegionTraits("catalog", "the attributes file has"),
    RegionKind.CATALOG: RegionTraits("catalog", "the catalog has"),
    RegionKind.ALTERNATE: RegionTraits("volume header", "the alternate volume header has"),
    RegionKind.IMAGE: RegionTraits("image", "the image has", shared=True),
}


class Region(Struct, frozen=True):
    """A run of neighbouring extents that mean one thing (a table, one FAT, all files)."""

    kind: RegionKind
    extents: tuple[Extent, ...]

    @property
    def offset(self) -> int:
        """First byte on the drive."""
        return self.extents[0].offset

    @property
    def size(self) -> int:
        """Length in bytes."""
        return self.extents[-1].end - self.offset


def region(kind: RegionKind, extents: Iterable[Extent]) -> Region:
    """Make a region, proving that its extents follow each other without gap or overlap."""
    ordered = tuple(extent for extent in extents if extent.content.size)
    for before, after in pairwise(ordered):
        if before.end != after.offset:
            raise AssertionError(f"{kind}: extent ends at {before.end}, the next starts at {after.offset}")
    return Region(kind, ordered)
