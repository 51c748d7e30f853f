"""Remedies for FAT32 volumes: their boot sector and its copy, FSInfo, the two FATs."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from ...boot.records import FAT32_RECORD
from ...checking.codes import Code
from ...checking.report import Finding
from ...checking.views import Patched
from ...common.errors import KeystoneError
from ...common.later import np
from ...common.units import counted
from ...content.contents import SizedReadable
from ...tables.mbr import HEADS, SECTORS_PER_TRACK
from ...volumes.fat32.kind import FAT32
from ...volumes.fat32.read import Fat32Volume
from ...volumes.fat32.records import (
    BACKUP_BOOT_SECTOR,
    BAD_CLUSTER,
    ENTRY_MASK,
    FIRST_CLUSTER,
    FSINFO_SECTOR,
    BootSector,
    FsInfo,
)
from ...volumes.volume import stored_hidden
from ..judging import walk
from ..remedy import FILE_SYSTEM_CHECK, FIRST_THE_BOOT_SECTOR, Case, Change, NotMended, Order, Outcome, Remedy, Rules
from .code import code_changes
from .head import from_copy

_CHECKER = "Run 'fsck.fat' (Linux), 'chkdsk' (Windows) or First Aid (macOS) on the volume, then mend again."
_PIECE = 1 << 20
_ONE_FAT_ACTIVE = 0x80
"""fatgen103, BPB_ExtFlags: the FATs are not mirrored."""


def _volume(case: Case, finding: Finding) -> Fat32Volume:
    found = case.volume(finding.place.volume)
    assert found is not None
    assert isinstance(found.volume, Fat32Volume)
    return found.volume


def _copy_offset(volume: Fat32Volume) -> int | None:
    """Byte of the drive where the copy of the boot sector lies; None where there is none."""
    boot = volume.boot
    if not 0 < boot.BPB_BkBootSec < boot.BPB_RsvdSecCnt:
        return None
    return volume.offset + boot.BPB_BkBootSec * volume.sector_size


def _in_both(volume: Fat32Volume, at: int, data: bytes, what: str) -> tuple[Change, ...]:
    """Change a field of the boot sector, and of its copy where that is one of the same volume."""
    changes = [Change(volume.offset + at, data, Order.FIRSTS, f"{what} in the boot sector")]
    copy = _copy_offset(volume)
    if copy is not None and FAT32.recognises(_Bytes(volume), copy, volume.sector_size):
        changes.insert(0, Change(copy + at, data, Order.COPIES, f"{what} in the boot sector's copy"))
    return tuple(changes)


class _Bytes:
    """The drive below a volume."""

    def __init__(self, volume: Fat32Volume) -> None:
        self._volume = volume

    def read_at(self, offset: int, size: int) -> bytes:
        return self._volume.bytes_at(offset, size)


def _hidden(case: Case, finding: Finding) -> Outcome:
    volume, partition = _volume(case, finding), case.partition(finding.place.volume)
    assert partition is not None
    right = stored_hidden(partition.first_lba)
    changes = _in_both(volume, BootSector.offset_of("BPB_HiddSec"), right.to_bytes(4, "little"), "BPB_HiddSec")
    return Remedy(finding, f"BPB_HiddSec becomes {right:,}, the partition's first sector.", "", changes)


def _geometry(case: Case, finding: Finding) -> Outcome:
    data = SECTORS_PER_TRACK.to_bytes(2, "little") + HEADS.to_bytes(2, "little")
    changes = _in_both(_volume(case, finding), BootSector.offset_of("BPB_SecPerTrk"), data, "geometry")
    what = f"The geometry becomes {HEADS} heads and {SECTORS_PER_TRACK} sectors a track, as the table counts."
    return Remedy(finding, what, "", changes)


def _code(case: Case, finding: Finding) -> Outcome:
    volume = _volume(case, finding)
    end = FAT32_RECORD.further_offset + len(FAT32_RECORD.further_code)
    reserved = volume.boot.BPB_RsvdSecCnt * volume.sector_size
    if end > reserved:
        return NotMended(
            finding,
            f"the volume has {volume.boot.BPB_RsvdSecCnt} reserved sectors, too few for the boot code",
            "Copy its files away, and build it again.",
        )
    copy = _copy_offset(volume)
    if copy is not None and not FAT32.recognises(_Bytes(volume), copy, volume.sector_size):
        copy = None
    return code_changes(finding, FAT32_RECORD, volume.offset, copy)


def _boot_copy(case: Case, finding: Finding) -> Outcome:
    """Boot sector and copy differ: walk the folders by each."""
    volume, partition = _volume(case, finding), case.partition(finding.place.volume)
    copy = _copy_offset(volume)
    assert partition is not None
    assert copy is not None
    size = partition.sector_count * case.sector_size
    first, second = volume.bytes_at(volume.offset, 512), volume.bytes_at(copy, 512)
    by_first = _judged(case.drive, first, volume.offset, size, partition.first_lba)
    by_second = _judged(case.drive, second, volume.offset, size, partition.first_lba)
    if by_first <= by_second:
        change = Change(copy, first, Order.COPIES, "copy of the boot sector")
        return Remedy(finding, "The copy is made from the boot sector.", "by it all folders can be walked", (change,))
    change = Change(volume.offset, second, Order.FIRSTS, "boot sector")
    return Remedy(finding, "The boot sector is made from its copy.", "the copy fits the volume better", (change,))


def _judged(drive: SizedReadable, sector: bytes, offset: int, size: int, first_lba: int) -> tuple[int, ...]:
    """Return how much is wrong with a volume if this is its boot sector; less is better."""
    view = Patched(drive, offset, sector)
    found = walk(FAT32, view, offset, size)
    boot = BootSector.unpack(sector)
    return (
        *found.badness,
        not _has_fs_info(view, offset, size),
        not FAT32.recognises(view, offset + boot.BPB_BkBootSec * boot.BPB_BytsPerSec, size),
        boot.BPB_HiddSec != stored_hidden(first_lba),
        (boot.BPB_NumHeads, boot.BPB_SecPerTrk) != (HEADS, SECTORS_PER_TRACK),
    )


def _has_fs_info(drive: SizedReadable, offset: int, size: int) -> bool:
    try:
        return FAT32.open(drive, offset, size).fs_info() is not None
    except KeystoneError:
        return False


def _beyond(case: Case, finding: Finding) -> Outcome:
    """The volume ends with its partition where nothing that is in use lies behind."""
    volume, partition = _volume(case, finding), case.partition(finding.place.volume)
    assert partition is not None
    behind = _in_use_behind(case, volume)
    if behind:
        why = f"{counted(behind, 'cluster')} in use would lie behind its end"
        return NotMended(
            finding, why, "Make the partition as large as it was, or copy the files away and build it again."
        )
    places = FAT32.fitted(case.drive, volume.offset, partition.sector_count * case.sector_size)
    first, *copies = (Change(place, data, Order.FIRSTS, "BPB_TotSec32 in the boot sector") for place, data in places)
    changes = [replace(each, order=Order.COPIES, what=f"{each.what}'s copy") for each in copies]
    if volume.fs_info() is not None:
        changes += _fs_info_changes(volume, volume.boot.BPB_FSInfo)[0]
    total = volume.boot.BPB_TotSec32
    what = f"BPB_TotSec32 becomes {total:,}, the sectors of the partition, and the free clusters are counted."
    return Remedy(finding, what, "no cluster that is in use lies behind", (*changes, first))


def _in_use_behind(case: Case, volume: Fat32Volume) -> int:
    """Return how many clusters the FAT says are in use that the volume has by its own count only."""
    boot = BootSector.unpack(case.drive.read_at(volume.offset, 512))
    told = (boot.BPB_TotSec32 - volume.first_data) // boot.BPB_SecPerClus + FIRST_CLUSTER
    start, end = volume.cluster_count + FIRST_CLUSTER, min(told, boot.BPB_FATSz32 * volume.sector_size // 4)
    count = 0
    for at in range(4 * start, 4 * end, _PIECE):
        data = volume.bytes_at(volume.fat_offset() + at, min(_PIECE, 4 * end - at))
        entries = np.frombuffer(data, "<u4") & np.uint32(ENTRY_MASK)
        count += int(np.count_nonzero((entries != 0) & (entries != BAD_CLUSTER)))
    return count


def _fs_info(case: Case, finding: Finding) -> Outcome:
    """Count the free clusters and write FSInfo; where its place is impossible, at the usual one."""
    volume = _volume(case, finding)
    if case.has(Code.FAT32_BOOT_COPY, finding.place.volume):
        return NotMended(finding, FIRST_THE_BOOT_SECTOR, _CHECKER)
    boot, changes = volume.boot, list[Change]()
    place = boot.BPB_FSInfo
    if not 0 < place < boot.BPB_RsvdSecCnt or place == boot.BPB_BkBootSec:
        place = FSINFO_SECTOR
        if boot.BPB_RsvdSecCnt <= place or boot.BPB_BkBootSec == place:
            return NotMended(finding, "the volume has no reserved sector for it", _CHECKER)
        field = BootSector.offset_of("BPB_FSInfo")
        changes += _in_both(volume, field, place.to_bytes(2, "little"), "BPB_FSInfo")
    further, free = _fs_info_changes(volume, place)
    what = f"FSInfo is written with {counted(free, 'free cluster')}, as the FAT has them."
    return Remedy(finding, what, "", (*changes, *further))


def _fs_info_changes(volume: Fat32Volume, place: int) -> tuple[list[Change], int]:
    """Return what writes FSInfo, and its copy where there is one, and the free clusters that it says."""
    boot, changes = volume.boot, list[Change]()
    free, following = _free(volume)
    data = FsInfo(FSI_Free_Count=free, FSI_Nxt_Free=following).pack()
    second = boot.BPB_BkBootSec + place
    if boot.BPB_BkBootSec == BACKUP_BOOT_SECTOR and second < boot.BPB_RsvdSecCnt:
        changes.append(Change(volume.offset + second * volume.sector_size, data, Order.COPIES, "copy of FSInfo"))
    changes.append(Change(volume.offset + place * volume.sector_size, data, Order.FIRSTS, "FSInfo"))
    return changes, free


def _free(volume: Fat32Volume) -> tuple[int, int]:
    """Return how many clusters are free, and the first of them."""
    count, following = 0, 0xFFFF_FFFF
    for start, entries in volume.fat_windows():
        free = (entries == 0).nonzero()[0]
        free = free[free + start >= 2]
        count += len(free)
        if following == 0xFFFF_FFFF and len(free):
            following = start + int(free[0])
    return count, following


def _fats(case: Case, finding: Finding) -> Outcome:
    """Decide between the two FATs by walking the folders with each: chains that end and fit the sizes."""
    volume, partition = _volume(case, finding), case.partition(finding.place.volume)
    assert partition is not None
    if volume.boot.BPB_ExtFlags & _ONE_FAT_ACTIVE:
        return NotMended(finding, "the volume says that only one of them is kept up", _CHECKER)
    size = partition.sector_count * case.sector_size
    by_first = walk(FAT32, case.drive, volume.offset, size)
    by_second = walk(FAT32, _OtherFat(case.drive, volume), volume.offset, size)
    is_first = by_first.badness <= by_second.badness
    best = by_first if is_first else by_second
    if best.faults:
        why = f"by the first FAT: {by_first}; by the second: {by_second}; {FILE_SYSTEM_CHECK}"
        return NotMended(finding, why, _CHECKER)
    if by_first.badness == by_second.badness:
        why = "both give the same folders and files, and systems read the first one"
    else:
        why = f"by the first FAT: {by_first}; by the second: {by_second}"
    source, target = (0, 1) if is_first else (1, 0)
    order, words = (Order.COPIES, "second FAT") if is_first else (Order.FIRSTS, "first FAT")
    changes = []
    total = volume.boot.BPB_FATSz32 * volume.sector_size
    for start in range(0, total, _PIECE):
        right, wrong = (
            volume.bytes_at(volume.fat_offset(copy) + start, min(_PIECE, total - start)) for copy in (source, target)
        )
        place, size = volume.fat_offset(target) + start, volume.sector_size
        for first, end in _different(right, wrong, size):
            changes.append(Change(place + first, right[first:end], order, f"sectors of the {words}"))
    what = f"The {words} is made from the {'first' if is_first else 'second'} one, where they differ."
    return Remedy(finding, what, why, tuple(changes))


def _different(one: bytes, other: bytes, size: int) -> Iterator[tuple[int, int]]:
    """Yield where neighbouring pieces of `size` bytes differ: first byte, and the one behind the last."""
    start = None
    for at in range(0, len(one) + size, size):
        differs = at < len(one) and one[at : at + size] != other[at : at + size]
        if differs and start is None:
            start = at
        elif not differs and start is not None:
            yield start, min(at, len(one))
            start = None


class _OtherFat:
    """A drive with a volume's second FAT in the place of the first."""

    def __init__(self, drive: SizedReadable, volume: Fat32Volume) -> None:
        self._drive, self.size = drive, drive.size
        self._first, self._second = volume.fat_offset(0), volume.fat_offset(1)

    def read_at(self, offset: int, size: int) -> bytes:
        found = bytearray(self._drive.read_at(offset, size))
        start, end = max(offset, self._first), min(offset + size, self._second)
        if start < end:
            found[start - offset : end - offset] = self._drive.read_at(self._second + start - self._first, end - start)
        return bytes(found)


RULES: Rules = {
    Code.VOLUME_BOOT_SECTOR: from_copy,
    Code.VOLUME_BEYOND_PARTITION: _beyond,
    Code.VOLUME_HIDDEN_SECTORS: _hidden,
    Code.VOLUME_GEOMETRY: _geometry,
    Code.FAT32_BOOT_COPY: _boot_copy,
    Code.FAT32_FSINFO: _fs_info,
    Code.FAT_COPIES_DIFFER: _fats,
    Code.START_NO_VOLUME_CODE: _code,
    Code.START_FOREIGN_CODE: _code,
    Code.START_VOLUME_CODE: _code,
}
