"""Builds a drive: the order of writing, and the seal last."""

from __future__ import annotations

import time
from dataclasses import dataclass

from blake3 import blake3

from ..content import Tell
from ..errors import DriveError, Interrupted, KeystoneError
from ..extents import MIB
from .compose import DriveImage
from .manifest import pack_manifest
from .stream import Target, blocks_of, read_back, stream_regions


@dataclass(frozen=True)
class BuildResult:
    """What a build did. Times in seconds."""

    bytes_written: int
    writing_seconds: float
    reading_back_seconds: float
    verified: bool


_NO_SEAL = "The drive has no seal: nothing takes it for finished. Build again to start over."


def build(image: DriveImage, target: Target, tell: Tell, *, verify: bool = True) -> BuildResult:
    """Write `image` to `target`. Until the very last write nothing on the drive looks finished.

    Order: both ends cleared and flushed; regions in rising order; flushed; read back; manifest; flushed; sector 0;
    flushed. Raises SourceError, DriveError or Interrupted, and then there is no seal.
    """
    if target.size != image.size:
        raise DriveError(f"The drive has {target.size} bytes, the plan is for {image.size}.", advice="Plan again for this drive.")
    try:
        return _build(image, target, tell, verify)
    except KeyboardInterrupt as stop:
        raise Interrupted("Stopped before the end.", advice=_NO_SEAL) from stop
    except KeystoneError as error:
        error.advice = f"{error.advice} {_NO_SEAL}".strip()
        raise


def _build(image: DriveImage, target: Target, tell: Tell, verify: bool) -> BuildResult:
    started = time.monotonic()
    _clear_ends(image, target)
    digests = stream_regions(image.regions, target, tell)
    written = time.monotonic()
    manifest = _manifest(image, digests)
    if verify:
        _verify(image, target, digests, tell)
    read = time.monotonic()
    _write_checked(target, image.manifest_offset, manifest, "manifest", verify)
    tell("sealing", 0, 1)
    _write_checked(target, 0, image.seal, "seal", verify)
    tell("sealing", 1, 1)
    finished = time.monotonic()
    return BuildResult(
        bytes_written=image.bytes_to_write + len(manifest) + len(image.seal),
        writing_seconds=written - started + finished - read,
        reading_back_seconds=read - written,
        verified=verify,
    )


def _clear_ends(image: DriveImage, target: Target) -> None:
    """Remove the old seal and old signatures: sector 0 up to the first partition, and the last MiB (a backup GPT)."""
    target.write_at(0, memoryview(bytes(image.sector_size)))
    target.flush()
    target.write_zeros(image.sector_size, image.first_partition - image.sector_size)
    tail = min(MIB, image.size - image.first_partition)
    target.write_zeros(image.size - tail, tail)
    target.flush()


def _manifest(image: DriveImage, digests: list[bytes]) -> bytes:
    notes = [("table", 0, len(image.seal)), *((region.kind, region.offset, region.size) for region in image.regions)]
    return pack_manifest(image.about, notes, [blake3(image.seal).digest(), *digests], image.manifest_room)


def _verify(image: DriveImage, target: Target, digests: list[bytes], tell: Tell) -> None:
    target.forget_cache()
    blocks = [(offset, size, digest) for (offset, size), digest in zip(blocks_of(image.regions), digests, strict=True)]
    wrong = read_back(blocks, target, tell)
    if wrong:
        offset, size, _ = blocks[wrong[0]]
        raise DriveError(
            f"Read back {len(wrong)} of {len(blocks)} blocks differently from what was written, "
            f"the first at bytes {offset} to {offset + size - 1}.",
            advice="The drive does not keep what it is given: use another one.",
        )


def _write_checked(target: Target, offset: int, data: bytes, name: str, verify: bool) -> None:
    target.write_at(offset, memoryview(data))
    target.flush()
    if verify:
        target.forget_cache()
        if target.read_at(offset, len(data)) != data:
            raise DriveError(f"The {name} was not kept by the drive (byte {offset}).", advice="Use another drive.")
