"""The manifest: hashes of all that was written, kept on the drive behind sector 0 (see docs/formats.md).

header   512 bytes    sizes, hash of what follows, hash of the header itself
about    JSON         where the bytes came from, the regions, and what a host may change
hashes   32 bytes for each block of up to 4 MiB of each region, in order (BLAKE3)
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal, Protocol

import msgspec
from blake3 import blake3

from ..content import BLOCK
from ..errors import KeystoneError
from ..record import Record, RecordError, raw, record, u32, u64
from .room import manifest_offset
from .unfinished import MAGIC as PROGRESS_MAGIC

MAGIC = b"LKEYMAN2"
_EARLIER_MAGIC = b"LKEYMAN1"
HASH_SIZE = 32
_MOST_ABOUT = 64 << 20
MOST_REGIONS = 64


class ManifestError(KeystoneError):
    """A manifest is there but cannot be used."""


@record(size=512)
class ManifestHeader(Record):
    """First 512 bytes of the manifest, all numbers little endian."""

    magic: bytes = raw(0, 8, "LKEYMAN2", default=MAGIC)
    about_size: int = u64(8, "bytes of the JSON text behind the header")
    hash_count: int = u64(16, "hashes behind the JSON text")
    block_size: int = u32(24, "bytes each hash covers at most", default=BLOCK)
    reserved: bytes = raw(28, 4, "zero", default=bytes(4))
    body_hash: bytes = raw(32, 32, "BLAKE3 of the JSON text and all hashes")
    padding: bytes = raw(64, 416, "zero", default=bytes(416))
    header_hash: bytes = raw(480, 32, "BLAKE3 of the 480 bytes before", default=bytes(32))


U32 = Annotated[int, msgspec.Meta(ge=0, lt=1 << 32)]
U64 = Annotated[int, msgspec.Meta(ge=0)]
U63 = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]
"""Numbers of the text are held to what they can be: a manifest may be forged, hashes and all."""


class RegionNote(msgspec.Struct, frozen=True):
    """Where a region lies, in bytes."""

    kind: Literal[
        "table", "gpt", "reserved", "fat1", "fat2", "boot", "mft", "log", "bitmap", "folders", "files", "bootcopy"
    ]
    """Of a table; of a FAT32 volume up to fat2; of an NTFS volume up to bitmap; folders and files of both."""
    offset: U63
    size: U63


class VolumeNote(msgspec.Struct, frozen=True):
    """What must be known to tell a host's changes from damage."""

    offset: U63
    file_system: Literal["fat32", "ntfs"]
    label: str
    serial: U64
    next_free_cluster: U32
    free_clusters: U32
    folders: list[tuple[U32, U32]]
    """First cluster and bytes of entries of each folder, in the order they lie on the volume."""
    holes: list[tuple[U32, U32]] = []
    """First cluster and count of free clusters below `next_free_cluster`, as an update leaves them."""
    records: bytes = b""
    """Of an NTFS volume: four bytes for each file record (base64 in the text); see volumes/ntfs/essence.py."""

    def free_runs(self) -> list[tuple[int, int]]:
        """Return (first cluster, count) of what was free when the drive was built; the last run goes beyond the volume."""
        return [*self.holes, (self.next_free_cluster, 1 << 28)]

    def was_free(self, cluster: int) -> bool:
        """True for a cluster that nothing was in when the drive was built."""
        return any(first <= cluster < first + count for first, count in self.free_runs())


class SourceNote(msgspec.Struct, frozen=True):
    """What the drive was built from."""

    name: str
    label: str
    fingerprint: str


class About(msgspec.Struct, frozen=True):
    """The JSON text of the manifest."""

    tool: str
    source: SourceNote
    identity: str
    drive_size: U63
    sector_size: Literal[512, 4096]
    volumes: Annotated[list[VolumeNote], msgspec.Meta(min_length=1, max_length=4)]
    regions: list[RegionNote]
    table: Literal["mbr", "gpt"] = "mbr"
    build: str = ""
    """The drive's fingerprint in hexadecimal: tells a build that goes on, or an update, whether it is the same drive."""


@dataclass(frozen=True)
class Manifest:
    """A manifest, made or read."""

    about: About
    hashes: bytes
    stored_size: int
    """Bytes of header, JSON and hashes together."""

    def blocks(self) -> Iterator[tuple[RegionNote, int, int, bytes]]:
        """Yield (region, offset on the drive, size, hash) of every block, in rising order within each region."""
        number = 0
        for note in self.about.regions:
            for start in range(0, note.size, BLOCK):
                yield (
                    note,
                    note.offset + start,
                    min(BLOCK, note.size - start),
                    self.hashes[32 * number : 32 * number + 32],
                )
                number += 1


def block_count(size: int) -> int:
    """Blocks that a region of `size` bytes has."""
    return -(-size // BLOCK)


def pack_manifest(
    about: dict[str, Any], regions: Sequence[tuple[str, int, int]], hashes: Sequence[bytes], room: int
) -> bytes:
    """Return the manifest as it stands on the drive, padded with zeros to `room` bytes."""
    text = msgspec.json.encode({**about, "regions": [{"kind": k, "offset": o, "size": s} for k, o, s in regions]})
    body = text + b"".join(hashes)
    bare = ManifestHeader(about_size=len(text), hash_count=len(hashes), body_hash=blake3(body).digest()).pack()
    head = bare[:480] + blake3(bare[:480]).digest()
    if len(head) + len(body) > room:
        raise AssertionError(f"the manifest has {len(head) + len(body)} bytes, {room} were kept for it")
    return (head + body).ljust(room, b"\0")


class _Readable(Protocol):
    size: int

    def read_at(self, offset: int, size: int) -> bytes: ...


def read_manifest(drive: _Readable, sector_size: int) -> Manifest | None:
    """Read the manifest, behind sector 0 or a GPT; None when there is none. Raises ManifestError when it is damaged."""
    places = (manifest_offset(table, sector_size) for table in ("mbr", "gpt"))
    found = (_read_at(drive, place) for place in places if place + ManifestHeader.SIZE <= drive.size)
    return next((manifest for manifest in found if manifest is not None), None)


def _read_at(drive: _Readable, place: int) -> Manifest | None:
    head = drive.read_at(place, ManifestHeader.SIZE)
    try:
        header = ManifestHeader.unpack(head)
    except RecordError as error:
        raise ManifestError(str(error)) from error
    if head[:8] == PROGRESS_MAGIC:
        return None
    if blake3(head[:480]).digest() != header.header_hash:
        if header.magic != MAGIC:
            return None
        raise ManifestError("its header does not match its own hash")
    whole = ManifestHeader.SIZE + header.about_size + HASH_SIZE * header.hash_count
    most_hashes = drive.size // BLOCK + MOST_REGIONS
    sizes_hold = header.about_size <= _MOST_ABOUT and header.hash_count <= most_hashes and place + whole <= drive.size
    if header.magic == _EARLIER_MAGIC:
        raise ManifestError("it was written by an earlier version of this program, which told of one volume only")
    if header.magic != MAGIC or header.block_size != BLOCK or not sizes_hold:
        raise ManifestError("its header holds sizes that cannot be")
    body = drive.read_at(place + ManifestHeader.SIZE, whole - ManifestHeader.SIZE)
    if blake3(body).digest() != header.body_hash:
        raise ManifestError("its text or hashes do not match their hash")
    try:
        about = msgspec.json.decode(body[: header.about_size], type=About)
    except msgspec.DecodeError as error:
        raise ManifestError(f"its text cannot be read ({error})") from error
    if sum(block_count(note.size) for note in about.regions) != header.hash_count:
        raise ManifestError("the number of its hashes does not fit its regions")
    if any(note.offset + note.size > drive.size for note in about.regions):
        raise ManifestError("a region lies outside the drive")
    return Manifest(about, body[header.about_size :], whole)
