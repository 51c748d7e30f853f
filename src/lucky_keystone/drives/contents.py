"""What is on a drive now, in a few words: what a technician looks at before erasing it."""

from __future__ import annotations

from ..errors import KeystoneError
from ..tables.mbr import read_mbr
from ..units import shown_size
from ..volumes.fat32.read import Fat32Volume
from .image_file import ImageFile

_TYPES = {0x07: "NTFS or exFAT", 0x0B: "FAT32", 0x0C: "FAT32", 0x83: "Linux", 0xEE: "GPT", 0xEF: "UEFI system", 0x82: "Linux swap"}


def describe(drive: ImageFile, sector_size: int) -> str:
    """Return one line: the table and its partitions with their labels, or 'empty'. Never raises for odd bytes."""
    try:
        table = read_mbr(drive.read_at(0, 512), drive.size // sector_size)
        if table is None or not table.partitions:
            return _gpt(drive, sector_size) or ("empty" if table is None else "MBR without partitions")
        if table.partitions[0].type == 0xEE:
            return "GPT"
        return "MBR: " + ", ".join(
            _partition(drive, p.type, p.first_lba * sector_size, p.sector_count * sector_size) for p in table.partitions
        )
    except KeystoneError as error:
        return f"not readable ({error.message})"


def _partition(drive: ImageFile, kind: int, offset: int, size: int) -> str:
    name = _TYPES.get(kind, f"type {kind:02X}h")
    try:
        volume = Fat32Volume(drive, offset, min(size, drive.size - offset))
        return f"FAT32 '{volume.label()}' {shown_size(size)}"
    except KeystoneError:
        return f"{name} {shown_size(size)}"


def _gpt(drive: ImageFile, sector_size: int) -> str:
    for offset in (sector_size, drive.size - sector_size):
        if offset + 8 <= drive.size and drive.read_at(offset, 8) == b"EFI PART":
            return "remains of a GPT"
    return ""
