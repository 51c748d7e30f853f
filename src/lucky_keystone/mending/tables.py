"""Remedies for what is wrong with partition tables.

An MBR's entries, boot code and disk signature are changed one by one in sector 0, and whatever else is there stays. Of
a GPT one sound copy makes the other. Which table is meant, and which copy, is decided by the volumes that are there.
"""

from __future__ import annotations

from collections.abc import Sequence

from blake3 import blake3

from ..boot.records import mbr_code
from ..checking.codes import Code
from ..checking.found import FoundVolume
from ..checking.report import Finding
from ..common.units import counted
from ..content.contents import SizedReadable
from ..tables.gpt import (
    ENTRY_SIZE,
    TYPE_PROTECTIVE,
    GptCopy,
    GptEntry,
    copy_at,
    entry_sectors,
    header_sector,
    protective_entry,
)
from ..tables.mbr import ACTIVE, MOST_SECTORS, MasterBootRecord, MbrEntry, MbrPartition, chs, compose_mbr
from ..tables.partition import Use
from ..volumes.kinds import COMPOSED, kind_at, open_volume
from ..volumes.volume import VolumeError
from .remedy import Case, Change, NotMended, Order, Outcome, Remedy, Rules

_ENTRIES = MasterBootRecord.offset_of("entries")
_SIGNATURE = MasterBootRecord.offset_of("disk_signature")
_MOST_PARTITIONS = 4
_SIGNED = b"\x55\xaa"
"""Ends a sector 0 that counts (UEFI 2.10, 5.2.1)."""
_UNSURE = "Make a copy of the drive's files, and build it again."


# -- MBR -------------------------------------------------------------------------------------------------------------


def _boot_code(_case: Case, finding: Finding) -> Outcome:
    code = mbr_code().ljust(_SIGNATURE, b"\0")
    change = Change(0, code, Order.SECTOR_0, "boot code in sector 0")
    what = "Boot code is written into sector 0; its disk signature and partition table stay."
    return Remedy(finding, what, "", (change,))


def _mark_bearer(case: Case, finding: Finding) -> Outcome:
    """Mark the one volume that BIOS machines are to start from."""
    chosen, why = _to_be_active(case)
    if chosen is None:
        return NotMended(finding, why, "Set the mark by hand on the partition that is to start.")
    head = MasterBootRecord.unpack(case.drive.read_at(0, 512))
    changes = []
    for number in range(1, 5):
        at = (number - 1) * MbrEntry.SIZE
        entry = MbrEntry.unpack(head.entries, at)
        status = ACTIVE if number == chosen else 0
        if entry.status != status:
            place = _ENTRIES + at + MbrEntry.offset_of("status")
            changes.append(Change(place, bytes((status,)), Order.SECTOR_0, f"active mark of entry {number}"))
    what = f"Partition {chosen} becomes the only active one."
    return Remedy(finding, what, why, tuple(changes))


def _to_be_active(case: Case) -> tuple[int | None, str]:
    """Return the number of the partition to be marked, or None, and why."""
    bearers = case.bearers
    if len(bearers) > 1:
        marked = [each for each in bearers if each.partition.active]
        if len(marked) != 1:
            return None, "several volumes hold BOOTMGR, and which one is to start is not known"
        return marked[0].partition.number, "it holds BOOTMGR and was marked already"
    if bearers:
        return bearers[0].partition.number, "it holds BOOTMGR"
    loaders = [each for each in case.examined.volumes if each.kind.firmware_reads and each.has("efi/boot")]
    if len(loaders) == 1:
        return loaders[0].partition.number, "it holds the loaders for UEFI, and no volume holds BOOTMGR"
    return None, "no volume holds BOOTMGR, so which one is to start is not known"


def _status(case: Case, finding: Finding) -> Outcome:
    """A status that is neither 80h nor 00h: marked where only that volume can be meant."""
    number = finding.place.volume
    assert number is not None
    chosen, _ = _to_be_active(case)
    has_other = any(partition.active for partition in case.examined.partitions)
    status = ACTIVE if chosen == number and not has_other else 0
    place = _ENTRIES + (number - 1) * MbrEntry.SIZE
    change = Change(place, bytes((status,)), Order.SECTOR_0, f"status of entry {number}")
    return Remedy(finding, f"The status of entry {number} becomes {status:02X}h.", "", (change,))


def _chs(case: Case, finding: Finding) -> Outcome:
    partition = case.partition(finding.place.volume)
    assert partition is not None
    at = _ENTRIES + (partition.number - 1) * MbrEntry.SIZE
    last = partition.first_lba + partition.sector_count - 1
    changes = tuple(
        Change(at + MbrEntry.offset_of(name), chs(lba), Order.SECTOR_0, f"CHS fields of entry {partition.number}")
        for name, lba in (("first_chs", partition.first_lba), ("last_chs", last))
    )
    return Remedy(finding, f"The CHS fields of partition {partition.number} are made to agree.", "", changes)


def _signature(case: Case) -> int:
    parts = [case.drive.read_at(_ENTRIES, 64), *(each.volume.boot_sector for each in case.examined.volumes)]
    return int.from_bytes(blake3(b"".join(parts)).digest()[:4], "little") or 1


def _disk_signature(case: Case, finding: Finding) -> Outcome:
    """A number of its own, derived from what tells the drive from others: its table and its volumes' boot sectors."""
    number = _signature(case)
    change = Change(_SIGNATURE, number.to_bytes(4, "little"), Order.SECTOR_0, "disk signature")
    return Remedy(finding, f"The disk signature becomes {number:08X}.", "", (change,))


def _new_table(case: Case, finding: Finding) -> Outcome:
    """A table for the volumes that are there, by what their own boot sectors say of their places."""
    volumes = [each for each in case.examined.volumes if each.kind.name in COMPOSED]
    partitions = case.examined.partitions
    if not volumes or len(volumes) != len(partitions) or len(partitions) > _MOST_PARTITIONS:
        return NotMended(finding, "no volume was found that says where it lies", _UNSURE)
    if any(each.first_lba + each.sector_count > MOST_SECTORS for each in partitions):
        return NotMended(finding, "a volume lies beyond what an MBR can name", _UNSURE)
    if case.drive.read_at(510, 2) != _SIGNED and _spans_in(case.drive) == [
        (each.first_lba, each.sector_count) for each in partitions
    ]:
        return _signed_again(finding, "its table names the volumes that are there")
    chosen, why = _to_be_active(case)
    entries = [
        MbrPartition(
            number=each.partition.number,
            active=each.partition.number == chosen,
            type=_use_of(each, volumes).value.mbr,
            first_lba=each.partition.first_lba,
            sector_count=each.partition.sector_count,
        )
        for each in volumes
    ]
    sector = compose_mbr(mbr_code(), _signature(case), entries, 512)
    active = f", number {chosen} active" if chosen else ""
    named = f"{counted(len(entries), 'partition')}{active}"
    reason = "the boot sector of each volume says that it lies there, and its folders can be walked"
    if case.drive.read_at(510, 2) == _SIGNED:
        change = Change(_ENTRIES, sector[_ENTRIES:510], Order.SECTOR_0, "partition table in sector 0")
        what = f"The partition table is written with {named}; the rest of sector 0 stays."
    else:
        change = Change(0, sector, Order.SECTOR_0, "sector 0 with an MBR")
        what = f"Sector 0 is written with boot code and {named}."
    return Remedy(finding, what, f"{reason}; {why}" if chosen else reason, (change,))


def _spans_in(drive: SizedReadable) -> list[tuple[int, int]]:
    """Return (first sector, sectors) of the entries in sector 0 in rising order, whether it counts or not."""
    entries = MasterBootRecord.unpack(drive.read_at(0, 512)).entries
    found = [MbrEntry.unpack(entries, MbrEntry.SIZE * number) for number in range(_MOST_PARTITIONS)]
    return sorted((each.first_lba, each.sector_count) for each in found if each.type)


def _use_of(found: FoundVolume, among: Sequence[FoundVolume]) -> Use:
    """Return what a partition was for: one with loaders and nothing else, beside another volume, is firmware's."""
    is_helper = found.kind.firmware_reads and len(among) > 1 and not found.has("sources")
    return Use.FIRMWARE if is_helper else COMPOSED[found.kind.name].use


def _type(case: Case, finding: Finding) -> Outcome:
    """The type that stands for the file system which is there."""
    found = case.volume(finding.place.volume)
    if found is None or found.kind.name not in COMPOSED:
        return NotMended(finding, "there is no type for what it holds", "Change the type by hand.")
    use, number = COMPOSED[found.kind.name].use, found.partition.number
    if case.examined.table.style == "gpt":
        return _new_entries(case, finding, number, use)
    place = _ENTRIES + (number - 1) * MbrEntry.SIZE + MbrEntry.offset_of("type")
    change = Change(place, bytes((use.value.mbr,)), Order.SECTOR_0, f"type of partition {number}")
    return Remedy(finding, f"The type of partition {number} becomes {use.value.mbr:02X}h.", "", (change,))


# -- GPT -------------------------------------------------------------------------------------------------------------


def _copies(case: Case) -> list[GptCopy]:
    """Return the sound copies, the primary first."""
    sector = case.sector_size
    last = case.drive.size // sector - 1
    primary = copy_at(case.drive, sector, 1)
    backup = copy_at(case.drive, sector, last)
    if backup is None and primary is not None and 1 < primary.header.alternate_lba < last:
        backup = copy_at(case.drive, sector, primary.header.alternate_lba)
    return [copy for copy in (primary, backup) if copy is not None]


def _written(case: Case, copy: GptCopy, *, primary: bool) -> tuple[Change, ...]:
    """Return a copy as it has to be on this drive."""
    sector = case.sector_size
    last = case.drive.size // sector - 1
    room = max(entry_sectors(sector), -(-len(copy.entries) // sector))
    my, other = (1, last) if primary else (last, 1)
    entries_at = 2 if primary else last - room
    header = copy.header.with_changes(my_lba=my, alternate_lba=other, partition_entry_lba=entries_at)
    header = header.with_changes(last_usable_lba=max(header.last_usable_lba, last - room - 1))
    order, name = (Order.FIRSTS, "primary GPT") if primary else (Order.COPIES, "copy of the GPT")
    entries = copy.entries.ljust(-(-len(copy.entries) // sector) * sector, b"\0")
    return (
        Change(entries_at * sector, entries, order, f"entries of the {name}"),
        Change(my * sector, header_sector(header, sector), order, f"header of the {name}"),
    )


def _blocked(case: Case, copy: GptCopy, *, primary: bool) -> str:
    """Say what is in the way of a copy: partitions, or the end of the drive."""
    sector = case.sector_size
    last = case.drive.size // sector - 1
    room = max(entry_sectors(sector), -(-len(copy.entries) // sector))
    if copy.header.last_usable_lba > last - room - 1:
        return "the table is that of a larger drive"
    for number, first, end in copy.spans():
        if primary and first < 2 + room:
            return f"partition {number} begins where the entries belong"
        if not primary and end > last - room:
            return f"partition {number} reaches to where the copy belongs"
    return ""


def _from_other_copy(case: Case, finding: Finding) -> Outcome:
    primary = finding.code is Code.GPT_PRIMARY
    copies = _copies(case)
    mine, other = ("primary GPT", "copy at the end") if primary else ("copy at the end", "primary GPT")
    if not copies:
        return NotMended(finding, "no copy of the GPT is whole", _UNSURE)
    if blocked := _blocked(case, copies[0], primary=primary):
        return NotMended(finding, blocked, _UNSURE)
    what = f"The {mine} is made from the {other}, which is whole."
    return Remedy(finding, what, "", _written(case, copies[0], primary=primary))


def _move_copy(case: Case, finding: Finding) -> Outcome:
    """An image of a smaller drive: the copy is made at this drive's end, and the primary names it."""
    copies = _copies(case)
    if not copies:
        return NotMended(finding, "no copy of the GPT is whole", _UNSURE)
    if blocked := _blocked(case, copies[0], primary=False):
        return NotMended(finding, blocked, _UNSURE)
    changes = (*_written(case, copies[0], primary=False), *_written(case, copies[0], primary=True))
    what = "A copy of the GPT is written to the drive's end, and the primary names it; the old copy stays where it is."
    return Remedy(finding, what, "", changes)


def _choose_copy(case: Case, finding: Finding) -> Outcome:
    """Both copies are sound and differ: the one counts whose partitions hold volumes that can be read."""
    copies = _copies(case)
    if len(copies) != 2:
        return NotMended(finding, "only one copy of the GPT is whole", _UNSURE)
    if copies[0].entries == copies[1].entries:
        why = "both name the same partitions, and firmware reads the primary one first"
        return Remedy(
            finding, "The copy at the end is made from the primary GPT.", why, _written(case, copies[0], primary=False)
        )
    first, second = (_volumes_of(case.drive, copy, case.sector_size) for copy in copies)
    if first == second:
        why = f"{counted(len(first), 'volume')} can be read by either copy, so which one is right is not known"
        return NotMended(finding, why, _UNSURE)
    if not (first > second or second > first):
        return NotMended(finding, "each copy leads to volumes that the other one does not have", _UNSURE)
    is_first = first > second
    right, wrong = (copies[0], "copy at the end") if is_first else (copies[1], "primary GPT")
    if blocked := _blocked(case, right, primary=not is_first):
        return NotMended(finding, blocked, _UNSURE)
    name = "primary GPT" if is_first else "copy at the end"
    more, fewer = (first, second) if is_first else (second, first)
    why = f"by the {name} {counted(len(more), 'volume')} can be read, by the {wrong} {len(fewer)}"
    return Remedy(finding, f"The {wrong} is made from the {name}.", why, _written(case, right, primary=not is_first))


def _volumes_of(drive: SizedReadable, copy: GptCopy, sector: int) -> set[tuple[int, int]]:
    """Return the places of the partitions of a copy that hold volumes which can be walked without a fault."""
    found = set()
    for _, first, end in copy.spans():
        offset, size = first * sector, min(end * sector, drive.size) - first * sector
        if size >= 512 and _is_sound(drive, offset, size):
            found.add((offset, size))
    return found


def _is_sound(drive: SizedReadable, offset: int, size: int) -> bool:
    if kind_at(drive, offset, size) is None:
        return False
    try:
        _, volume = open_volume(drive, offset, size)
        return not any(entry.faults for entry in volume.walk())
    except VolumeError:
        return False


def _protective(case: Case, finding: Finding) -> Outcome:
    """Sector 0 is to guard the GPT that is there. What it names itself decides whether that is meant at all."""
    copies = _copies(case)
    if not copies or not _volumes_of(case.drive, copies[0], case.sector_size):
        return NotMended(finding, "the GPT that is there leads to no volume that can be read", _UNSURE)
    head = case.drive.read_at(0, 512)
    count = len(_volumes_of(case.drive, copies[0], case.sector_size))
    why = f"the GPT leads to {counted(count, 'volume')} that can be read"
    if head[510:] != _SIGNED and TYPE_PROTECTIVE in _types_in(head):
        return _signed_again(finding, why)
    sectors = case.drive.size // case.sector_size
    entries = protective_entry(sectors).pack() + bytes(48)
    if head[510:] == _SIGNED:
        changes = (Change(_ENTRIES, entries, Order.SECTOR_0, "protective record in sector 0"),)
        what = "The protective record is written into sector 0's partition table; the rest of sector 0 stays."
    else:
        sector = MasterBootRecord(code=mbr_code().ljust(440, b"\0"), disk_signature=0, entries=entries)
        changes = (Change(0, sector.pack(), Order.SECTOR_0, "sector 0 with the protective record"),)
        what = "Sector 0 is written with a protective record."
    return Remedy(finding, what, why, changes)


def _types_in(head: bytes) -> list[int]:
    """Return the types of a sector 0's entries, whether it counts as a table or not."""
    entries = MasterBootRecord.unpack(head).entries
    return [MbrEntry.unpack(entries, MbrEntry.SIZE * number).type for number in range(_MOST_PARTITIONS)]


def _signed_again(finding: Finding, why: str) -> Remedy:
    change = Change(510, _SIGNED, Order.SECTOR_0, "signature of sector 0")
    return Remedy(finding, "The signature of sector 0 is written; everything else in it stays.", why, (change,))


def _stale(case: Case, finding: Finding) -> Outcome:
    """Remains of a GPT behind an MBR whose partitions hold volumes: its headers are cleared, and nothing else."""
    sector, volumes = case.sector_size, case.examined.volumes
    if not volumes:
        why = "the MBR leads to no volume that can be read, so the GPT may be the table that is meant"
        return NotMended(finding, why, _UNSURE)
    last = case.drive.size // sector - 1
    changes, kept = [], []
    for lba, order, name in ((last, Order.COPIES, "copy"), (1, Order.FIRSTS, "primary header")):
        if copy_at(case.drive, sector, lba) is None:
            continue
        inside = [p for p in case.examined.partitions if p.first_lba <= lba < p.first_lba + p.sector_count]
        if inside:
            kept.append(name)
            continue
        changes.append(Change(lba * sector, bytes(sector), order, f"{name} of the stale GPT"))
    if not changes:
        return NotMended(finding, f"its {' and '.join(kept)} lies inside a partition", _UNSURE)
    what = "The headers of the stale GPT are cleared."
    why = f"the MBR leads to {counted(len(volumes), 'volume')} that can be read, and is the table that counts"
    return Remedy(finding, what, why, tuple(changes))


def _new_entries(case: Case, finding: Finding, number: int, use: Use) -> Outcome:
    """Another type in both copies of a GPT."""
    copies = _copies(case)
    if not copies:
        return NotMended(finding, "no copy of the GPT is whole", _UNSURE)
    changes: Sequence[Change] = ()
    for copy in copies:
        at = (number - 1) * copy.header.size_of_partition_entry
        entry = GptEntry.unpack(copy.entries, at).with_changes(partition_type_guid=use.value.gpt.bytes_le)
        entries = copy.entries[:at] + entry.pack() + copy.entries[at + ENTRY_SIZE :]
        primary = copy.header.my_lba == 1
        changes = (*changes, *_written(case, copy.with_entries(entries), primary=primary))
    return Remedy(finding, f"The type of partition {number} becomes {use.value.gpt_shown}.", "", tuple(changes))


RULES: Rules = {
    Code.TABLE_MISSING: _new_table,
    Code.START_NO_MBR_CODE: _boot_code,
    Code.START_FOREIGN_MBR_CODE: _boot_code,
    Code.START_NO_ACTIVE: _mark_bearer,
    Code.START_WRONG_ACTIVE: _mark_bearer,
    Code.TABLE_SEVERAL_ACTIVE: _mark_bearer,
    Code.TABLE_SIGNATURE: _disk_signature,
    Code.MBR_STATUS: _status,
    Code.MBR_CHS: _chs,
    Code.PARTITION_TYPE: _type,
    Code.GPT_PRIMARY: _from_other_copy,
    Code.GPT_BACKUP: _from_other_copy,
    Code.GPT_COPY_NOT_AT_END: _move_copy,
    Code.GPT_COPIES_DIFFER: _choose_copy,
    Code.GPT_NO_PROTECTIVE: _protective,
    Code.GPT_STALE: _stale,
}
