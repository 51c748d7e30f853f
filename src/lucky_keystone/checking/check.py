"""Checks a whole drive: table, volumes, contents, and the way it starts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, ParamSpec

from msgspec import Struct

from ..common.progress import Progress
from ..common.units import SECTOR_SIZES
from ..content.contents import SizedReadable
from ..content.extents import align_up
from ..drives.medium import Medium
from ..machine.known import KnownMachine, outlooks_of
from ..manifest.format import EarlierManifest, Manifest, ManifestError, read_manifest, unpack_manifest
from ..manifest.unfinished import Unfinished, unfinished_on
from ..starting.bootable import ReadBootVolume, ReadDrive
from ..starting.trust import ANY_MACHINE, Machine
from ..tables.gpt import SIGNATURE as GPT_SIGNATURE
from ..tables.mbr import read_mbr
from ..tables.table import Partition, Table
from ..volumes.kinds import KINDS
from . import inspections
from .bootwalk import walk_boot
from .codes import Code
from .contents import check_contents, judge
from .found import FoundVolume
from .report import Place, Report
from .search import find_volumes
from .tables import NO_TABLE, check_table
from .views import Front

if TYPE_CHECKING:
    from ..sources.source import Source

_P = ParamSpec("_P")
_REBUILD = "Build the drive again."
_UNGUARDED = (Code.TABLE_MISSING, Code.GPT_NO_PROTECTIVE)
"""Whatever volumes there are, firmware does not look for them."""


class Examined(Struct, frozen=True):
    """A drive as a check found it: what it reports, and what that was found in."""

    report: Report
    sector_size: int
    table: Table
    partitions: Sequence[Partition]
    """Of the table, or where volumes were looked for instead."""
    volumes: Sequence[FoundVolume]
    manifest: Manifest | None
    walked: ReadDrive
    """What firmware sees."""


def check_whole(
    drive: Medium,
    progress: Progress,
    *,
    sector_size: int | None = None,
    contents: bool = True,
    machine: Machine = ANY_MACHINE,
    kept: bytes | None = None,
    firmware: str = "",
    against: Source | None = None,
    machines: Sequence[KnownMachine] = (),
) -> Examined:
    """Check `drive` without writing to it. `contents=False` leaves out what a build has just read back.

    `sector_size` (bytes) is found out when None. `machine` is what it is to start. `kept` is a manifest that this
    computer keeps for the drive, which counts when the drive carries none. `firmware` ('bios', 'uefi' or 'both') is
    what it is to start on; '' for what its manifest says. Every file is compared with the source `against`; raises
    SourceError where that cannot be read. The report says of each of `machines` whether the drive starts there.
    """
    sector = sector_size or find_sector_size(drive, kept)
    report = Report()
    if (unfinished := unfinished_on(drive, sector, kept)) is not None:
        return _unfinished(unfinished, sector, report)
    manifest = _manifest(drive, sector, kept, report)
    wrong = check_contents(drive, manifest, progress) if manifest and contents else []
    seen = _examine(drive, sector, manifest, report, machine, firmware, contents=contents)
    report.on_machines = outlooks_of(machines, seen.walked)
    if contents:
        for verify in inspections.OF_CONTENTS:
            verify(seen.walked, progress, report)
    if any(found.code in _UNGUARDED for found in report.findings):
        wrong = [block for block in wrong if block[1] > 0]  # sector 0 was lost: that is said
    if manifest:
        judge(drive, manifest, wrong, seen.volumes, report)
    for tell in inspections.NOTES:
        tell(seen.volumes, report)
    progress("checking structure", 1, 1)
    if against is not None:
        from .against import compare_with_source  # loads all that reads sources

        laid_over = manifest.about.laid_over if manifest else ()
        parts = [part.name for part in manifest.about.parts] if manifest else []
        compare_with_source(against, drive, seen.volumes, progress, report, laid_over, parts)
    return seen


def _unfinished(found: Unfinished, sector_size: int, report: Report) -> Examined:
    """Report a drive that is not finished: of its table and its volumes nothing is to be expected."""
    report.fault(Code.MANIFEST_UNFINISHED, "drive", f"{found.shown}.", found.next_step)
    return Examined(report, sector_size, NO_TABLE, (), [], None, ReadDrive(None, sector_size, []))


def _reported(check: Callable[_P, Examined]) -> Callable[_P, Report]:
    def checked(*arguments: _P.args, **named: _P.kwargs) -> Report:
        return check(*arguments, **named).report

    return checked


check_drive = _reported(check_whole)
"""What `check_whole` reports, without what that was found in."""


def examine_drive(drive: SizedReadable, sector_size: int, *, kept: bytes | None = None, firmware: str = "") -> Examined:
    """Look at the structure of `drive` and the way it starts, as a check does, and at no file's bytes but loaders'.

    The parameters are those of `check_drive`.
    """
    report = Report()
    manifest = _manifest(drive, sector_size, kept, report)
    return _examine(drive, sector_size, manifest, report, ANY_MACHINE, firmware, contents=False)


def _examine(
    drive: SizedReadable,
    sector: int,
    manifest: Manifest | None,
    report: Report,
    machine: Machine,
    firmware: str,
    *,
    contents: bool,
) -> Examined:
    if manifest:
        _tell_manifest(drive, manifest, sector, report, contents=contents)
    elif not report.unknown:
        report.unknown.append("no manifest, so the files cannot be verified.")
    image_size = manifest.about.image_size if manifest else 0
    # A raw image brings its own table, whose copy lies at the image's end and not at the drive's.
    view: SizedReadable = Front(drive, image_size) if image_size else drive
    table, partitions = check_table(view, sector, manifest, report)
    found = find_volumes(view, partitions, sector, report)
    counts = table.style or not any(found.code in _UNGUARDED for found in report.findings)
    walked = [_walked(volume, view) for volume in found if counts and volume.firmware_sees_it]
    if not image_size:
        for inspect in inspections.OF_TREES:
            inspect(found, report)
    seen_drive = ReadDrive(table if table.style else None, sector, walked)
    if (partitions and found) or image_size:
        wanted: Sequence[str] = manifest.about.starts_on if manifest else ()
        if firmware:
            wanted = ("bios", "uefi") if firmware == "both" else (firmware,)
        report.starts = walk_boot(seen_drive, report, machine, wanted)
    elif table.style and not any(partition.expects_volume for partition in partitions):
        names = " or ".join(kind.shown for kind in KINDS.values())
        report.unknown.append(f"no {names} volume, and other volumes are not supported.")
    return Examined(report, sector, table, partitions, found, manifest, seen_drive)


def _walked(volume: FoundVolume, drive: SizedReadable) -> ReadBootVolume:
    seen = ReadBootVolume(volume.kind, volume.volume, volume.partition, drive)
    for read in inspections.READ_BESIDE:
        seen = read(seen)
    return seen


def find_sector_size(drive: SizedReadable, kept: bytes | None) -> int:
    """Return the sector size the drive was made with, in bytes.

    A manifest says it, the place of a GPT's header, or the boot sector of the first partition.
    """
    if kept is not None:
        with suppress(ManifestError):
            return unpack_manifest(kept, drive.size).about.sector_size
    table = read_mbr(drive.read_at(0, 512), drive.size // 512) if drive.size >= 512 else None
    for size in SECTOR_SIZES:
        try:
            if found := read_manifest(drive, size):
                return found.about.sector_size
        except ManifestError:
            return size
        if drive.size >= size + 8 and drive.read_at(size, 8) == GPT_SIGNATURE:
            return size
        for partition in table.partitions if table else ():
            offset = partition.first_lba * size
            if offset + 512 <= drive.size and size in (kind.sector_size_at(drive, offset) for kind in KINDS.values()):
                return size
    return 512


# -- the manifest ----------------------------------------------------------------------------------------------------


def _manifest(drive: SizedReadable, sector_size: int, kept: bytes | None, report: Report) -> Manifest | None:
    try:
        found = read_manifest(drive, sector_size)
        if found is None and kept is not None:
            found = unpack_manifest(kept, drive.size)
    except EarlierManifest:
        what = "built by an earlier version of this program, so it cannot be verified."
        report.note(Code.MANIFEST_EARLIER, "manifest", what)
        report.unknown.append("its files cannot be verified: its manifest is of an earlier version.")
        return None
    except ManifestError as error:
        what = f"the manifest is damaged: {error.message}."
        advice = "The drive lost data or something wrote over it: build it again."
        report.fault(Code.MANIFEST_DAMAGED, "manifest", what, advice)
        return None
    return found


def _tell_manifest(drive: SizedReadable, manifest: Manifest, sector: int, report: Report, *, contents: bool) -> None:
    about = manifest.about
    report.built_from, report.built_by = about.source.name, about.tool
    count = len(list(manifest.blocks()))
    report.looked_at.append(f"manifest: {count:,} hashes; built with the identity '{about.identity}'")
    if contents:
        report.bytes_checked = sum(note.size for note in about.regions) + manifest.stored_size
    for damage in about.source_damage:
        what = f"it was built --as-is from a source that was incomplete or damaged: {damage}"
        report.note(Code.SOURCE_NOT_WHOLE, "source", what)
    if manifest.place is None:
        what = "it is not on the drive: without this computer's record only its structure can be checked."
        report.note(Code.MANIFEST_ELSEWHERE, "manifest", what)
        return
    end = manifest.place + manifest.stored_size
    padding = min(align_up(end, sector), drive.size) - end
    if any(drive.read_at(end, padding)):
        what = f"bytes {end} to {end + padding - 1}, after the manifest in its last sector, are not zero."
        advice = "Something wrote there, or the drive lost data: build it again."
        report.fault(Code.MANIFEST_PADDING, "manifest", what, advice, Place(offset=end, size=padding))
