"""Checks a drive's partition table, and says where to look for volumes when it is lost."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import DriveError
from ..content.blank import is_blank
from ..content.contents import SizedReadable
from ..manifest.format import Manifest
from ..sources.iso_records import IDENTIFIER, SECTOR, VolumeDescriptor
from ..starting.reading import whole_drive
from ..tables.gpt import read_gpt
from ..tables.mbr import MbrTable
from ..tables.table import Partition, Table, read_table, read_unguarded_gpt
from ..volumes.kinds import COMPOSED, kind_at
from .codes import Code
from .lost import lost_partitions
from .report import Place, Report

_REBUILD = "Build the drive again."
NO_TABLE = Table("", MbrTable(b"", 0, (), ()), None, (), ())
_SOUND = (Code.GPT_COPY_NOT_AT_END,)


def check_table(
    drive: SizedReadable, sector: int, manifest: Manifest | None, report: Report
) -> tuple[Table, Sequence[Partition]]:
    """Check the table; return it and the partitions to look into, from the manifest when sector 0 is lost."""
    is_image = bool(manifest and manifest.about.image_size) or _holds_disc_image(drive)
    table = read_table(drive, sector)
    has_sound_table = table is not None and bool(table.partitions) and not table.faults
    if (is_image or not has_sound_table) and (kind := kind_at(drive, 0, drive.size)) is not None:
        report.looked_at.append(f"table: none; a {kind.shown} volume from sector 0 on")
        return NO_TABLE, (whole_drive(drive, sector),)
    if table is None or (table.style == "mbr" and not table.partitions):
        unguarded = read_unguarded_gpt(drive, sector)
        if unguarded is not None:
            return _unguarded(unguarded, manifest, sector, report)
    has_none = (table is None or not (table.partitions or table.gpt)) and not is_image
    if has_none and (lost := lost_partitions(drive, sector)):
        return _lost(table, lost, sector, report)
    if table is None:
        if is_image:
            return NO_TABLE, ()
        if manifest is None and _is_blank(drive):
            what, next_step = (
                "the drive is blank: it has only zeros wherever it was sampled.",
                "Build an installer onto it.",
            )
            report.fault(Code.TABLE_BLANK, "table", what, next_step, Place(offset=0, size=sector))
            return NO_TABLE, ()
        sealed = (
            "It was not finished, or sector 0 was lost."
            if manifest
            else "It was never finished, or it is not an installer drive."
        )
        what = "sector 0 carries no partition table."
        report.fault(Code.TABLE_MISSING, "table", what, f"{sealed} {_REBUILD}", Place(offset=0, size=sector))
        return NO_TABLE, _partitions_of(manifest, sector) if manifest else ()
    _sound(table, drive, sector, is_image=is_image, report=report)
    return table, table.partitions


def _is_blank(drive: SizedReadable) -> bool:
    try:
        return is_blank(drive)
    except DriveError:  # what cannot be read is told elsewhere
        return False


def _sound(table: Table, drive: SizedReadable, sector: int, *, is_image: bool, report: Report) -> None:
    """Note what is wrong with a table that is there."""
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
        return
    if table.style == "mbr" and table.mbr.disk_signature == 0:
        advice = "Windows cannot tell this drive from others: build it again."
        report.fault(Code.TABLE_SIGNATURE, "table", "the disk signature is 0.", advice, Place(offset=440, size=4))
    if table.style == "mbr" and (stale := read_gpt(drive, sector)) is not None and stale.sound_copies:
        what = "after the MBR there are remains of a GPT, which some firmware and partition tools follow."
        place = Place(offset=sector, size=sector)
        report.start(Code.GPT_STALE, what, "Clear the GPT's headers, or build the drive again.", place, area="table")
    actives = sum(partition.active for partition in table.partitions)
    if actives > 1:
        what, advice = f"{actives} partitions are active.", "One must be: build the drive again."
        report.fault(Code.TABLE_SEVERAL_ACTIVE, "table", what, advice, Place(offset=446, size=64))


def _unguarded(
    table: Table, manifest: Manifest | None, sector: int, report: Report
) -> tuple[Table, Sequence[Partition]]:
    """Note that sector 0 does not guard the GPT that is there; its partitions are looked at all the same."""
    assert table.gpt is not None
    state = "It was not finished, or sector 0 was lost" if manifest else "Sector 0 was lost or overwritten"
    copies = "both copies are" if table.gpt.sound_copies == 2 else "one copy is"
    what = f"sector 0 carries no protective record, so the GPT after it, of which {copies} whole, does not count."
    advice = f"{state}: {_REBUILD[:1].lower()}{_REBUILD[1:]}"
    report.fault(Code.GPT_NO_PROTECTIVE, "table", what, advice, Place(offset=0, size=sector))
    for fault in table.faults:
        report.fault(Code(fault.code), "table", f"{fault}.", _REBUILD, Place(fault.partition))
    return Table("", table.mbr, None, (), ()), table.partitions


def _lost(
    table: Table | None, lost: Sequence[Partition], sector: int, report: Report
) -> tuple[Table, Sequence[Partition]]:
    """Note that sector 0 names no partition though volumes are there, which are looked into all the same."""
    places = ", ".join(f"byte {each.first_lba * sector:,}" for each in lost)
    volumes = "a volume is whole" if len(lost) == 1 else f"{len(lost)} volumes are whole"
    state = "carries no partition table" if table is None else "names no partition"
    what = f"sector 0 {state}, though {volumes} at {places}."
    advice = "Sector 0 was lost or overwritten: mend it, or build the drive again."
    report.fault(Code.TABLE_MISSING, "table", what, advice, Place(offset=0, size=sector))
    return Table("", MbrTable(b"", 0, (), ()), None, (), ()), lost


def _holds_disc_image(drive: SizedReadable) -> bool:
    """True when a disc image was written onto the drive as it is: its table is then what its maker made of it."""
    place = 16 * SECTOR
    if drive.size < place + SECTOR:
        return False
    return VolumeDescriptor.unpack(drive.read_at(place, SECTOR)).identifier == IDENTIFIER


def _partitions_of(manifest: Manifest, sector: int) -> list[Partition]:
    """Return the partitions the manifest describes, to check a drive whose sector 0 is lost."""
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
