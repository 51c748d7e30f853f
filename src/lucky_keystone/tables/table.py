"""A drive's partition table, whichever kind it is, as checking and updating look at it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Protocol

from .gpt import BASIC_DATA, SYSTEM, TYPE_PROTECTIVE, GptTable, read_gpt
from .mbr import TYPE_FAT32_LBA, TYPE_NTFS, TYPE_SYSTEM, MbrTable, read_mbr

_VOLUME_TYPES = (TYPE_NTFS, 0x0B, TYPE_FAT32_LBA, TYPE_SYSTEM)
_VOLUME_KINDS = (BASIC_DATA, SYSTEM)


class _Readable(Protocol):
    size: int

    def read_at(self, offset: int, size: int) -> bytes: ...


@dataclass(frozen=True)
class Partition:
    """A partition of either kind of table."""

    number: int
    first_lba: int
    sector_count: int
    active: bool
    may_hold_volume: bool
    """True when its type stands for FAT32 or NTFS."""


@dataclass(frozen=True)
class Table:
    """What a drive's table says."""

    style: Literal["mbr", "gpt", ""]
    """'' when there is none."""
    mbr: MbrTable
    """Sector 0; of a GPT drive the protective record."""
    gpt: GptTable | None
    partitions: tuple[Partition, ...]
    faults: tuple[str, ...]


def read_table(drive: _Readable, sector_size: int) -> Table | None:
    """Read the table of `drive`; None when sector 0 carries none.

    A GPT counts only behind its protective record (5.2.3).
    """
    if drive.size < sector_size:
        return None
    mbr = read_mbr(drive.read_at(0, 512), drive.size // sector_size)
    if mbr is None:
        return None
    if any(partition.type == TYPE_PROTECTIVE for partition in mbr.partitions):
        gpt = read_gpt(drive, sector_size)
        if gpt is not None:
            found = tuple(
                Partition(p.number, p.first_lba, p.sector_count, False, p.kind in _VOLUME_KINDS) for p in gpt.partitions
            )
            return Table("gpt", mbr, gpt, found, (*mbr.faults, *gpt.faults))
    found = tuple(
        Partition(p.number, p.first_lba, p.sector_count, p.active, p.type in _VOLUME_TYPES) for p in mbr.partitions
    )
    return Table("mbr", mbr, None, found, mbr.faults)
