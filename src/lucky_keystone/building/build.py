"""Builds a drive: the order of writing, the seal last, and going on after an interruption."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass

from blake3 import blake3

from ..content import BLOCK, Tell
from ..drives.medium import Medium
from ..drives.readback import read_back
from ..errors import DriveError, Interrupted, KeystoneError
from ..extents import MIB
from ..manifest.format import ManifestError, pack_manifest, read_manifest
from ..manifest.unfinished import Kind, Progress, pack_progress, read_progress
from .compose import DriveImage
from .feed import Block, Feed
from .stream import Hooks, Streamed, stream_blocks


@dataclass(frozen=True)
class BuildResult:
    """What a build did. Times in seconds."""

    bytes_written: int
    bytes_found_right: int
    """Bytes that were there already, from an interrupted build or before an update."""
    writing_seconds: float
    reading_back_seconds: float
    verified: bool


UNSEALED = "The drive has no seal: nothing takes it for finished. The same command goes on where this one stopped."


def build(
    image: DriveImage,
    medium: Medium,
    tell: Tell,
    *,
    verify: bool = True,
    resume: bool = True,
    blocks: Iterator[Block] | None = None,
) -> BuildResult:
    """Write `image` to `medium`. Until the very last write nothing on the drive looks finished.

    Order: both ends cleared and flushed; regions in rising order; flushed; read back; manifest; flushed; of a GPT both
    copies, flushed; sector 0; flushed. While regions are written, a record where the manifest goes tells how far they
    got; with `resume`, what an earlier run of the same build left there is read, compared, and kept where it is right.

    `blocks` are the image's blocks when a pass over the source is shared with other drives; its own are read when None.
    Raises SourceError, DriveError or Interrupted, and then there is no seal.
    """
    if medium.size != image.size:
        raise DriveError(
            f"The drive has {medium.size} bytes, the plan is for {image.size}.", advice="Plan again for this drive."
        )
    with leaving_no_seal():
        claimed = claimed_bytes(image, medium) if resume else 0
        recorder = Recorder(image, medium, "build")
        _clear_ends(image, medium, recorder, claimed)
        source = blocks or Feed(image.regions).follow()
        started = time.monotonic()
        streamed = stream_blocks(
            source,
            image.bytes_to_write,
            medium,
            tell,
            stage="going on" if claimed else "writing",
            compare_below=claimed,
            hooks=Hooks(taken=recorder.taken) if image.manifest_room else Hooks(),
        )
        return finish(image, medium, tell, streamed, [*streamed.blocks, *_cleared(image)], started, verify=verify)


def claimed_bytes(image: DriveImage, medium: Medium) -> int:
    """Return how many bytes of the image's regions an unfinished drive claims to hold; 0 when it was to become another."""
    progress = read_progress(medium, image.sector_size)
    if progress is not None:
        return progress.taken if (progress.kind, progress.fingerprint) == ("build", image.fingerprint) else 0
    if any(medium.read_at(0, image.sector_size)):
        return 0
    try:
        manifest = read_manifest(medium, image.sector_size)
    except ManifestError:
        return 0
    # Interrupted between manifest and seal: everything is there.
    return image.bytes_to_write if manifest is not None and manifest.about.build == image.fingerprint.hex() else 0


class Recorder:
    """Writes the progress record behind every flush. It is surely on the medium after the next one."""

    def __init__(self, image: DriveImage, medium: Medium, kind: Kind) -> None:
        self._image, self._medium, self._kind = image, medium, kind

    def taken(self, count: int) -> None:
        starts = tuple(partition.offset for partition in self._image.partitions)
        record = pack_progress(Progress(self._kind, self._image.fingerprint, count, starts), self._image.sector_size)
        self._medium.write_at(self._image.manifest_offset, memoryview(record))


def finish(
    image: DriveImage,
    medium: Medium,
    tell: Tell,
    streamed: Streamed,
    to_verify: Sequence[tuple[int, int, bytes]],
    started: float,
    *,
    verify: bool,
) -> BuildResult:
    """Read back `to_verify`, write the manifest, and the seal last."""
    written = time.monotonic()
    manifest = manifest_of(image, streamed)
    if verify:
        _verify(medium, to_verify, tell)
    read = time.monotonic()
    # Its first sector last: until then the record of progress stands there, and an interrupted build or update goes on.
    sector = image.sector_size
    _write_checked(medium, image.manifest_offset + sector, manifest[sector:], "manifest", verify)
    _write_checked(medium, image.manifest_offset, manifest[:sector], "manifest", verify)
    for offset, data in image.tables:
        _write_checked(medium, offset, data, "partition table", verify)
    tell("sealing", 0, 1)
    try:
        _write_checked(medium, 0, image.seal, "seal", verify)
    except DriveError:
        with suppress(DriveError):  # half a seal must not stay either
            unseal(image, medium)
        raise
    tell("sealing", 1, 1)
    return BuildResult(
        bytes_written=streamed.bytes_written + len(manifest) + len(image.seal),
        bytes_found_right=sum(size for _, size, _ in streamed.blocks) - streamed.bytes_written,
        writing_seconds=written - started + time.monotonic() - read,
        reading_back_seconds=read - written,
        verified=verify,
    )


def manifest_of(image: DriveImage, streamed: Streamed) -> bytes:
    """Return the image's manifest with the hashes of what was streamed."""
    if not image.manifest_room:
        return b""
    tables = [(0, image.seal), *image.tables]
    notes = [("table" if offset == 0 else "gpt", offset, len(data)) for offset, data in tables]
    notes += [*((region.kind, region.offset, region.size) for region in image.regions)]
    digests = [*(blake3(data).digest() for _, data in tables), *(digest for _, _, digest in streamed.blocks)]
    return pack_manifest({**image.about, "build": image.fingerprint.hex()}, notes, digests, image.manifest_room)


@contextmanager
def leaving_no_seal() -> Iterator[None]:
    """Say in every error from the block that the drive is not finished, and how to go on."""
    try:
        yield
    except KeyboardInterrupt as stop:
        raise Interrupted("Stopped before the end.", advice=UNSEALED) from stop
    except KeystoneError as error:
        if UNSEALED not in error.advice:
            error.advice = f"{error.advice} {UNSEALED}".strip()
        raise


def unseal(image: DriveImage, medium: Medium) -> None:
    """Make the drive unfinished: sector 0 cleared and flushed before anything else changes."""
    medium.write_at(0, memoryview(bytes(image.sector_size)))
    medium.flush()


def _clear_ends(image: DriveImage, medium: Medium, recorder: Recorder, claimed: int) -> None:
    """Remove the old seal and old signatures: sector 0 up to the first partition, and the last MiB (a backup GPT).

    That is done again when an interrupted build goes on: a drive that lies about flushing may have lost it.
    """
    unseal(image, medium)
    medium.write_zeros(image.sector_size, image.first_partition - image.sector_size)
    if claimed:
        recorder.taken(claimed)  # back in its place, before the flush below
    tail = min(MIB, image.size - image.first_partition)
    medium.write_zeros(image.size - tail, tail)
    medium.flush()


def _cleared(image: DriveImage) -> Iterator[tuple[int, int, bytes]]:
    """Yield (offset, size, hash) of what has to be zero around the regions, to be read back like them."""
    after_manifest = max(image.manifest_offset + image.manifest_room, image.sector_size)
    end = max(region.offset + region.size for region in image.regions)
    tail = max(image.size - min(MIB, image.size - image.first_partition), end)
    before_manifest = (image.sector_size, max(image.manifest_offset, image.sector_size))
    for start, stop in (before_manifest, (after_manifest, image.first_partition), (tail, image.size)):
        for at in range(start, stop, BLOCK):
            size = min(BLOCK, stop - at)
            yield at, size, blake3(bytes(size)).digest()


def _verify(medium: Medium, blocks: Sequence[tuple[int, int, bytes]], tell: Tell) -> None:
    medium.forget_cache()
    wrong = read_back(blocks, medium, tell)
    if wrong:
        offset, size, _ = blocks[wrong[0]]
        raise DriveError(
            f"Read back {len(wrong)} of {len(blocks)} blocks differently from what was written, "
            f"the first at bytes {offset} to {offset + size - 1}.",
            advice="The drive does not keep what it is given: 'lucky-keystone gauge' tells what it really holds. Use another one.",
        )


def _write_checked(medium: Medium, offset: int, data: bytes, name: str, verify: bool) -> None:
    if not data:
        return
    medium.write_at(offset, memoryview(data))
    medium.flush()
    if verify:
        medium.forget_cache()
        if medium.read_at(offset, len(data)) != data:
            raise DriveError(f"The {name} was not kept by the drive (byte {offset}).", advice="Use another drive.")
