"""What somebody else's boot code does, found out by running it in a processor emulation, where that is installed.

Words in the code tell nothing: code may load BOOTMGR by its cluster without naming it, and name it only to say that it
is missing. What it does on this drive decides, and nothing else: where that does not show, it is not known.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from functools import partial
from typing import TYPE_CHECKING

from msgspec import Struct

from ..common.errors import KeystoneError
from ..content.contents import SizedReadable
from ..tables.mbr import ACTIVE, HEADS, SECTORS_PER_TRACK, MbrEntry
from ..tables.table import Partition
from ..volumes.volume import Volume

if TYPE_CHECKING:
    from ..boot.machine import EmulatedMachine

_Geometry = tuple[int, int]
_SECTOR, _ENTRIES = 512, 446
_KEYS, _MOST_CALLS, _MOST_INSTRUCTIONS = 4, 20_000, 3_000_000
_LOADER, _LOW_MEMORY = 0x20000, 0xA0000
_FAT32_LBA = 0x0C
_U32 = 0xFFFF_FFFF
_MOST_HEADS, _MOST_TRACK = 256, 63
_BY_CYLINDER = "02"
NO_EMULATION = "no processor emulation is installed (the extra 'rehearse')"


class Does(Enum):
    """What code does on its drive."""

    STARTS = "starts what it is there for"
    """In a volume: BOOTMGR. In sector 0: the active partition's boot sector."""
    GIVES_UP = "shows a message, if anything, and gives up"
    """A formatter's stub: nothing is lost where other code takes its place."""
    OTHER = "starts something else"
    NOT_KNOWN = "cannot be said"


class Judged(Struct, frozen=True):
    """What code does, and how that is known."""

    does: Does
    why: str = ""
    """Of what is not known."""


OURS = Judged(Does.STARTS)
_NOTHING = Judged(Does.GIVES_UP)


def judge_volume_code(drive: SizedReadable, volume: Volume, partition: Partition, geometry: _Geometry) -> Judged:
    """Run the boot sector of a volume as code in sector 0 would; it starts where BOOTMGR is entered, whole.

    `geometry`: heads and sectors a track by the volume's own boot sector, which the BIOS may count by.
    """
    entry = MbrEntry(
        status=ACTIVE, type=_FAT32_LBA, first_lba=partition.first_lba & _U32, sector_count=partition.sector_count & _U32
    )
    return _judge(
        drive,
        geometry,
        lambda machine: machine.start_volume(volume.offset, entry.pack()),
        partial(_has_loader, volume),
        partial(_has_read_loader, volume),
    )


def judge_record(drive: SizedReadable, partition: Partition, geometry: _Geometry) -> Judged:
    """Run sector 0; it starts where it enters the boot sector of `partition`, which is the active one for it."""
    try:
        sector = bytearray(drive.read_at(0, _SECTOR))
        successor = drive.read_at(partition.first_lba * _SECTOR, _SECTOR)
    except KeystoneError as error:
        return Judged(Does.NOT_KNOWN, error.message.rstrip("."))
    for number in range(4):
        at = _ENTRIES + number * MbrEntry.SIZE
        is_it = MbrEntry.unpack(sector, at).first_lba == partition.first_lba
        sector[at] = ACTIVE if is_it else 0
    return _judge(
        _Marked(drive, bytes(sector)),
        geometry,
        lambda machine: machine.start(successor),
        lambda machine: machine.handed_on,
        lambda machine: any(first == partition.first_lba for _, first, _ in machine.reads),
    )


class _Marked(Struct, frozen=True):
    """A drive with another sector 0."""

    drive: SizedReadable
    sector: bytes

    @property
    def size(self) -> int:
        return self.drive.size

    def read_at(self, offset: int, size: int) -> bytes:
        if offset >= _SECTOR:
            return self.drive.read_at(offset, size)
        return self.sector[offset : offset + size] + self.drive.read_at(_SECTOR, max(offset + size - _SECTOR, 0))


def _judge(
    drive: SizedReadable,
    geometry: _Geometry,
    start: Callable[[EmulatedMachine], object],
    is_start: Callable[[EmulatedMachine], bool],
    was_near: Callable[[EmulatedMachine], bool],
) -> Judged:
    """Run code on a drive; where it counts by cylinders, by the volume's own geometry as well as by the usual one.

    Code that has read what it is to start, and gives up then, may do better on a real machine: that is not known.
    """
    try:
        from ..boot.machine import BootCodeFailed, EmulatedMachine
    except ImportError:
        return Judged(Does.NOT_KNOWN, NO_EMULATION)
    judged = OURS
    for heads, track in dict.fromkeys(((HEADS, SECTORS_PER_TRACK), geometry)):
        if not (0 < heads <= _MOST_HEADS and 0 < track <= _MOST_TRACK):
            continue
        machine = EmulatedMachine(drive, heads=heads, track=track, keys=_KEYS)
        machine.most_calls, machine.most_instructions = _MOST_CALLS, _MOST_INSTRUCTIONS
        try:
            start(machine)
            judged = Judged(Does.STARTS) if is_start(machine) else _without_start(machine)
            if judged.does is Does.GIVES_UP and was_near(machine):
                judged = Judged(Does.NOT_KNOWN, "it reads what it is to start, and gives up then")
        except (BootCodeFailed, KeystoneError) as error:
            judged = _NOTHING if machine.does_nothing else Judged(Does.NOT_KNOWN, str(error).rstrip("."))
        if judged.does is not Does.GIVES_UP or all(how != _BY_CYLINDER for how, _, _ in machine.reads):
            break
    return judged


def _has_loader(volume: Volume, machine: EmulatedMachine) -> bool:
    """Tell whether a machine has entered BOOTMGR of the volume, whole."""
    loader = volume.find("bootmgr")
    if not machine.entered or loader is None:
        return False
    at = _LOADER
    for piece in volume.pieces(loader):
        if at + len(piece) > _LOW_MEMORY or machine.memory(at, len(piece)) != bytes(piece):
            return False
        at += len(piece)
    return True


def _has_read_loader(volume: Volume, machine: EmulatedMachine) -> bool:
    """Tell whether a machine has read any of BOOTMGR's clusters."""
    loader = volume.find("bootmgr")
    places = [
        (volume.cluster_offset(run.first) // _SECTOR, run.count * volume.cluster_size // _SECTOR)
        for run in (loader.runs if loader is not None else ())
    ]
    return any(
        first < start + size and start < first + count for _, first, count in machine.reads for start, size in places
    )


def _without_start(machine: EmulatedMachine) -> Judged:
    before = machine.reads_before_key
    if machine.entered or machine.handed_on or (before is not None and len(machine.reads) > before):
        return Judged(Does.OTHER)
    if machine.timed_out:
        return Judged(Does.NOT_KNOWN, "it takes too long in the emulation")
    if machine.does_nothing:
        return _NOTHING
    if not (machine.gave_up or machine.waiting):
        return Judged(Does.NOT_KNOWN, "it runs on without starting anything")
    if machine.refused:
        return Judged(Does.NOT_KNOWN, "it asks the BIOS for more than the emulation has")
    return _NOTHING
