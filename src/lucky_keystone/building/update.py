"""Updates a drive we built: a new source, or new choices, with only what differs written.

What the drive holds is read with the readers of `volumes`, as `check` does. A file whose path and size are unchanged
keeps its place; every block is compared with what it has to be, and written when it differs. Before the first of them
the drive is unsealed, so an update that is interrupted is as safe as a build, and the same command continues it.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from itertools import pairwise

from msgspec import Struct

from ..checking.volumes.checkers import CHECKERS
from ..common.errors import KeystoneError, ProtectError
from ..common.progress import Progress
from ..drives.medium import Medium
from ..drives.readback import read_back
from ..manifest.format import Manifest, ManifestError, read_manifest
from ..manifest.shelf import NoShelf
from ..manifest.unfinished import read_unfinished
from ..planning.fitting import FROM_SCRATCH
from ..tables.table import read_table
from ..volumes.housekeeping import is_housekeeping
from ..volumes.kind import StandingVolume
from ..volumes.kinds import COMPOSED, open_volume
from ..volumes.note import VolumeNote
from ..volumes.volume import Entry, Volume
from .build import BuildResult, finish, leaving_no_seal, manifest_of, noted_regions, nothing_to_prove, unseal
from .feed import Feed
from .image import DriveImage
from .keeping import Keeper
from .stream import Hooks, stream_blocks

_LISTED = 5


class Standing(Struct, frozen=True):
    """A drive as it was found for updating."""

    volumes: tuple[StandingVolume, ...]
    manifest: Manifest | None
    """None when an earlier update was interrupted."""


def read_standing(medium: Medium, sector_size: int) -> Standing:
    """Read what is on a drive that is to be updated. Raises ProtectError with the reason where it cannot be updated.

    Of an update that was interrupted, places are read as far as they can be: they are no more than wishes, since every
    block is compared.
    """
    state = read_unfinished(medium, sector_size)
    try:
        manifest = read_manifest(medium, sector_size)
    except ManifestError as error:
        raise _refusal(f"its manifest is damaged ({error.message})") from error
    if manifest is not None and manifest.about.image_size:
        raise _refusal("a raw image was written onto it, which is written as a whole or not at all")
    if manifest is not None:
        notes: list[VolumeNote | None] = [*sorted(manifest.about.volumes, key=lambda note: note.offset)]
        starts = [note.offset for note in notes if note]
    elif state is not None and state.kind == "update":
        starts = list(state.volume_offsets)
        notes = [None] * len(starts)
    else:
        raise _refusal(
            "its build was not completed" if state else "it was not built by this program, or its manifest is gone"
        )
    if not starts or any(first >= second for first, second in pairwise([0, *starts, medium.size])):
        raise _refusal("its description of the volumes is invalid")
    table = read_table(medium, sector_size)
    if table is not None and [partition.first_lba * sector_size for partition in table.partitions] != starts:
        raise _refusal("its table is not the one that was built")
    ends = [*starts[1:], medium.size]
    volumes = (
        _standing_volume(medium, start, end - start, note) for start, end, note in zip(starts, ends, notes, strict=True)
    )
    return Standing(tuple(volumes), manifest)


def _refusal(why: str) -> ProtectError:
    return ProtectError(f"The drive cannot be updated: {why}.", advice=FROM_SCRATCH)


def _standing_volume(medium: Medium, start: int, size: int, note: VolumeNote | None) -> StandingVolume:
    """Read one volume. `note` is what the manifest says of it, None when an earlier update was interrupted."""
    try:
        kind, volume = open_volume(medium, start, size)
        entries, faults = _entries(volume)
    except KeystoneError as error:
        raise _refusal(f"its volume cannot be read ({error.message})") from error
    if kind.name not in COMPOSED:
        raise _refusal(f"its volume is {kind.shown} now")
    if note is not None:
        if faults:
            raise _refusal(f"its volume is damaged ({faults[0]})")
        if note.file_system != kind.name:
            raise _refusal(f"its volume is {kind.shown} now")
        _refuse_others_files([entry.path for entry in CHECKERS[kind.name].added(volume, entries, note)])
    places = {
        entry.path.upper(): (entry.runs[0].first, entry.size)
        for entry in entries
        if not entry.is_folder and len(entry.runs) == 1 and not entry.runs[0].is_hole
    }
    composed = COMPOSED[kind.name]
    return StandingVolume(composed, composed.geometry_of(volume), volume.cluster_size, places)


def _entries(volume: Volume) -> tuple[Sequence[Entry], list[str]]:
    """Return the volume's entries as far as they can be read, and what is wrong with them."""
    entries: list[Entry] = []
    try:
        for entry in volume.walk():
            entries.append(entry)
    except KeystoneError as error:
        return entries, [error.message]
    return entries, [f"{entry.path}: {fault}" for entry in entries for fault in entry.faults]


def update(
    image: DriveImage,
    medium: Medium,
    standing: Standing,
    progress: Progress,
    *,
    verify: bool = True,
    quick: bool = False,
    prove: Callable[[Progress], None] = nothing_to_prove,
) -> BuildResult:
    """Bring the drive to `image`, writing only blocks that differ; nothing at all when none does.

    Every block is compared with the source. With `quick` a source whose names, sizes and times are those the drive was
    built from is not read: the drive is then compared with its own manifest, which is believed. `prove` is as for a
    build.

    Raises SourceError, DriveError or Interrupted; once anything was written there is no seal then.
    """
    started = time.monotonic()
    medium.forget_cache()
    if quick and _is_unchanged(image, medium, standing, progress):
        seconds = time.monotonic() - started
        return BuildResult(0, image.bytes_to_write, 0.0, seconds, verified=True, source_was_read=False)
    with leaving_no_seal():
        keeper = Keeper(image, medium, NoShelf())

        def begin() -> None:
            unseal(image, medium)
            keeper.taken("update", 0)
            medium.flush()

        streamed = stream_blocks(
            Feed(image.regions).follow(),
            image.bytes_to_write,
            medium,
            progress,
            stage="comparing",
            compare_below=image.bytes_to_write,
            hooks=Hooks(before_first_write=begin),
        )
        prove(progress)
        if not streamed.written:
            assert image.manifest_offset is not None
            parts = [(0, image.seal), (image.manifest_offset, manifest_of(image, streamed)), *image.tables]
            if all(medium.read_at(offset, len(data)) == data for offset, data in parts):
                return BuildResult(0, image.bytes_to_write, 0.0, time.monotonic() - started, verified=True)
            begin()
        written = [streamed.blocks[index] for index in streamed.written]
        return finish(image, medium, progress, streamed, written, started, keeper, verify=verify)


def _is_unchanged(image: DriveImage, medium: Medium, standing: Standing, progress: Progress) -> bool:
    """True when the drive is what it has to become, byte by byte, if its manifest is right.

    A source of the same fingerprint (every path, size and time) built this very drive then.
    """
    manifest = standing.manifest
    if manifest is None or manifest.about.build != image.fingerprint.hex():
        return False
    if [(note.kind, note.offset, note.size) for note in manifest.about.regions] != noted_regions(image):
        return False
    if any(medium.read_at(offset, len(data)) != data for offset, data in ((0, image.seal), *image.tables)):
        return False
    blocks = [(offset, size, digest) for _, offset, size, digest in manifest.blocks()]
    return not read_back(blocks, medium, progress, "comparing")


def _refuse_others_files(paths: Sequence[str]) -> None:
    """Raise ProtectError when someone's files lie on the drive.

    What systems leave behind by themselves does not count.
    """
    found = [path for path in paths if not is_housekeeping(path)]
    if found:
        named = ", ".join(found[:_LISTED]) + (f" and {len(found) - _LISTED} more" if len(found) > _LISTED else "")
        raise ProtectError(
            f"The drive holds files that were not built onto it, and an update would lose them: {named}.",
            advice="Copy them elsewhere and delete them from the drive, or build it from scratch, without --update.",
        )
