"""What is on a drive now, in a few words: what a technician looks at before erasing it."""

from __future__ import annotations

import heapq
from contextlib import suppress
from datetime import datetime

from msgspec import Struct

from ..common.errors import KeystoneError
from ..common.units import counted, shown_size
from ..sources.iso_records import IDENTIFIER, SECTOR, VolumeDescriptor
from ..tables.gpt import read_gpt
from ..tables.mbr import TYPES_SHOWN, read_mbr
from ..tables.table import read_table
from ..volumes.housekeeping import is_housekeeping
from ..volumes.kinds import kind_at, open_volume
from ..volumes.known import DISC, known_at
from .medium import Medium

_LOOKED_AT = 1 << 20  # bytes at either end
_LISTED = 8
_NEWEST = 5
_MOST_ENTRIES = 20_000  # looked at; a slow stick must not hold up the question for long


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


class Newest(Struct, frozen=True):
    """A file of a volume."""

    path: str
    modified: datetime


class Inventory(Struct, frozen=True):
    """What a volume holds, in short."""

    volume: str
    """File system and label."""
    used: int
    """Bytes of files."""
    files: int
    newest: tuple[Newest, ...]
    is_cut: bool
    """True when there is more than was looked at."""

    @property
    def summary(self) -> str:
        more = "more than " if self.is_cut else ""
        return f"{more}{counted(self.files, 'file')}, {more}{shown_size(self.used)}"


def is_bare_disc(drive: Medium) -> bool:
    """Tell whether these are the bytes of a disc image and no drive's: no table, and no volume that is read here."""
    has_table = read_table(drive, 512) is not None or kind_at(drive, 0, drive.size) is not None
    return not has_table and known_at(drive, 0, drive.size) == DISC


def inventories(drive: Medium, sector_size: int) -> list[Inventory]:
    """Return what is on each volume that can be read, files that a system keeps for itself left out."""
    found: list[Inventory] = []
    table = read_table(drive, sector_size) if drive.size >= sector_size else None
    places = [(0, drive.size)] if kind_at(drive, 0, drive.size) else []
    for partition in table.partitions[:_LISTED] if table and not places else ():
        offset = partition.first_lba * sector_size
        places.append((offset, min(partition.sector_count * sector_size, drive.size - offset)))
    for offset, size in places:
        with suppress(KeystoneError):
            if size >= 512 and kind_at(drive, offset, size) is not None:
                found.append(_inventory(drive, offset, size))
    return found


def _inventory(drive: Medium, offset: int, size: int) -> Inventory:
    kind, volume = open_volume(drive, offset, size)
    used = files = 0
    newest: list[tuple[datetime, str]] = []
    is_cut = False
    with suppress(KeystoneError):  # what can be read in front of damage is worth knowing all the same
        for number, entry in enumerate(volume.walk()):
            if number >= _MOST_ENTRIES:
                is_cut = True
                break
            if entry.is_folder or is_housekeeping(entry.path):
                continue
            files, used = files + 1, used + entry.size
            if entry.modified is not None:
                newest = heapq.nlargest(_NEWEST, [*newest, (entry.modified, entry.path)])
    names = tuple(Newest(path, modified) for modified, path in newest)
    return Inventory(f"{kind.shown} '{volume.label()}'", used, files, names, is_cut)


def _without_table(drive: Medium) -> str:
    """What fills a drive from its first sector on: a volume, or a disc image that was written as it is."""
    try:
        return f"{_volume(drive, 0, drive.size)} without a table"
    except KeystoneError:
        pass
    known = known_at(drive, 0, drive.size)
    if known and known != DISC:
        return f"{known} without a table"
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
    name = known_at(drive, offset, min(size, drive.size - offset))
    name = name or TYPES_SHOWN.get(kind, f"type {kind:02X}h" if kind >= 0 else "partition")
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
