"""Regions of a drive: runs of neighbouring extents that mean one thing, and all that is said of each kind of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise

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
    BOOTCOPY = "bootcopy"
    HEADER = "header"
    EXTENTS = "extents"
    ATTRIBUTES = "attributes"
    CATALOG = "catalog"
    ALTERNATE = "alternate"
    IMAGE = "image"


@dataclass(frozen=True)
class RegionTraits:
    """What is said of a kind of region."""

    area: str
    """The area of a drive that findings name."""
    subject: str
    """Begins a sentence: 'the first FAT is'."""
    shared: bool = False
    """True when it is the same on all drives that are laid out alike: one reading of the source serves several."""


TRAITS = {
    RegionKind.TABLE: RegionTraits("table", "sector 0 is"),
    RegionKind.GPT: RegionTraits("table", "the GPT is"),
    RegionKind.RESERVED: RegionTraits("boot sectors", "the boot sectors are"),
    RegionKind.FAT1: RegionTraits("FAT", "the first FAT is"),
    RegionKind.FAT2: RegionTraits("FAT", "the second FAT is"),
    RegionKind.BOOT: RegionTraits("boot sectors", "the boot sectors are"),
    RegionKind.MFT: RegionTraits("file table", "the file table is"),
    RegionKind.LOG: RegionTraits("log", "the log is"),
    RegionKind.BITMAP: RegionTraits("cluster map", "the cluster map is"),
    RegionKind.FOLDERS: RegionTraits("folders", "the folders are"),
    RegionKind.FILES: RegionTraits("files", "the files are", shared=True),
    RegionKind.BOOTCOPY: RegionTraits("boot sectors", "the copy of the boot sector is"),
    RegionKind.HEADER: RegionTraits("volume header", "the volume header is"),
    RegionKind.EXTENTS: RegionTraits("catalog", "the extents overflow file is"),
    RegionKind.ATTRIBUTES: RegionTraits("catalog", "the attributes file is"),
    RegionKind.CATALOG: RegionTraits("catalog", "the catalog is"),
    RegionKind.ALTERNATE: RegionTraits("volume header", "the alternate volume header is"),
    RegionKind.IMAGE: RegionTraits("image", "the image is", shared=True),
}


@dataclass(frozen=True)
class Region:
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
