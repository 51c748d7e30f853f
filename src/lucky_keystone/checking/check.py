"""Checks a whole drive: table, volume, contents, and the way it starts."""

from __future__ import annotations

from ..building.manifest import Manifest, ManifestError, read_manifest
from ..content import Tell
from ..drives.medium import Medium
from ..errors import KeystoneError
from ..tables.mbr import MbrTable, read_mbr
from ..tables.table import Partition, Table, read_table
from ..units import SECTOR_SIZES
from ..volumes.fat32.read import Entry, Fat32Volume
from ..volumes.volume import VolumeError
from .bootwalk import walk_boot
from .contents import check_contents, judge
from .report import Report
from .structure import check_structure

_REBUILD = "Build the drive again."


def check_drive(drive: Medium, tell: Tell, *, sector_size: int | None = None, contents: bool = True) -> Report:
    """Check `drive` without writing to it. `contents=False` leaves out what a build has just read back.

    `sector_size` (bytes) is found out when None.
    """
    report = Report()
    sector = sector_size or _find_sector_size(drive)
    manifest = _manifest(drive, sector, report)
    wrong = check_contents(drive, manifest, tell) if manifest and contents else []
    if manifest:
        report.built_from, report.built_by = manifest.about.source.name, manifest.about.tool
        report.looked_at.append(f"manifest: {len(manifest.hashes) // 32:,} hashes; built with the identity '{manifest.about.identity}'")
        report.bytes_checked = sum(note.size for note in manifest.about.regions) + manifest.stored_size if contents else 0
    else:
        report.unknown.append("It carries no manifest: whether its files are what they were cannot be known.")
    table = read_table(drive, sector)
    volume, entries = _volume(drive, table, sector, manifest, report)
    if manifest:
        judge(drive, manifest, wrong, volume, entries, report)
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


def _volume(
    drive: Medium, table: Table | None, sector: int, manifest: Manifest | None, report: Report
) -> tuple[Fat32Volume | None, list[Entry]]:
    """Check table, volume and boot walk; return the volume and its entries as far as they can be read."""
    if table is None:
        sealed = "It was not finished, or sector 0 was lost." if manifest else "It was never finished, or it is not an installer drive."
        report.fault("table", "sector 0 carries no partition table.", f"{sealed} {_REBUILD}")
        partition = _partition_of(manifest, sector) if manifest else None
        if partition is None:
            return None, []
        table = Table("mbr", MbrTable(b"", 0, (), ()), None, (), ())
    else:
        partition = _check_table(table, report)
    if partition is None:
        report.unknown.append("It has no FAT32 partition, and other volumes are not read yet.")
        return None, []
    offset = partition.first_lba * sector
    try:
        size = min(partition.sector_count * sector, drive.size - offset)
        volume = Fat32Volume(drive, offset, size)
        entries = check_structure(volume, partition.first_lba, report)
    except VolumeError as error:
        report.fault("boot sectors", error.message, _REBUILD)
        return None, []
    except KeystoneError as error:
        report.fault("FAT", error.message, _REBUILD)
        return None, []
    active = sum(p.active for p in table.partitions) == 1 and partition.active
    report.starts = walk_boot(table, volume, active, sector, entries, report)
    return volume, entries


def _check_table(table: Table, report: Report) -> Partition | None:
    signature = table.gpt.disk if table.gpt else f"{table.mbr.disk_signature:08X}"
    report.looked_at.append(f"table: {table.style.upper()}, partitions in use: {len(table.partitions)}, signature {signature}")
    for fault in table.faults:
        report.fault("table", fault + ".", _REBUILD)
    if table.style == "mbr" and table.mbr.disk_signature == 0:
        report.fault("table", "the disk signature is 0.", "Windows will not tell this drive from others: build it again.")
    actives = [partition for partition in table.partitions if partition.active]
    if len(actives) > 1:
        report.fault("table", f"{len(actives)} partitions are active.", "One must be: build the drive again.")
    candidates = [partition for partition in (*actives, *table.partitions) if partition.may_hold_fat]
    return candidates[0] if candidates else None


def _partition_of(manifest: Manifest, sector: int) -> Partition | None:
    """Return the partition the manifest tells of, to check a drive whose sector 0 is lost."""
    volume = manifest.about.volume
    end = max((note.offset + note.size for note in manifest.about.regions), default=0)
    if end <= volume.offset:
        return None
    whole = (manifest.about.drive_size - volume.offset) // sector
    return Partition(1, volume.offset // sector, whole, False, True)
