"""Builds a drive: the order of writing, the seal last, and continuing after an interruption."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import NamedTuple

from blake3 import blake3
from msgspec import Struct

from ..common.errors import DriveError, Interrupted, KeystoneError
from ..common.progress import Progress, silent
from ..content.contents import BLOCK
from ..content.regions import RegionKind
from ..drives.medium import Medium
from ..drives.readback import read_back
from ..manifest.format import pack_manifest
from ..manifest.shelf import NoShelf, Shelf
from ..manifest.unfinished import UNKNOWN
from .feed import Block, Feed
from .image import DriveImage
from .keeping import Keeper, write_checked
from .stream import Hooks, Streamed, stream_blocks


class BuildResult(Struct, frozen=True):
    """What a build did. Times in seconds."""

    bytes_written: int
    bytes_found_right: int
    """Bytes that were there already, from an interrupted build or before an update."""
    writing_seconds: float
    reading_back_seconds: float
    verified: bool
    source_was_read: bool = True
    """False when an update believed the drive's manifest."""


def nothing_to_prove(progress: Progress) -> None:
    """Prove nothing: the source lies on this computer."""


UNSEALED = (
    "The drive is not finished, and no system will treat it as if it were. Run the same command again to continue."
)


def build(
    image: DriveImage,
    medium: Medium,
    progress: Progress,
    *,
    verify: bool = True,
    resume: bool = True,
    blocks: Iterator[Block] | None = None,
    shelf: Shelf | None = None,
    prove: Callable[[Progress], None] = nothing_to_prove,
) -> BuildResult:
    """Write `image` to `medium`. Until the very last write nothing on the drive looks finished.

    Order: both ends cleared and flushed; regions in rising order; flushed; read back; manifest; flushed; of a GPT both
    copies, flushed; sector 0; flushed. While regions are written, a record where the manifest goes says how far they
    got; with `resume`, what an earlier run of the same build left there is read, compared, and kept where it is right.
    To a drive that this very build finished, and that is right, nothing is written.

    `blocks` are the image's blocks when a pass over the source is shared with other drives; its own are read when None.
    `shelf` keeps progress and manifest where the drive has no room for them. `prove` raises SourceError where what was
    read of the source turns out to be wrong in the end; it is asked before the drive is finished.
    Raises SourceError, DriveError or Interrupted, and then there is no seal.
    """
    if medium.size != image.size:
        raise DriveError(
            f"The drive has {medium.size} bytes, the plan is for {image.size}.", advice="Plan again for this drive."
        )
    with leaving_no_seal():
        keeper = Keeper(image, medium, shelf or NoShelf())
        keeper.forget_what_was_kept()
        stands = resume and is_built(image, medium, keeper)
        claim = claim_of(image, medium, keeper) if resume else NOTHING_CLAIMED

        def begin() -> None:
            _clear_ends(image, medium, keeper, claim)

        hooks = Hooks(taken=lambda count, digest: keeper.taken("build", count, digest))
        if stands:
            hooks.before_first_write = begin
        else:
            begin()
        source = blocks or Feed(image.regions).follow()
        started = time.monotonic()
        streamed = stream_blocks(
            source,
            image.bytes_to_write,
            medium,
            progress,
            stage="continuing" if claim.size else "writing",
            compare_below=claim.size,
            hooks=hooks,
        )
        to_verify = [*streamed.blocks, *_cleared(image)]
        prove(progress)
        if stands and not streamed.written:
            if _is_whole(image, medium, keeper, streamed):
                count = sum(size for _, size, _ in streamed.blocks)
                return BuildResult(0, count, time.monotonic() - started, 0.0, verified=True)
            begin()
        return finish(image, medium, progress, streamed, to_verify, started, keeper, verify=verify)


class Claim(NamedTuple):
    """What an unfinished drive says that it holds of an image's regions."""

    size: int
    """Bytes; 0 when it was to become another."""
    digest: bytes
    """BLAKE3 of the hashes of all blocks among them; UNKNOWN where nothing says it."""


NOTHING_CLAIMED = Claim(0, UNKNOWN)


def claim_of(image: DriveImage, medium: Medium, keeper: Keeper) -> Claim:
    """Return what an unfinished drive claims to hold of the image's regions."""
    if any(medium.read_at(0, image.sector_size)):
        return Claim(image.bytes_to_write, UNKNOWN) if is_built(image, medium, keeper) else NOTHING_CLAIMED
    state = keeper.unfinished()
    if state is not None:
        is_ours = (state.kind, state.fingerprint) == ("build", image.fingerprint)
        return Claim(state.taken, state.digest) if is_ours else NOTHING_CLAIMED
    # Interrupted between manifest and seal: everything is there.
    manifest = keeper.manifest()
    is_ours = manifest is not None and manifest.about.build == image.fingerprint.hex()
    return Claim(image.bytes_to_write, UNKNOWN) if is_ours else NOTHING_CLAIMED


def is_built(image: DriveImage, medium: Medium, keeper: Keeper) -> bool:
    """Tell whether a drive is finished, and by this very build. Only its seal and manifest are read."""
    if medium.size != image.size or medium.read_at(0, len(image.seal)) != image.seal:
        return False
    manifest = keeper.manifest()
    return manifest is not None and manifest.about.build == image.fingerprint.hex()


def _is_whole(image: DriveImage, medium: Medium, keeper: Keeper, streamed: Streamed) -> bool:
    """Tell whether a finished drive, whose regions are right, is so around them as well."""
    tables = ((0, image.seal), *image.tables)
    return (
        all(medium.read_at(offset, len(data)) == data for offset, data in tables)
        and not read_back(list(_cleared(image)), medium, silent)
        and keeper.holds(manifest_of(image, streamed))
    )


def finish(
    image: DriveImage,
    medium: Medium,
    progress: Progress,
    streamed: Streamed,
    to_verify: Sequence[tuple[int, int, bytes]],
    started: float,
    keeper: Keeper,
    *,
    verify: bool,
) -> BuildResult:
    """Read back `to_verify`, write the manifest, and the seal last."""
    written = time.monotonic()
    manifest = manifest_of(image, streamed)
    if verify:
        _verify(medium, to_verify, progress)
    read = time.monotonic()
    keeper.write(manifest, verify=verify)
    for offset, data in image.tables:
        write_checked(medium, offset, data, "partition table", verify=verify)
    progress("sealing", 0, 1)
    try:
        write_checked(medium, 0, image.seal, "seal", verify=verify)
    except DriveError:
        with suppress(DriveError):  # half a seal must not stay either
            unseal(image, medium)
        raise
    progress("sealing", 1, 1)
    return BuildResult(
        bytes_written=streamed.bytes_written + len(manifest) + len(image.seal),
        bytes_found_right=sum(size for _, size, _ in streamed.blocks) - streamed.bytes_written,
        writing_seconds=written - started + time.monotonic() - read,
        reading_back_seconds=read - written,
        verified=verify,
    )


def manifest_of(image: DriveImage, streamed: Streamed) -> bytes:
    """Return the image's manifest with the hashes of what was streamed; b"" for a drive that gets none."""
    if not image.about.get("source"):
        return b""
    tables = [(0, image.seal), *image.tables]
    notes = noted_regions(image)
    digests = [*(blake3(data).digest() for _, data in tables), *(digest for _, _, digest in streamed.blocks)]
    return pack_manifest({**image.about, "build": image.fingerprint.hex()}, notes, digests, image.manifest_room)


def noted_regions(image: DriveImage) -> list[tuple[RegionKind, int, int]]:
    """Return kind, offset and size of everything that the manifest has hashes of, in its order."""
    tables = [(0, image.seal), *image.tables]
    notes = [(RegionKind.TABLE if offset == 0 else RegionKind.GPT, offset, len(data)) for offset, data in tables]
    return notes + [(region.kind, region.offset, region.size) for region in image.regions]


@contextmanager
def leaving_no_seal() -> Iterator[None]:
    """Say in every error from the block that the drive is not finished, and how to continue."""
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


def _clear_ends(image: DriveImage, medium: Medium, keeper: Keeper, claim: Claim) -> None:
    """Remove the old seal and old signatures: sector 0 up to the first partition, and the last MiB (a backup GPT).

    That is done again when an interrupted build continues: a drive that lies about flushing may have lost it.
    """
    unseal(image, medium)
    for start, end in image.cleared_first:
        medium.write_zeros(start, end - start)
    # Before the first byte: whatever becomes of this run, the next one knows what was begun.
    keeper.taken("build", claim.size, claim.digest)
    medium.flush()


def _cleared(image: DriveImage) -> Iterator[tuple[int, int, bytes]]:
    """Yield (offset, size, hash) of what has to be zero around the regions, to be read back like them."""
    for start, stop in image.zeros:
        for at in range(start, stop, BLOCK):
            size = min(BLOCK, stop - at)
            yield at, size, blake3(bytes(size)).digest()


def _verify(medium: Medium, blocks: Sequence[tuple[int, int, bytes]], progress: Progress) -> None:
    medium.forget_cache()
    wrong = read_back(blocks, medium, progress)
    if wrong:
        offset, size, _ = blocks[wrong[0]]
        raise DriveError(
            f"Read back {len(wrong)} of {len(blocks)} blocks differently from what was written, "
            f"the first at bytes {offset} to {offset + size - 1}.",
            advice="The drive does not keep what it is given: 'lucky-keystone gauge' measures what it really holds. "
            "Use another one.",
        )
