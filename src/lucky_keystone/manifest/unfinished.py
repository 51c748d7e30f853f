"""The record of an unfinished build: which drive it was to become, and how much of it the drive has surely taken.

It is where the manifest goes in the end. It is a hint and no more: whatever it claims is read again
and compared before it is believed, so a record that is wrong, torn or lost costs time and never a byte.
"""

from __future__ import annotations

from typing import Literal

from blake3 import blake3
from msgspec import Struct

from ..common.later import np
from ..common.record import Record, raw, record, u32, u64
from ..common.units import shown_size
from ..content.contents import SizedReadable
from .room import end_place, front_places

MAGIC = b"LKEYWIP1"
UNKNOWN = bytes(32)
Kind = Literal["build", "update"]
_KINDS: tuple[Kind, ...] = ("build", "update")


@record(size=512)
class UnfinishedRecord(Record):
    """First sector of the manifest's room on a drive that is being built, all numbers little endian."""

    magic: bytes = raw(0, 8, "LKEYWIP1", default=MAGIC)
    taken: int = u64(8, "bytes of all regions, in order, that were flushed")
    kind: int = u32(16, "0 build, 1 update")
    reserved: bytes = raw(20, 4, "zero", default=bytes(4))
    volume_offset: int = u64(24, "bytes; where the first volume starts, 0 when there is none", default=0)
    fingerprint: bytes = raw(32, 32, "BLAKE3 of the drive's description")
    further_offsets: bytes = raw(64, 384, "8 bytes each; where further volumes start, ended by 0")
    digest: bytes = raw(448, 32, "BLAKE3 of the BLAKE3 of each block among what was taken; 0 where it is unknown")
    hash: bytes = raw(480, 32, "BLAKE3 of the 480 bytes before", default=bytes(32))


class Unfinished(Struct, frozen=True):
    """What an unfinished drive says of itself."""

    kind: Kind
    fingerprint: bytes
    taken: int
    volume_offsets: tuple[int, ...]
    """Where the drive's volumes start, in bytes."""
    digest: bytes = UNKNOWN
    """BLAKE3 of the hashes of all blocks among what was taken."""

    @property
    def shown(self) -> str:
        """It in words."""
        return f"unfinished {self.kind}, {shown_size(self.taken)} written"

    @property
    def next_step(self) -> str:
        """How it is finished."""
        command = "build --update" if self.kind == "update" else "build"
        return f"Run the same '{command}' command again: it continues."


def pack_unfinished(state: Unfinished, sector_size: int) -> bytes:
    """Return the record, padded to a sector."""
    first, *further = state.volume_offsets or (0,)
    bare = UnfinishedRecord(
        taken=state.taken,
        kind=_KINDS.index(state.kind),
        fingerprint=state.fingerprint,
        volume_offset=first,
        further_offsets=np.array(further, "<u8").tobytes().ljust(384, b"\0"),
        digest=state.digest,
    ).pack()
    return (bare[:480] + blake3(bare[:480]).digest()).ljust(sector_size, b"\0")


def unpack_unfinished(data: bytes) -> Unfinished | None:
    """Return what the record says, None for bytes that are not a whole record."""
    if len(data) < UnfinishedRecord.SIZE or data[:8] != MAGIC or blake3(data[:480]).digest() != data[480:512]:
        return None
    found = UnfinishedRecord.unpack(data)
    if found.kind >= len(_KINDS):
        return None
    starts = [found.volume_offset, *np.frombuffer(found.further_offsets, "<u8").tolist()]
    count = starts.index(0) if 0 in starts else len(starts)
    return Unfinished(_KINDS[found.kind], found.fingerprint, found.taken, tuple(starts[:count]), found.digest)


def unfinished_on(drive: SizedReadable, sector_size: int, kept: bytes | None) -> Unfinished | None:
    """Read the record wherever it is: on the drive, or what this computer keeps for one that has no room for it."""
    found = read_unfinished(drive, sector_size)
    if found is None and kept and drive.size >= sector_size and not any(drive.read_at(0, sector_size)):
        return unpack_unfinished(kept)
    return found


def read_unfinished(drive: SizedReadable, sector_size: int) -> Unfinished | None:
    """Read the record behind an empty sector 0; None when the drive is finished, or says nothing that holds."""
    if drive.size < sector_size or any(drive.read_at(0, sector_size)):
        return None
    for place in (*front_places(sector_size), end_place(drive.size, sector_size)):
        if 0 < place <= drive.size - UnfinishedRecord.SIZE:
            found = unpack_unfinished(drive.read_at(place, UnfinishedRecord.SIZE))
            # Whoever wrote it: a volume that starts behind the drive's end is none of this drive.
            if found is not None and all(0 <= offset < drive.size for offset in found.volume_offsets):
                return found
    return None
