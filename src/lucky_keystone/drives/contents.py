"""What is on a drive now, in a few words: what a technician looks at before erasing it."""

from __future__ import annotations

from ..errors import KeystoneError
from ..sources.iso_records import IDENTIFIER, SECTOR, VolumeDescriptor
from ..tables.gpt import read_gpt
from ..tables.mbr import read_mbr
from ..units import shown_size
from ..volumes.kinds import open_volume
from .medium import Medium

_LOOKED_AT = 1 << 20  # bytes at either end
_LISTED = 8
_TYPES = {
    0x07: "NTFS or exFAT",
    0x0B: "FAT32",
    0x0C: "FAT32",
    0x83: "Linux",
    0xEE: "GPT",
    0xEF: "UEFI system",
    0x82: "Linux swap",
}


def describe(drive: Medium, sector_size: int) -> str:
    """Return one line: the table and its partitions with their labels, what lies there without a table, or 'empty'.

    Never raises for odd bytes, and calls a drive empty only when its beginning and its end are zeros.
    """
    try:
        table = read_mbr(drive.read_at(0, 512), drive.size // sector_size) if drive.size >= 512 else None
        if table is None or not table.partitions or table.faults:
            bare = _without_table(drive)
            if bare or table is None or not table.partitions:
                return bare or _gpt(drive, sector_size) or _rest(drive, has_table=table is not None)
        if table.partitions[0].type == 0xEE:
            return _through_gpt(drive, sector_size)
        return "MBR: " + ", ".join(
            _partition(drive, p.type, p.first_lba * sector_size, p.sector_count * sector_size) for p in table.partitions
        )
    except KeystoneError as error:
        return f"not readable ({error.message})"


def _without_table(drive: Medium) -> str:
    """What fills a drive from its first sector on: a volume, or a disc image that was written as it is."""
    try:
        return f"{_volume(drive, 0, drive.size)} without a table"
    except KeystoneError:
        pass
    if drive.size < 17 * SECTOR:
        return ""
    descriptor = VolumeDescriptor.unpack(drive.read_at(16 * SECTOR, SECTOR))
    label = descriptor.volume.decode("ascii", "replace").strip()
    return f"disc image '{label}', as it is" if descriptor.identifier == IDENTIFIER else ""


def _rest(drive: Medium, *, has_table: bool) -> str:
    if has_table:
        return "MBR without partitions"
    ends = min(_LOOKED_AT, drive.size)
    empty = not any(drive.read_at(0, ends)) and not any(drive.read_at(drive.size - ends, ends))
    return "empty" if empty else "no table, but not empty"


def _partition(drive: Medium, kind: int, offset: int, size: int) -> str:
    name = _TYPES.get(kind, f"type {kind:02X}h" if kind >= 0 else "partition")
    try:
        return f"{_volume(drive, offset, min(size, drive.size - offset))} {shown_size(size)}"
    except KeystoneError:
        return f"{name} {shown_size(size)}"


def _volume(drive: Medium, offset: int, size: int) -> str:
    """File system and label of the volume there. Raises VolumeError when none can be read."""
    kind, volume = open_volume(drive, offset, size)
    return f"{kind.shown} '{volume.label()}'"


def _through_gpt(drive: Medium, sector_size: int) -> str:
    table = read_gpt(drive, sector_size)
    if table is None:
        return "protective record without a GPT"
    if not table.partitions:
        return "GPT without partitions"
    words = [
        _partition(drive, -1, p.first_lba * sector_size, p.sector_count * sector_size)
        for p in table.partitions[:_LISTED]
    ]
    more = len(table.partitions) - len(words)
    return "GPT: " + ", ".join(words) + (f" and {more} more" if more else "")


def _gpt(drive: Medium, sector_size: int) -> str:
    for offset in (sector_size, drive.size - sector_size):
        if offset + 8 <= drive.size and drive.read_at(offset, 8) == b"EFI PART":
            return "remains of a GPT"
    return ""
