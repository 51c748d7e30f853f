"""Updates a drive we built: a new source, or new choices, with only what differs written.

What the drive holds is read with the readers of `volumes`, as `check` does. A file whose path and size are unchanged
keeps
its place; every block is compared with what it has to be, and written when it differs. Before the first of them the
drive
is unsealed, so an update that is interrupted is as safe as a build, and the same command goes on.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass

from ..content import Tell
from ..drives.medium import Medium
from ..drives.readback import read_back
from ..errors import KeystoneError, ProtectError
from ..families.choices import Choices
from ..manifest.format import Manifest, ManifestError, VolumeNote, read_manifest
from ..manifest.unfinished import read_progress
from ..planning.plan import DriveShape, Plan
from ..planning.rules import make_plan
from ..planning.volumes import FileSystem, StandingVolume
from ..sources.source import Source
from ..tables.table import read_table
from ..volumes.fat32.geometry import Geometry as Fat32Geometry
from ..volumes.fat32.read import Entry as Fat32Entry
from ..volumes.ntfs.essence import changed_records
from ..volumes.ntfs.geometry import Geometry as NtfsGeometry
from ..volumes.ntfs.read import Entry as NtfsEntry
from ..volumes.ntfs.read import NtfsVolume
from ..volumes.opening import AnyVolume, open_volume
from ..volumes.volume import Entry
from .build import BuildResult, Recorder, finish, leaving_no_seal, manifest_of, unseal
from .compose import DriveImage
from .feed import Feed
from .stream import Hooks, stream_blocks

_ANEW = "Build it anew, without --update."
_HOUSEKEEPING = ("SYSTEM VOLUME INFORMATION", "$RECYCLE.BIN", ".SPOTLIGHT-V100", ".FSEVENTSD", ".TRASHES", ".DS_STORE")


@dataclass(frozen=True)
class Standing:
    """A drive as it was found for updating."""

    volumes: tuple[StandingVolume, ...]
    manifest: Manifest | None
    """None when an earlier update was interrupted."""


def read_standing(medium: Medium, sector_size: int) -> Standing:
    """Read what is on a drive that is to be updated. Raises ProtectError with the reason where that cannot be.

    Of an update that was interrupted, places are read as far as they can be: they are no more than wishes, since every
    block is compared.
    """
    progress = read_progress(medium, sector_size)
    try:
        manifest = read_manifest(medium, sector_size)
    except ManifestError as error:
        raise ProtectError(
            f"The drive cannot be updated: its manifest is damaged ({error.message}).", advice=_ANEW
        ) from error
    if manifest is not None:
        notes: list[VolumeNote | None] = [*sorted(manifest.about.volumes, key=lambda note: note.offset)]
        starts = [note.offset for note in notes if note]
    elif progress is not None and progress.kind == "update":
        starts = list(progress.volume_offsets)
        notes = [None] * len(starts)
    else:
        what = "its build was not finished" if progress else "it was not built by this program, or its manifest is gone"
        raise ProtectError(f"The drive cannot be updated: {what}.", advice=_ANEW)
    table = read_table(medium, sector_size)
    if table is not None and [partition.first_lba * sector_size for partition in table.partitions] != starts:
        raise ProtectError("The drive cannot be updated: its table is not the one that was built.", advice=_ANEW)
    ends = [*starts[1:], medium.size]
    return Standing(
        tuple(
            _standing_volume(medium, start, end - start, note)
            for start, end, note in zip(starts, ends, notes, strict=True)
        ),
        manifest,
    )


def _standing_volume(medium: Medium, start: int, size: int, note: VolumeNote | None) -> StandingVolume:
    """Read one volume. `note` is what the manifest tells of it, None when an earlier update was interrupted."""
    try:
        volume = open_volume(medium, start, size)
        entries, faults = _entries(volume)
    except KeystoneError as error:
        raise ProtectError(
            f"The drive cannot be updated: its volume cannot be read ({error.message}).", advice=_ANEW
        ) from error
    if note is not None:
        if faults:
            raise ProtectError(f"The drive cannot be updated: its volume is damaged ({faults[0]}).", advice=_ANEW)
        _refuse_others_files(_others(volume, entries, note))
    places = {
        entry.path.upper(): (entry.runs[0].first, entry.size)
        for entry in entries
        if not entry.is_folder and len(entry.runs) == 1 and not entry.runs[0].is_hole
    }
    kind: FileSystem = "ntfs" if isinstance(volume, NtfsVolume) else "fat32"
    return StandingVolume(kind, _geometry(volume), places)


def _entries(volume: AnyVolume) -> tuple[Sequence[Entry], list[str]]:
    """Return the volume's entries as far as they can be read, and what is wrong with them."""
    entries: list[Entry] = []
    try:
        for entry in volume.walk():
            entries.append(entry)
    except KeystoneError as error:
        return entries, [error.message]
    return entries, [f"{entry.path}: {fault}" for entry in entries for fault in entry.faults]


def _others(volume: AnyVolume, entries: Sequence[Entry], note: VolumeNote) -> list[str]:
    """Return the paths of what was not built."""
    if isinstance(volume, NtfsVolume):
        changed, added = changed_records(volume, note.records)
        new = {*changed, *added}
        return [entry.path for entry in entries if isinstance(entry, NtfsEntry) and entry.number in new]
    return [entry.path for entry in entries if isinstance(entry, Fat32Entry) and note.was_free(entry.first_cluster)]


def plan_update(source: Source, choices: Choices, drive: DriveShape, standing: Standing) -> Plan:
    """Decide how the drive becomes one of `source`. Raises as `make_plan` does."""
    return make_plan(source, choices, drive, standing.volumes)


def update(image: DriveImage, medium: Medium, standing: Standing, tell: Tell, *, verify: bool = True) -> BuildResult:
    """Bring the drive to `image`, writing only blocks that differ; nothing at all when none does.

    Raises SourceError, DriveError or Interrupted; once anything was written there is no seal then.
    """
    started = time.monotonic()
    medium.forget_cache()
    if _is_unchanged(image, medium, standing, tell):
        return BuildResult(0, image.bytes_to_write, 0.0, time.monotonic() - started, verified=True)
    with leaving_no_seal():
        recorder = Recorder(image, medium, "update")

        def begin() -> None:
            unseal(image, medium)
            recorder.taken(0)
            medium.flush()

        streamed = stream_blocks(
            Feed(image.regions).follow(),
            image.bytes_to_write,
            medium,
            tell,
            stage="comparing",
            compare_below=image.bytes_to_write,
            hooks=Hooks(before_first_write=begin),
        )
        if not streamed.written:
            parts = [(0, image.seal), (image.manifest_offset, manifest_of(image, streamed)), *image.tables]
            if all(medium.read_at(offset, len(data)) == data for offset, data in parts):
                return BuildResult(0, image.bytes_to_write, 0.0, time.monotonic() - started, verified=True)
            begin()
        written = [streamed.blocks[index] for index in streamed.written]
        return finish(image, medium, tell, streamed, written, started, verify=verify)


def _is_unchanged(image: DriveImage, medium: Medium, standing: Standing, tell: Tell) -> bool:
    """True when the drive is what it has to become, byte by byte.

    A source of the same fingerprint (every path, size and time) built this very drive: then its manifest says what has
    to be there, and the source need not be read.
    """
    manifest = standing.manifest
    if manifest is None or manifest.about.build != image.fingerprint.hex():
        return False
    blocks = [(offset, size, digest) for _, offset, size, digest in manifest.blocks()]
    return not read_back(blocks, medium, tell, "comparing")


def _geometry(volume: AnyVolume) -> Fat32Geometry | NtfsGeometry:
    if isinstance(volume, NtfsVolume):
        measures = volume.boot
        return NtfsGeometry(
            volume.sector_size, volume.cluster_size, measures.hidden_sectors, measures.total_sectors + 1
        )
    boot = volume.boot
    return Fat32Geometry(
        sector_size=boot.BPB_BytsPerSec,
        cluster_size=volume.cluster_size,
        hidden=boot.BPB_HiddSec,
        total=boot.BPB_TotSec32,
        reserved=boot.BPB_RsvdSecCnt,
        fat=boot.BPB_FATSz32,
    )


def _refuse_others_files(paths: Sequence[str]) -> None:
    """Raise ProtectError when someone's files lie on the drive; what systems leave behind by themselves is not meant."""
    found = [
        path
        for path in paths
        if not path.upper().startswith(_HOUSEKEEPING) and not path.rpartition("/")[2].startswith("._")
    ]
    if found:
        named = ", ".join(found[:5]) + (f" and {len(found) - 5} more" if len(found) > 5 else "")
        raise ProtectError(
            f"The drive holds what was not built, and an update would lose it: {named}.",
            advice="Copy it elsewhere and delete it from the drive, or build the drive anew, without --update.",
        )
