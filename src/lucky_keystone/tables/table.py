"""A drive's partition table, whichever kind it is, as checking and updating look at it."""

from __future__ import annotations

from typing import Literal
from uuid import UUID

from msgspec import Struct

from ..content.contents import SizedReadable
from .faults import TableFault
from .gpt import LEGACY_BOOT, SYSTEM, TYPE_PROTECTIVE, GptTable, read_gpt
from .mbr import TYPE_SYSTEM, MbrTable, read_mbr
from .partition import GPT_TYPES_OF_VOLUMES, MBR_TYPES_OF_VOLUMES


class Partition(Struct, frozen=True):
    """A partition of either kind of table."""

    number: int
    first_lba: int
    sector_count: int
    active: bool
    expects_volume: bool
    """True when its type stands for a file system that is read here."""
    type_shown: str
    """Its type, for people."""
    type: int | UUID | None = None
    """The type itself: a byte in an MBR, a GUID in a GPT; None where no table says one."""
    marked: bool = False
    """True where firmware looks that goes by marks: active in an MBR, legacy-boot attribute or system type in a GPT."""
    has_system_type: bool = False
    """True for the type of an MBR that stands for a UEFI system partition."""
    unique: UUID | None = None
    """Its own GUID, in a GPT."""
    protective: bool = False
    """True for the record that guards a GPT (UEFI 2.10, 5.2.3): no partition of its own."""


class Table(Struct, frozen=True):
    """What a drive's table says."""

    style: Literal["mbr", "gpt", ""]
    """'' when there is none."""
    mbr: MbrTable
    """Sector 0; of a GPT drive the protective record."""
    gpt: GptTable | None
    partitions: tuple[Partition, ...]
    faults: tuple[TableFault, ...]


def read_table(drive: SizedReadable, sector_size: int, *, primary_only: bool = False) -> Table | None:
    """Read the table of `drive`; None when sector 0 carries none.

    A GPT counts only behind its protective record (UEFI 2.10, 5.2.3); `primary_only` leaves its copy at the end alone.
    """
    if drive.size < sector_size:
        return None
    mbr = read_mbr(drive.read_at(0, 512), drive.size // sector_size)
    if mbr is None:
        return None
    if any(partition.type == TYPE_PROTECTIVE for partition in mbr.partitions):
        gpt = read_gpt(drive, sector_size, primary_only=primary_only)
        if gpt is not None:
            return _gpt_table(mbr, gpt)
    found = tuple(
        Partition(
            p.number,
            p.first_lba,
            p.sector_count,
            p.active,
            p.type in MBR_TYPES_OF_VOLUMES,
            f"type {p.type:02X}h",
            type=p.type,
            marked=p.active,
            has_system_type=p.type == TYPE_SYSTEM,
            protective=p.type == TYPE_PROTECTIVE,
        )
        for p in mbr.partitions
    )
    return Table("mbr", mbr, None, found, mbr.faults)


def read_unguarded_gpt(drive: SizedReadable, sector_size: int) -> Table | None:
    """Read a GPT that sector 0 does not guard, so that it does not count; None where no copy is sound."""
    gpt = read_gpt(drive, sector_size)
    if gpt is None or not gpt.sound_copies or not gpt.partitions:
        return None
    return _gpt_table(MbrTable(b"", 0, (), ()), gpt)


def _gpt_table(mbr: MbrTable, gpt: GptTable) -> Table:
    found = tuple(
        Partition(
            p.number,
            p.first_lba,
            p.sector_count,
            False,
            p.kind in GPT_TYPES_OF_VOLUMES,
            str(p.kind),
            type=p.kind,
            unique=p.unique,
            marked=p.kind == SYSTEM or bool(p.attributes & LEGACY_BOOT),
        )
        for p in gpt.partitions
    )
    return Table("gpt", mbr, gpt, found, (*mbr.faults, *gpt.faults))
