"""Walks the way a drive starts, as firmware does: record, active partition, boot sector, loader; removable loaders."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..boot.records import FURTHER_CODE_MARKS, boot_sector, code_of, crossing, further_code, mbr_code
from ..planning.plan import Outlook
from ..starting.forecast import MOST_BIOS_LOADER, NOT_FROM_GPT, NOT_WITH_4096, Way, examine, uefi_rows
from ..starting.pe import REMOVABLE_LOADERS
from ..tables.table import Table
from ..volumes.fat32.records import FURTHER_CODE_SECTOR
from .found import FileOnVolume, FoundFat32, FoundNtfs, FoundVolume, file_on
from .report import Report

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate

_FIRST_CODE = {"fat32": FURTHER_CODE_SECTOR, "ntfs": 1}


def walk_boot(
    table: Table, volumes: Sequence[FoundVolume], sector_size: int, report: Report, trusted: Sequence[Certificate]
) -> tuple[Outlook, ...]:
    """Return on which firmware the drive starts, adding a fault where a chain is there but broken."""
    rows = [_bios(table, volumes, sector_size, report)]
    for architecture, name in REMOVABLE_LOADERS.items():
        rows += _uefi(architecture, f"EFI/BOOT/{name}".upper(), volumes, report, trusted)
    if not any(row.verdict != "will not start" for row in rows):
        report.fault("start", "no firmware finds anything on this drive to start.", "Build it from an installer image.")
    return tuple(rows)


def _bios(table: Table, volumes: Sequence[FoundVolume], sector_size: int, report: Report) -> Outlook:
    def fails(why: str) -> Outlook:
        return Outlook("BIOS", "will not start", why)

    if sector_size != 512:
        return NOT_WITH_4096
    if table.style == "gpt":
        return NOT_FROM_GPT
    if not any(table.mbr.code):
        return fails("sector 0 has no boot code")
    active = [partition.number for partition in table.partitions if partition.active]
    found = next((found for found in volumes if [found.partition.number] == active), None)
    if found is None:
        return fails("no partition with a volume is active, or more than one")
    manager = file_on(found, "bootmgr")
    if manager is None:
        return fails("BOOTMGR is not in the root folder")
    if manager.entry.faults or not 0 < manager.size <= MOST_BIOS_LOADER:
        report.fault(
            "start",
            f"BOOTMGR ({manager.size:,} bytes) is not whole or too large for low memory.",
            "Put a sound BOOTMGR in its place.",
        )
        return fails("BOOTMGR is not whole")
    kind = "ntfs" if isinstance(found, FoundNtfs) else "fat32"
    first = found.volume.boot.pack()
    ours = code_of(first, kind) == code_of(boot_sector(kind), kind)
    if ours and not _further_code_is_whole(found, kind, report):
        return fails("its boot code is not whole")
    if not any(code_of(first, kind)):
        return fails("the volume's boot sector has no code")
    if ours and table.mbr.code[: len(mbr_code())] == mbr_code():
        return Outlook("BIOS", "starts", "our records, active partition and BOOTMGR are whole")
    return Outlook(
        "BIOS",
        "not known",
        "record, active partition and BOOTMGR are there; the boot code is not ours and was not judged",
    )


def _further_code_is_whole(found: FoundVolume, kind: str, report: Report) -> bool:
    expected = further_code(kind)
    sector = _FIRST_CODE[kind]
    further = found.volume.bytes_at(found.volume.offset + 512 * sector, len(expected))
    if further == expected:
        return True
    gone = "is gone" if further[:4] != FURTHER_CODE_MARKS[kind] else "is damaged"
    report.fault("start", f"the boot code in the volume's sector {sector} {gone}.", "Build the drive again.")
    return False


def _uefi(
    architecture: str, path: str, volumes: Sequence[FoundVolume], report: Report, trusted: Sequence[Certificate]
) -> tuple[Outlook, Outlook]:
    loader, way = _loader(architecture, path, volumes)
    if loader is None:
        return uefi_rows(architecture, path, None, way, trusted, where="the drive")
    state = examine(path, loader)
    fault = "; ".join(loader.entry.faults) or state.fault
    if fault:
        report.fault("start", f"{path} is not whole: {fault}.", "Put a sound loader in its place.")
    return uefi_rows(architecture, path, state, way, trusted, where="the drive")


def _loader(architecture: str, path: str, volumes: Sequence[FoundVolume]) -> tuple[FileOnVolume | None, Way]:
    """Return the loader that runs in the end, and the way firmware gets there."""
    on_ntfs = next((file for found in volumes if isinstance(found, FoundNtfs) and (file := file_on(found, path))), None)
    for found in volumes:
        file = file_on(found, path) if isinstance(found, FoundFat32) else None
        if file is None:
            continue
        ours = crossing(architecture)
        if file.size == len(ours) and file.read_at(0, file.size) == ours:
            return on_ntfs, "crossing"
        return file, "starter" if any(isinstance(other, FoundNtfs) for other in volumes) else "fat32"
    return on_ntfs, "none"
