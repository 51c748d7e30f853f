"""The record of an unfinished build: which drive it was to become, and how much of it the drive has surely taken.

It stands where the manifest goes in the end. It is a hint and no more: whatever it claims is read again
and compared before it is believed, so a record that is wrong, torn or lost costs time and never a byte.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from blake3 import blake3

from ..drives.medium import Medium
from ..record import Record, raw, record, u32, u64
from .room import manifest_offset

MAGIC = b"LKEYWIP1"
_KINDS = ("build", "update")
Kind = Literal["build", "update"]


@record(size=512)
class ProgressRecord(Record):
    """First sector of the manifest's room on a drive that is being built, all numbers little endian."""

    magic: bytes = raw(0, 8, "LKEYWIP1", default=MAGIC)
    taken: int = u64(8, "bytes of all regions, in order, that were flushed")
    kind: int = u32(16, "0 build, 1 update")
    reserved: bytes = raw(20, 4, "zero", default=bytes(4))
    volume_offset: int = u64(24, "bytes; where the volume starts")
    fingerprint: bytes = raw(32, 32, "BLAKE3 of the drive's description")
    second_offset: int = u64(64, "bytes; where a second volume starts, 0 when there is none", default=0)
    padding: bytes = raw(72, 408, "zero", default=bytes(408))
    hash: bytes = raw(480, 32, "BLAKE3 of the 480 bytes before", default=bytes(32))


@dataclass(frozen=True)
class Progress:
    """What an unfinished drive says of itself."""

    kind: Kind
    fingerprint: bytes
    taken: int
    volume_offsets: tuple[int, ...]
    """Where the drive's one or two volumes start, in bytes."""


def pack_progress(progress: Progress, sector_size: int) -> bytes:
    """Return the record, padded to a sector."""
    bare = ProgressRecord(
        taken=progress.taken,
        kind=_KINDS.index(progress.kind),
        fingerprint=progress.fingerprint,
        volume_offset=progress.volume_offsets[0],
        second_offset=progress.volume_offsets[1] if len(progress.volume_offsets) > 1 else 0,
    ).pack()
    return (bare[:480] + blake3(bare[:480]).digest()).ljust(sector_size, b"\0")


def read_progress(drive: Medium, sector_size: int) -> Progress | None:
    """Read the record behind an empty sector 0; None when the drive is finished, or tells nothing that holds."""
    places = [manifest_offset(table, sector_size) for table in ("mbr", "gpt")]
    if drive.size < places[-1] + ProgressRecord.SIZE or any(drive.read_at(0, sector_size)):
        return None
    for place in places:
        data = drive.read_at(place, ProgressRecord.SIZE)
        if data[:8] != MAGIC or blake3(data[:480]).digest() != data[480:]:
            continue
        found = ProgressRecord.unpack(data)
        starts = (found.volume_offset, found.second_offset) if found.second_offset else (found.volume_offset,)
        if found.kind < len(_KINDS):
            return Progress(_KINDS[found.kind], found.fingerprint, found.taken, starts)  # type: ignore[arg-type]
    return None
