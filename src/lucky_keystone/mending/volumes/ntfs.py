"""Remedies for NTFS volumes: the boot sector and its copy in the partition's last sector, the MFT's first records."""

from __future__ import annotations

from ...boot.records import NTFS_RECORD
from ...checking.codes import Code
from ...checking.report import Finding
from ...checking.views import Patched
from ...common.errors import KeystoneError
from ...content.contents import SizedReadable
from ...tables.mbr import HEADS, SECTORS_PER_TRACK
from ...tables.table import Partition
from ...volumes.ntfs.geometry import mirrored_records
from ...volumes.ntfs.kind import NTFS
from ...volumes.ntfs.parse import parse_record
from ...volumes.ntfs.read import NtfsVolume
from ...volumes.ntfs.records import BOOT_FILE_SIZE, BootSector
from ...volumes.volume import VolumeError, stored_hidden
from ..judging import walk
from ..remedy import FILE_SYSTEM_CHECK, FIRST_THE_BOOT_SECTOR, Case, Change, NotMended, Order, Outcome, Remedy, Rules
from .code import code_changes
from .head import from_copy

_CHECKER = "Run 'chkdsk /f' on it in Windows, then mend again."


def _volume(case: Case, finding: Finding) -> tuple[NtfsVolume, Partition]:
    found = case.volume(finding.place.volume)
    assert found is not None
    assert isinstance(found.volume, NtfsVolume)
    return found.volume, found.partition


def _copy_place(case: Case, volume: NtfsVolume, partition: Partition) -> int:
    """Byte of the drive where the copy of the boot sector belongs: in the partition's last sector.

    Of a volume that is smaller than its partition it lies behind the volume's last sector.
    """
    total = volume.boot.total_sectors
    own = volume.offset + total * volume.sector_size
    if total < partition.sector_count - 1 and NTFS.recognises(case.drive, own, 512):
        return own
    return volume.offset + (partition.sector_count - 1) * volume.sector_size


def _copy_of(case: Case, volume: NtfsVolume, partition: Partition) -> int | None:
    """The same where a copy is there."""
    place = _copy_place(case, volume, partition)
    return place if NTFS.recognises(case.drive, place, 512) else None


def _in_both(case: Case, finding: Finding, at: int, data: bytes, what: str) -> tuple[Change, ...]:
    volume, partition = _volume(case, finding)
    copy = _copy_of(case, volume, partition)
    changes = [Change(copy + at, data, Order.COPIES, f"{what} in the boot sector's copy")] if copy is not None else []
    return (*changes, Change(volume.offset + at, data, Order.FIRSTS, f"{what} in the boot sector"))


def _hidden(case: Case, finding: Finding) -> Outcome:
    _, partition = _volume(case, finding)
    right = stored_hidden(partition.first_lba)
    at = BootSector.offset_of("hidden_sectors")
    changes = _in_both(case, finding, at, right.to_bytes(4, "little"), "hidden_sectors")
    return Remedy(finding, f"hidden_sectors becomes {right:,}, the partition's first sector.", "", changes)


def _geometry(case: Case, finding: Finding) -> Outcome:
    data = SECTORS_PER_TRACK.to_bytes(2, "little") + HEADS.to_bytes(2, "little")
    changes = _in_both(case, finding, BootSector.offset_of("sectors_per_track"), data, "geometry")
    what = f"The geometry becomes {HEADS} heads and {SECTORS_PER_TRACK} sectors a track, as the table counts."
    return Remedy(finding, what, "", changes)


def _code(case: Case, finding: Finding) -> Outcome:
    volume, partition = _volume(case, finding)
    end = NTFS_RECORD.further_offset + len(NTFS_RECORD.further_code)
    first = min(volume.boot.mft_cluster, volume.boot.mft_mirror_cluster)
    if end > BOOT_FILE_SIZE or first * volume.cluster_size < end:
        return NotMended(finding, "the volume keeps no room for boot code", "Copy its files away, and build it again.")
    return code_changes(finding, NTFS_RECORD, volume.offset, _copy_of(case, volume, partition))


def _boot_copy(case: Case, finding: Finding) -> Outcome:
    """Boot sector and copy differ: walk the folders by each, and look for the mirror where each says it is."""
    volume, partition = _volume(case, finding)
    if volume.boot.total_sectors >= partition.sector_count:
        why = "the volume reaches over the partition's last sector, where the copy belongs"
        return NotMended(finding, why, "Copy its files away, and build it again.")
    place, first = _copy_place(case, volume, partition), volume.boot.pack()
    walked = walk(NTFS, case.drive, volume.offset, volume.size)
    if NTFS.recognises(case.drive, place, 512):
        second = case.drive.read_at(place, 512)
        if _judged(case, second, volume, partition) < _judged(case, first, volume, partition):
            change = Change(volume.offset, second, Order.FIRSTS, "boot sector")
            why = "the copy fits the volume better"
            return Remedy(finding, "The boot sector is made from its copy.", why, (change,))
    if not walked.entries:
        return NotMended(finding, f"by the boot sector: {walked}; {FILE_SYSTEM_CHECK}", _CHECKER)
    change = Change(place, first, Order.COPIES, "copy of the boot sector")
    why = f"by the boot sector the folders can be walked: {walked}"
    return Remedy(finding, "The copy is made from the boot sector.", why, (change,))


def _judged(case: Case, sector: bytes, volume: NtfsVolume, partition: Partition) -> tuple[int, ...]:
    """Return how much is wrong with a volume if this is its boot sector; less is better."""
    view, boot = Patched(case.drive, volume.offset, sector), BootSector.unpack(sector)
    return (
        *walk(NTFS, view, volume.offset, volume.size).badness,
        not _has_mirror(view, volume.offset, volume.size),
        boot.total_sectors != partition.sector_count - 1,
        boot.hidden_sectors != stored_hidden(partition.first_lba),
        (boot.heads, boot.sectors_per_track) != (HEADS, SECTORS_PER_TRACK),
    )


def _has_mirror(drive: SizedReadable, offset: int, size: int) -> bool:
    """Tell whether the MFT's first record lies where the boot sector says, and in the mirror as well."""
    try:
        volume = NTFS.open(drive, offset, size)
        places = (volume.boot.mft_cluster, volume.boot.mft_mirror_cluster)
        first, mirror = (drive.read_at(volume.cluster_offset(each), volume.record_size) for each in places)
    except KeystoneError:
        return False
    return _is_record(volume, first, 0) and first == mirror


def _first_records(case: Case, finding: Finding) -> Outcome:
    """Decide for each of the first file records: one that is damaged takes the other one's bytes."""
    volume, _ = _volume(case, finding)
    if case.has(Code.NTFS_BOOT_COPY, finding.place.volume):
        return NotMended(finding, FIRST_THE_BOOT_SECTOR, _CHECKER)
    size, count = volume.record_size, mirrored_records(volume.cluster_size, volume.record_size)
    first = volume.cluster_offset(volume.boot.mft_cluster)
    mirror = volume.cluster_offset(volume.boot.mft_mirror_cluster)
    if abs(first - mirror) < size * count:
        return NotMended(finding, "the MFT and its mirror overlap", _CHECKER)
    changes, back = [], 0
    for number in range(count):
        one, other = case.drive.read_at(first + number * size, size), case.drive.read_at(mirror + number * size, size)
        if one == other:
            continue
        if _is_record(volume, one, number):
            words, target, data, order = "mirror of file record", mirror, one, Order.COPIES
        elif _is_record(volume, other, number):
            words, target, data, order = "file record", first, other, Order.FIRSTS
            back += 1
        else:
            return NotMended(finding, f"file record {number} is damaged in both places; {FILE_SYSTEM_CHECK}", _CHECKER)
        changes.append(Change(target + number * size, data, order, f"{words} {number}"))
    if not changes:
        return NotMended(
            finding, f"its first {count} records and their mirror are the same; {FILE_SYSTEM_CHECK}", _CHECKER
        )
    forth = len(changes) - back
    what = f"Of the MFT's first {count} records {back} are taken from the mirror, {forth} of the mirror from the MFT."
    return Remedy(finding, what, "each is taken from where it is whole, from the MFT where both are", tuple(changes))


def _is_record(volume: NtfsVolume, data: bytes, number: int) -> bool:
    """Spare records may hold any valid record."""
    try:
        record = parse_record(data, number, volume.cluster_count)
    except VolumeError:
        return False
    return record.header.number == number


def _total(_case: Case, finding: Finding) -> Outcome:
    why = "whether the volume or the table has the right size is not known"
    return NotMended(finding, why, "Its files can be read: copy them away, and build the drive again.")


RULES: Rules = {
    Code.VOLUME_BOOT_SECTOR: from_copy,
    Code.VOLUME_HIDDEN_SECTORS: _hidden,
    Code.VOLUME_GEOMETRY: _geometry,
    Code.NTFS_BOOT_COPY: _boot_copy,
    Code.NTFS_MFT_START: _first_records,
    Code.NTFS_MIRROR: _first_records,
    Code.NTFS_TOTAL_SECTORS: _total,
    Code.START_NO_VOLUME_CODE: _code,
    Code.START_FOREIGN_CODE: _code,
    Code.START_VOLUME_CODE: _code,
}
