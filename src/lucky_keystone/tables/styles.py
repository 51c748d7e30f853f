"""The kinds of table a drive can be given: how much room each takes, how far it reaches, and its bytes.

A further kind is one more class here and a line in STYLES.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol
from uuid import UUID

from msgspec import Struct

from ..content.extents import MIB
from .gpt import ENTRY_COUNT, LEGACY_BOOT, GptPartition, compose_gpt, entry_sectors
from .mbr import MOST_SECTORS, MbrPartition, compose_mbr
from .partition import Use, WantedPartition


class ComposedTable(Struct, frozen=True):
    """A table's bytes."""

    seal: bytes
    """Sector 0: written last."""
    rest: tuple[tuple[int, bytes], ...] = ()
    """Offset (bytes) and bytes of what is written before it, in this order."""


class TableNumbers(Struct, frozen=True):
    """What tells a table from every other one."""

    signature: int
    disk: UUID


class TableStyle(Protocol):
    """A kind of table."""

    name: str
    shown: str
    shown_active: str
    """What the table calls the mark of the partition that is started from."""
    record_note: str
    """What sector 0 holds, for the layout."""
    most: int
    """Partitions it can name."""
    behind: int
    """Bytes kept clear at the drive's end; a whole MiB, so that partitions end at one too."""

    def front(self, sector_size: int) -> int:
        """Return the byte behind sector 0 and what else comes before it: where the manifest begins."""

    def reach(self, sectors: int) -> int:
        """Return how many of a drive's sectors the table can name."""

    def shown_use(self, use: Use) -> str:
        """Return what the table calls a use, for people."""

    def compose(
        self, numbers: TableNumbers, partitions: Sequence[WantedPartition], code: bytes, sectors: int, sector_size: int
    ) -> ComposedTable:
        """Return the table of a drive of `sectors`, with boot code of up to 440 bytes in sector 0."""


class MbrStyle:
    """MBR (UEFI 2.10, 5.2.1)."""

    name, shown, record_note = "mbr", "MBR", "MBR record and partition table"
    shown_active = "active"
    most, behind = 4, 0

    def front(self, sector_size: int) -> int:
        return sector_size

    def reach(self, sectors: int) -> int:
        return min(sectors, MOST_SECTORS)

    def shown_use(self, use: Use) -> str:
        return f"type {use.value.mbr:02X}h"

    def compose(
        self, numbers: TableNumbers, partitions: Sequence[WantedPartition], code: bytes, sectors: int, sector_size: int
    ) -> ComposedTable:
        entries = [MbrPartition(p.number, p.active, p.use.value.mbr, p.first_lba, p.sector_count) for p in partitions]
        return ComposedTable(compose_mbr(code, numbers.signature, entries, sector_size))


class GptStyle:
    """GUID partition table (UEFI 2.10, 5.3)."""

    name, shown, record_note = "gpt", "GPT", "protective record"
    shown_active = "marked as bootable"
    most, behind = ENTRY_COUNT, MIB

    def front(self, sector_size: int) -> int:
        return (2 + entry_sectors(sector_size)) * sector_size

    def reach(self, sectors: int) -> int:
        return sectors

    def shown_use(self, use: Use) -> str:
        return use.value.gpt_shown

    def compose(
        self, numbers: TableNumbers, partitions: Sequence[WantedPartition], code: bytes, sectors: int, sector_size: int
    ) -> ComposedTable:
        entries = [
            GptPartition(
                number=p.number,
                kind=p.use.value.gpt,
                unique=p.unique,
                first_lba=p.first_lba,
                sector_count=p.sector_count,
                attributes=p.use.value.attributes | (LEGACY_BOOT if p.active else 0),
                name=p.name,
            )
            for p in partitions
        ]
        parts = compose_gpt(numbers.disk, entries, sectors, sector_size, code=code, signature=numbers.signature)
        # The backup first: until the protective record is there, neither copy counts.
        return ComposedTable(
            parts.protective, ((parts.backup_offset, parts.backup), (parts.primary_offset, parts.primary))
        )


STYLES: Mapping[str, TableStyle] = {"mbr": MbrStyle(), "gpt": GptStyle()}
