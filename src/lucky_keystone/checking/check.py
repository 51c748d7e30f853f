"""Checks a whole drive: table, volumes, contents, and the way it starts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..content import Tell
from ..drives.medium import Medium
from ..errors import KeystoneError
from ..manifest.format import Manifest, ManifestError, read_manifest
from ..tables.mbr import MbrTable, read_mbr
from ..tables.table import Partition, Table, read_table
from ..units import SECTOR_SIZES
from ..volumes.ntfs.read import NtfsVolume
from ..volumes.opening import open_volume
from ..volumes.volume import VolumeError
from .bootwalk import walk_boot
from .contents import check_contents, judge
from .found import FoundFat32, FoundNtfs, FoundVolume
from .report import Report, VolumeSummary
from .volumes.fat32 import check_fat32
from .volumes.ntfs import check_ntfs

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate

_REBUILD = "Build the drive again."
_MOST_VOLUMES = 8  # a forged table may name the same volume in every entry


def check_drive(
    drive: Medium,
    tell: Tell,
    *,
    sector_size: int | None = None,
    contents: bool = True,
    trusted: Sequence[Certificate] = (),
) -> Report:
    """Check `drive` without writing to it. `contents=False` leaves out what a build has just read back.

    `sector_size` (bytes) is found out when None. `trusted` are the certificates of the machine it is to start.
    """
    report = Report()
    sector = sector_size or _find_sector_size(drive)
    manifest = _manifest(drive, sector, report)
    wrong = check_contents(drive, manifest, tell) if manifest and contents else []
    if manifest:
        report.built_from, report.built_by = manifest.about.source.name, manifest.about.tool
        report.looked_at.append(
            f"manifest: {len(manifest.hashes) // 32:,} hashes; built with the identity '{manifest.about.identity}'"
        )
        report.bytes_checked = (
            sum(note.size for note in manifest.about.regions) + manifest.stored_size if contents else 0
        )
    else:
        report.unknown.append("It carries no manifest: whether its files are what they were cannot be known.")
    table, partitions = _table(drive, sector, manifest, report)
    found = [
        volume
        for partition in partitions[:_MOST_VOLUMES]
        if (volume := _volume(drive, partition, sector, report)) is not None
    ]
    if len(partitions) > _MOST_VOLUMES:
        report.unknown.append(
            f"{len(partitions) - _MOST_VOLUMES} of its {len(partitions)} partitions were not looked into."
        )
    if partitions and found:
        report.starts = walk_boot(table, found, sector, report, trusted)
    elif table.style and not partitions:
        report.unknown.append("It has no FAT32 or NTFS partition, and other volumes are not read yet.")
    if manifest:
        judge(drive, manifest, wrong, found, report)
    tell("checking structure", 1, 1)
    return report


def _find_sector_size(drive: Medium) -> int:
    """Return the sector size the drive was made with: where its manifest or the first partition's boot sector says so."""
    table = read_mbr(drive.read_at(0, 512), drive.size // 512) if drive.size >= 512 else None
    for size in SECTOR_SIZES:
        try:
            if read_manifest(drive, size):
                return size
        except ManifestError:
            return size
        for partition in table.partitions if table else ():
            offset = partition.first_lba * size
            if offset + 512 <= drive.size and drive.read_at(offset + 11, 2) == size.to_bytes(2, "little"):
                return size
    return 512


def _manifest(drive: Medium, sector_size: int, report: Report) -> Manifest | None:
    try:
        return read_manifest(drive, sector_size)
    except ManifestError as error:
        report.fault(
            "manifest",
            f"the manifest behind sector 0 is damaged: {error.message}.",
            "The drive lost data or something wrote over it: build it again.",
        )
        return None


def _table(drive: Medium, sector: int, manifest: Manifest | None, report: Report) -> tuple[Table, Sequence[Partition]]:
    """Check the table; return it and the partitions to look into, from the manifest when sector 0 is lost."""
    table = read_table(drive, sector)
    if table is None:
        sealed = (
            "It was not finished, or sector 0 was lost."
            if manifest
            else "It was never finished, or it is not an installer drive."
        )
        report.fault("table", "sector 0 carries no partition table.", f"{sealed} {_REBUILD}")
        return Table("", MbrTable(b"", 0, (), ()), None, (), ()), _partitions_of(manifest, sector) if manifest else ()
    signature = table.gpt.disk if table.gpt else f"{table.mbr.disk_signature:08X}"
    report.looked_at.append(
        f"table: {table.style.upper()}, partitions in use: {len(table.partitions)}, signature {signature}"
    )
    for fault in table.faults:
        report.fault("table", fault + ".", _REBUILD)
    if table.style == "mbr" and table.mbr.disk_signature == 0:
        report.fault(
            "table", "the disk signature is 0.", "Windows will not tell this drive from others: build it again."
        )
    actives = sum(partition.active for partition in table.partitions)
    if actives > 1:
        report.fault("table", f"{actives} partitions are active.", "One must be: build the drive again.")
    return table, [partition for partition in table.partitions if partition.may_hold_volume]


def _partitions_of(manifest: Manifest, sector: int) -> list[Partition]:
    """Return the partitions the manifest tells of, to check a drive whose sector 0 is lost."""
    about = manifest.about
    starts = sorted(volume.offset for volume in about.volumes)
    ends = [*starts[1:], about.drive_size]
    copies = {note.offset + sector for note in about.regions if note.kind == "bootcopy"}  # an NTFS volume ends with it
    found = []
    for number, (start, limit) in enumerate(zip(starts, ends, strict=True), 1):
        end = min((copy for copy in copies if start < copy <= limit), default=limit)
        if start < end:
            found.append(Partition(number, start // sector, (end - start) // sector, False, True))
    return found


def _volume(drive: Medium, partition: Partition, sector: int, report: Report) -> FoundVolume | None:
    """Read and check the volume in a partition; None, with a fault noted, when there is none."""
    offset = partition.first_lba * sector
    size = min(partition.sector_count * sector, drive.size - offset)
    found: FoundVolume
    if size >= 512 and drive.read_at(offset + 3, 8) == b"EXFAT   ":
        report.unknown.append(f"Partition {partition.number} holds an exFAT volume, which is not read here.")
        return None
    try:
        volume = open_volume(drive, offset, size)
        if isinstance(volume, NtfsVolume):
            on_ntfs, free = check_ntfs(volume, partition.first_lba, size // sector, report)
            found = FoundNtfs(partition, volume, on_ntfs)
        else:
            on_fat32, free = check_fat32(volume, partition.first_lba, report)
            found = FoundFat32(partition, volume, on_fat32)
        label = volume.label()
    except VolumeError as error:
        report.fault("boot sectors", error.message, _REBUILD)
        return None
    except KeystoneError as error:
        report.fault("folders", error.message, _REBUILD)
        return None
    folders = sum(entry.is_folder for entry in found.entries)
    kind = "NTFS" if isinstance(found, FoundNtfs) else "FAT32"
    report.volumes.append(VolumeSummary(kind, label, offset, len(found.entries) - folders, folders - 1, free))
    return found
