"""Checks a whole drive: table, volumes, contents, and the way it starts."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass

from ..content import SizedReadable
from ..drives.medium import Medium
from ..errors import KeystoneError
from ..extents import align_up
from ..manifest.format import EarlierManifest, Manifest, ManifestError, read_manifest, unpack_manifest
from ..progress import Progress
from ..sources.iso_records import IDENTIFIER, SECTOR, VolumeDescriptor
from ..starting.bootable import ReadBootVolume, ReadDrive
from ..starting.reading import MOST_VOLUMES, whole_drive
from ..starting.trust import ANY_MACHINE, Machine
from ..tables.gpt import SIGNATURE as GPT_SIGNATURE
from ..tables.mbr import MbrTable, read_mbr
from ..tables.table import Partition, Table, read_table
from ..units import SECTOR_SIZES
from ..volumes.kinds import COMPOSED, KINDS, kind_at, open_volume
from ..volumes.volume import VolumeError
from .bootwalk import walk_boot
from .codes import Code
from .contents import check_contents, judge
from .found import FoundVolume
from .report import Place, Report, VolumeSummary
from .volumes.checkers import CHECKERS

_REBUILD = "Build the drive again."
_SOUND = (Code.GPT_COPY_NOT_AT_END,)


def check_drive(
    drive: Medium,
    progress: Progress,
    *,
    sector_size: int | None = None,
    contents: bool = True,
    machine: Machine = ANY_MACHINE,
    kept: bytes | None = None,
) -> Report:
    """Check `drive` without writing to it. `contents=False` leaves out what a build has just read back.

    `sector_size` (bytes) is found out when None. `machine` is what it is to start. `kept` is a manifest that this
    computer keeps for the drive, which counts when the drive carries none.
    """
    report = Report()
    sector = sector_size or _find_sector_size(drive, kept)
    manifest = _manifest(drive, sector, kept, report)
    wrong = check_contents(drive, manifest, progress) if manifest and contents else []
    if manifest:
        _tell_manifest(drive, manifest, sector, report, contents=contents)
    elif not report.unknown:
        report.unknown.append("no manifest, so the files cannot be verified.")
    image_size = manifest.about.image_size if manifest else 0
    # A raw image brings its own table, whose copy lies at the image's end and not at the drive's.
    view: SizedReadable = Front(drive, image_size) if image_size else drive
    table, partitions = _table(view, sector, manifest, report)
    found = _volumes(view, partitions, sector, report)
    walked = [ReadBootVolume(volume.kind, volume.volume, volume.partition) for volume in found]
    if (partitions and found) or image_size:
        seen = table if table.style else None
        report.starts = walk_boot(ReadDrive(seen, sector, walked), report, machine)
    elif table.style and not any(partition.expects_volume for partition in partitions):
        names = " or ".join(kind.shown for kind in KINDS.values())
        report.unknown.append(f"no {names} volume, and other volumes are not read yet.")
    if manifest:
        judge(drive, manifest, wrong, found, report)
    progress("checking structure", 1, 1)
    return report


@dataclass(frozen=True)
class Front:
    """The first `size` bytes of a drive."""

    drive: SizedReadable
    size: int

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive."""
        return self.drive.read_at(offset, size)


def _find_sector_size(drive: Medium, kept: bytes | None) -> int:
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
            if offset + 512 <= drive.size and drive.read_at(offset + 11, 2) == size.to_bytes(2, "little"):
                return size
    return 512


# -- the manifest ----------------------------------------------------------------------------------------------------


def _manifest(drive: Medium, sector_size: int, kept: bytes | None, report: Report) -> Manifest | None:
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


def _tell_manifest(drive: Medium, manifest: Manifest, sector: int, report: Report, *, contents: bool) -> None:
    about = manifest.about
    report.built_from, report.built_by = about.source.name, about.tool
    count = len(list(manifest.blocks()))
    report.looked_at.append(f"manifest: {count:,} hashes; built with the identity '{about.identity}'")
    if contents:
        report.bytes_checked = sum(note.size for note in about.regions) + manifest.stored_size
    for damage in about.source_damage:
        what = f"it was built --as-is from a source that was not whole: {damage}"
        report.note(Code.SOURCE_NOT_WHOLE, "source", what)
    if manifest.place is None:
        what = "it is not on the drive: without this computer's record only its structure can be checked."
        report.note(Code.MANIFEST_ELSEWHERE, "manifest", what)
        return
    end = manifest.place + manifest.stored_size
    padding = min(align_up(end, sector), drive.size) - end
    if any(drive.read_at(end, padding)):
        what = f"bytes {end} to {end + padding - 1}, behind the manifest in its last sector, are not zero."
        advice = "Something wrote there, or the drive lost data: build it again."
        report.fault(Code.MANIFEST_PADDING, "manifest", what, advice, Place(offset=end, size=padding))


# -- the table -------------------------------------------------------------------------------------------------------


def _table(
    drive: SizedReadable, sector: int, manifest: Manifest | None, report: Report
) -> tuple[Table, Sequence[Partition]]:
    """Check the table; return it and the partitions to look into, from the manifest when sector 0 is lost."""
    nothing = Table("", MbrTable(b"", 0, (), ()), None, (), ())
    is_image = bool(manifest and manifest.about.image_size) or _holds_disc_image(drive)
    table = read_table(drive, sector)
    has_sound_table = table is not None and bool(table.partitions) and not table.faults
    if (is_image or not has_sound_table) and (kind := kind_at(drive, 0, drive.size)) is not None:
        report.looked_at.append(f"table: none; a {kind.shown} volume from sector 0 on")
        return nothing, (whole_drive(drive, sector),)
    if table is None:
        if is_image:
            return nothing, ()
        sealed = (
            "It was not finished, or sector 0 was lost."
            if manifest
            else "It was never finished, or it is not an installer drive."
        )
        what = "sector 0 carries no partition table."
        report.fault(Code.TABLE_MISSING, "table", what, f"{sealed} {_REBUILD}", Place(offset=0, size=sector))
        return nothing, _partitions_of(manifest, sector) if manifest else ()
    signature = table.gpt.disk if table.gpt else f"{table.mbr.disk_signature:08X}"
    report.looked_at.append(
        f"table: {table.style.upper()}, partitions in use: {len(table.partitions)}, signature {signature}"
    )
    for fault in table.faults:
        if is_image:  # what is odd about an image is no fault of the drive
            report.note(Code(fault.code), "table", f"{fault}, as in the image.", Place(fault.partition))
        elif fault.code in _SOUND:
            report.note(Code(fault.code), "table", f"{fault}: a raw image was written, or the drive copied.")
        else:
            report.fault(Code(fault.code), "table", f"{fault}.", _REBUILD, Place(fault.partition))
    if is_image:
        return table, table.partitions
    if table.style == "mbr" and table.mbr.disk_signature == 0:
        advice = "Windows will not tell this drive from others: build it again."
        report.fault(Code.TABLE_SIGNATURE, "table", "the disk signature is 0.", advice, Place(offset=440, size=4))
    actives = sum(partition.active for partition in table.partitions)
    if actives > 1:
        what, advice = f"{actives} partitions are active.", "One must be: build the drive again."
        report.fault(Code.TABLE_SEVERAL_ACTIVE, "table", what, advice, Place(offset=446, size=64))
    return table, table.partitions


def _holds_disc_image(drive: SizedReadable) -> bool:
    """True when a disc image was written onto the drive as it is: its table is then what its maker made of it."""
    place = 16 * SECTOR
    if drive.size < place + SECTOR:
        return False
    return VolumeDescriptor.unpack(drive.read_at(place, SECTOR)).identifier == IDENTIFIER


def _partitions_of(manifest: Manifest, sector: int) -> list[Partition]:
    """Return the partitions the manifest tells of, to check a drive whose sector 0 is lost."""
    about = manifest.about
    notes = sorted(about.volumes, key=lambda volume: volume.offset)
    limits = [*(note.offset for note in notes[1:]), about.drive_size]
    found = []
    for number, (note, limit) in enumerate(zip(notes, limits, strict=True), 1):
        regions = [(str(r.kind), r.offset, r.size) for r in about.regions if note.offset <= r.offset < limit]
        end = min(COMPOSED[note.file_system].partition_end(regions, limit), limit)
        if note.offset < end:
            first, count = note.offset // sector, (end - note.offset) // sector
            found.append(Partition(number, first, count, False, True, "by the manifest"))
    return found


# -- volumes ---------------------------------------------------------------------------------------------------------


def _volumes(drive: SizedReadable, partitions: Sequence[Partition], sector: int, report: Report) -> list[FoundVolume]:
    """Read and check the volumes of all partitions that hold one, or should by their type."""
    found: list[FoundVolume] = []
    for partition in partitions[:MOST_VOLUMES]:
        offset = partition.first_lba * sector
        size = min(partition.sector_count * sector, drive.size - offset)
        kind = kind_at(drive, offset, size) if size >= 512 else None
        if kind is None and not partition.expects_volume:
            report.unknown.append(f"partition {partition.number} ({partition.type_shown}) is not looked into.")
            continue
        volume = _volume(drive, partition, offset, size, sector, report)
        if volume is not None:
            found.append(volume)
    if len(partitions) > MOST_VOLUMES:
        count = len(partitions)
        report.unknown.append(f"{count - MOST_VOLUMES} of its {count} partitions were not looked into.")
    return found


def _volume(
    drive: SizedReadable, partition: Partition, offset: int, size: int, sector: int, report: Report
) -> FoundVolume | None:
    """Read and check the volume in a partition; None, with a fault noted, when there is none."""
    number = partition.number
    if size >= 512 and drive.read_at(offset + 3, 8) == b"EXFAT   ":
        report.unknown.append(f"partition {number} holds an exFAT volume, which is not read here.")
        return None
    try:
        kind, volume = open_volume(drive, offset, size)
        entries, free = CHECKERS[kind.name].check(volume, partition, size // sector, report)
        label = volume.label()
    except VolumeError as error:
        report.fault(Code.VOLUME_UNREADABLE, "boot sectors", error.message, _REBUILD, Place(number, offset, 512))
        return None
    except KeystoneError as error:
        report.fault(Code.FOLDERS_UNREADABLE, "folders", error.message, _REBUILD, Place(number, offset, size))
        return None
    if not partition.expects_volume:
        what = f"partition {number} holds {kind.shown}, but is marked as {partition.type_shown}."
        report.note(Code.PARTITION_TYPE, "table", what, Place(number))
    folders = sum(entry.is_folder for entry in entries)
    files = len(entries) - folders
    report.volumes.append(VolumeSummary(kind.shown, label, offset, files, folders - 1, free))
    return FoundVolume(partition, kind, volume, entries)
