"""The manifest: hashes of all that was written, kept on the drive or beside it (see docs/formats.md).

header   512 bytes    sizes, hash of what follows, hash of the header itself
about    JSON         where the bytes came from, the regions, and what a host may change
hashes   32 bytes for each block of up to 4 MiB of each region, in order (BLAKE3)

Two formats are written: LKEYMAN2 where it can say all there is, so that earlier versions of the program check the drive
too, and LKEYMAN3 for drives without volumes of ours (raw images) or with more than four.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, Literal

import msgspec
from blake3 import blake3
from msgspec import Struct
from msgspec.structs import replace

from ..common.errors import KeystoneError
from ..common.record import Record, RecordError, raw, record, u32, u64
from ..content.contents import BLOCK, SizedReadable
from ..content.regions import RegionKind
from ..volumes.note import U63, AnyNote
from .room import HASH_SIZE, end_place, front_places
from .unfinished import MAGIC as UNFINISHED_MAGIC

MAGIC_2, MAGIC_3 = b"LKEYMAN2", b"LKEYMAN3"
_EARLIER_MAGIC = b"LKEYMAN1"
_MOST_ABOUT = 64 << 20
_MOST_VOLUMES_2 = 4
_MOST_REGIONS_2 = 64
MOST_REGIONS = 4096


class ManifestError(KeystoneError):
    """A manifest is there but cannot be used."""


class EarlierManifest(ManifestError):
    """A manifest of a format that is no longer read: the drive may well be whole."""


@record(size=512)
class ManifestHeader(Record):
    """First 512 bytes of the manifest, all numbers little endian."""

    magic: bytes = raw(0, 8, "LKEYMAN2 or LKEYMAN3", default=MAGIC_2)
    about_size: int = u64(8, "bytes of the JSON text behind the header")
    hash_count: int = u64(16, "hashes behind the JSON text")
    block_size: int = u32(24, "bytes each hash covers at most", default=BLOCK)
    reserved: bytes = raw(28, 4, "zero", default=bytes(4))
    body_hash: bytes = raw(32, 32, "BLAKE3 of the JSON text and all hashes")
    padding: bytes = raw(64, 416, "zero", default=bytes(416))
    header_hash: bytes = raw(480, 32, "BLAKE3 of the 480 bytes before", default=bytes(32))


class RegionNote(msgspec.Struct, frozen=True):
    """Where a region lies, in bytes."""

    kind: RegionKind
    offset: U63
    size: U63


class SourceNote(msgspec.Struct, frozen=True):
    """What the drive was built from."""

    name: str
    label: str
    fingerprint: str


class PartNote(msgspec.Struct, frozen=True):
    """One of several sources that a drive was built from."""

    name: str
    what: str
    """Its kind, in words."""
    release: str = ""
    build: str = ""
    architectures: list[str] = []
    size: U63 = 0
    """Bytes of its files."""
    needs: str = ""
    """What its release asks of machines, in words; '' where it asks for nothing."""


class About(msgspec.Struct, frozen=True):
    """The JSON text of the manifest."""

    tool: str
    source: SourceNote
    identity: str
    drive_size: U63
    sector_size: Literal[512, 4096]
    volumes: list[AnyNote]
    regions: list[RegionNote]
    table: Literal["mbr", "gpt", "none"] = "mbr"
    """none: the image brought its own, or has none."""
    build: str = ""
    """The drive's fingerprint in hexadecimal.

    Tells a build that continues, or an update, whether it is the same drive.
    """
    starts_on: list[Literal["bios", "uefi"]] = []
    """Firmware that the drive was built to start on; empty where that is not said."""
    source_damage: list[str] = []
    """What was known to be wrong with the source, which was built all the same."""
    laid_over: list[str] = []
    """Paths of files, and of folders with a '/' behind, that the source itself does not have, or has otherwise."""
    parts: list[PartNote] = []
    """The sources, in the order in which they were given, where there are several; the longest lists are cut."""
    image_size: U63 = 0
    """Bytes of a raw image, from the drive's first one on; 0 for a drive that was composed."""


class Manifest(Struct, frozen=True):
    """A manifest, made or read."""

    about: About
    hashes: bytes
    stored_size: int
    """Bytes of header, JSON and hashes together."""
    place: int | None = None
    """Byte of the drive where it begins; None when it is kept elsewhere."""

    def blocks(self) -> Iterator[tuple[RegionNote, int, int, bytes]]:
        """Yield (region, offset on the drive, size, hash) of every block, in rising order within each region."""
        number = 0
        for note in self.about.regions:
            for start in range(0, note.size, BLOCK):
                digest = self.hashes[HASH_SIZE * number : HASH_SIZE * (number + 1)]
                yield note, note.offset + start, min(BLOCK, note.size - start), digest
                number += 1


def block_count(size: int) -> int:
    """Blocks that a region of `size` bytes has."""
    return -(-size // BLOCK)


def pack_manifest(
    about: dict[str, Any], regions: Sequence[tuple[str, int, int]], hashes: Sequence[bytes], room: int
) -> bytes:
    """Return the manifest as it is on the drive, padded with zeros to `room` bytes; not padded when `room` is 0."""
    text = msgspec.json.encode({**about, "regions": [{"kind": k, "offset": o, "size": s} for k, o, s in regions]})
    body = text + b"".join(hashes)
    bare = ManifestHeader(
        magic=_oldest_format_for(about, regions),
        about_size=len(text),
        hash_count=len(hashes),
        body_hash=blake3(body).digest(),
    ).pack()
    head = bare[:480] + blake3(bare[:480]).digest()
    if room and len(head) + len(body) > room:
        raise AssertionError(f"the manifest has {len(head) + len(body)} bytes, {room} were kept for it")
    return (head + body).ljust(room, b"\0")


def _oldest_format_for(about: dict[str, Any], regions: Sequence[tuple[str, int, int]]) -> bytes:
    fits = 1 <= len(about["volumes"]) <= _MOST_VOLUMES_2 and len(regions) <= _MOST_REGIONS_2
    return MAGIC_2 if fits and about["table"] != "none" else MAGIC_3


def read_manifest(drive: SizedReadable, sector_size: int) -> Manifest | None:
    """Read the manifest of a drive; None when there is none. Raises ManifestError when it is damaged.

    At the drive's end first: where a raw image was written, what comes before is the image's.
    """
    at_end = end_place(drive.size, sector_size)
    trouble: ManifestError | None = None
    for place in (at_end, *front_places(sector_size)):
        if not 0 < place <= drive.size - ManifestHeader.SIZE:
            continue
        try:
            found = _read_at(drive, place)
        except ManifestError as error:
            trouble = trouble or error
            continue
        if found is not None and (place != at_end or found.about.image_size):
            return found
    if trouble is not None:
        raise trouble
    return None


def unpack_manifest(data: bytes, drive_size: int) -> Manifest:
    """Read a manifest that was kept elsewhere. Raises ManifestError."""
    found = _parse(_Kept(data), 0, drive_size)
    if found is None:
        raise ManifestError("it is not a manifest")
    return found


class _Kept(Struct, frozen=True):
    data: bytes

    @property
    def size(self) -> int:
        return len(self.data)

    def read_at(self, offset: int, size: int) -> bytes:
        return self.data[offset : offset + size]


def _read_at(drive: SizedReadable, place: int) -> Manifest | None:
    found = _parse(drive, place, drive.size)
    return None if found is None else replace(found, place=place)


def _parse(holder: SizedReadable, place: int, drive_size: int) -> Manifest | None:
    head = holder.read_at(place, ManifestHeader.SIZE)
    try:
        header = ManifestHeader.unpack(head)
    except RecordError as error:
        raise ManifestError(str(error)) from error
    if head[:8] == UNFINISHED_MAGIC:
        return None
    if blake3(head[:480]).digest() != header.header_hash:
        if header.magic not in (MAGIC_2, MAGIC_3):
            return None
        raise ManifestError("its header does not match its own hash")
    if header.magic == _EARLIER_MAGIC:
        raise EarlierManifest("it was written by an earlier version of this program")
    whole = ManifestHeader.SIZE + header.about_size + HASH_SIZE * header.hash_count
    most_hashes = drive_size // BLOCK + MOST_REGIONS
    sizes_hold = header.about_size <= _MOST_ABOUT and header.hash_count <= most_hashes and place + whole <= holder.size
    if header.magic not in (MAGIC_2, MAGIC_3) or header.block_size != BLOCK or not sizes_hold:
        raise ManifestError("its header holds invalid sizes")
    body = holder.read_at(place + ManifestHeader.SIZE, whole - ManifestHeader.SIZE)
    if blake3(body).digest() != header.body_hash:
        raise ManifestError("its text or hashes do not match their hash")
    try:
        about = msgspec.json.decode(body[: header.about_size], type=About)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:  # no text, or nested beyond all measure
        raise ManifestError(f"its text cannot be read ({error})") from error
    _refuse_impossible(about, header, drive_size)
    return Manifest(about, body[header.about_size :], whole)


def _refuse_impossible(about: About, header: ManifestHeader, drive_size: int) -> None:
    """Raise ManifestError for a text that contradicts its header, its format or the drive."""
    if sum(block_count(note.size) for note in about.regions) != header.hash_count:
        raise ManifestError("the number of its hashes does not match its regions")
    if any(note.offset + note.size > drive_size for note in about.regions):
        raise ManifestError("a region lies outside the drive")
    is_second = header.magic == MAGIC_2
    if is_second and (not 1 <= len(about.volumes) <= _MOST_VOLUMES_2 or about.table == "none" or about.image_size):
        raise ManifestError("its text contradicts its format")
    if not about.volumes and not about.image_size:
        raise ManifestError("it describes neither a volume nor an image")
