"""Walks the way a drive starts, as firmware does: record, active partition, boot sector, loader; removable loaders."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..boot.records import FURTHER_CODE_MARK, fat32_boot_sector, fat32_further_code, mbr_code
from ..planning.forecast import MOST_BIOS_LOADER, UEFI_NAMES
from ..planning.plan import Outlook
from ..sources.pe import REMOVABLE_LOADERS, loader_architecture, loader_fault
from ..tables.table import Table
from ..volumes.fat32.read import Entry, Fat32Volume
from ..volumes.fat32.records import FURTHER_CODE_SECTOR
from .report import Report


@dataclass(frozen=True)
class _FileOnVolume:
    """A file's bytes through its chain, as a content that can be read at any offset."""

    volume: Fat32Volume
    entry: Entry

    @property
    def size(self) -> int:
        return min(self.entry.size, self.entry.runs_clusters() * self.volume.cluster_size)

    def read_at(self, offset: int, size: int) -> bytes:
        return self.volume.read_at_of(self.entry, offset, size)


def walk_boot(
    table: Table, volume: Fat32Volume, active: bool, sector_size: int, entries: Sequence[Entry], report: Report
) -> tuple[Outlook, ...]:
    """Return on which firmware the drive starts, adding a fault where a chain is there but broken."""
    by_path = {entry.path.upper(): entry for entry in entries if not entry.is_folder}
    rows = [_bios(table, volume, active, sector_size, by_path.get("BOOTMGR"), report)]
    for architecture, name in UEFI_NAMES.items():
        path = f"EFI/BOOT/{REMOVABLE_LOADERS[architecture]}".upper()
        rows.append(_uefi(name, architecture, path, by_path.get(path), volume, report))
    rows.append(Outlook("Secure Boot", "not known", "signatures are not examined yet"))
    if not any(row.verdict == "starts" for row in rows):
        report.fault("start", "no firmware finds anything on this drive to start.", "Build it from an installer image.")
    return tuple(rows)


def _bios(table: Table, volume: Fat32Volume, active: bool, sector_size: int, manager: Entry | None, report: Report) -> Outlook:
    def fails(why: str) -> Outlook:
        return Outlook("BIOS", "will not start", why)

    if sector_size != 512:
        return fails("BIOS firmware reads drives in sectors of 512 bytes only")
    if table.style == "gpt":
        return fails("BIOS machines start no Windows installer from a GPT drive")
    if not any(table.mbr.code):
        return fails("sector 0 has no boot code")
    if not active:
        return fails("no partition is active, or more than one")
    if manager is None:
        return fails("BOOTMGR is not in the root folder")
    if manager.faults or not 0 < manager.size <= MOST_BIOS_LOADER:
        report.fault(
            "start", f"BOOTMGR ({manager.size:,} bytes) is not whole or too large for low memory.", "Put a sound BOOTMGR in its place."
        )
        return fails("BOOTMGR is not whole")
    ours = volume.boot.code == fat32_boot_sector()[90:510]
    further = b"".join(volume.sector(FURTHER_CODE_SECTOR + n) for n in range(len(fat32_further_code()) // 512)) if ours else b""
    if ours and further != fat32_further_code():
        gone = "is gone" if further[:4] != FURTHER_CODE_MARK else "is damaged"
        report.fault("start", f"the boot code in reserved sector {FURTHER_CODE_SECTOR} {gone}.", "Build the drive again.")
        return fails("its boot code is not whole")
    if not any(volume.boot.code):
        return fails("the volume's boot sector has no code")
    if ours and table.mbr.code[: len(mbr_code())] == mbr_code():
        return Outlook("BIOS", "starts", "our records, active partition and BOOTMGR are whole")
    return Outlook("BIOS", "not known", "record, active partition and BOOTMGR are there; the boot code is not ours and was not judged")


def _uefi(name: str, architecture: str, path: str, loader: Entry | None, volume: Fat32Volume, report: Report) -> Outlook:
    if loader is None:
        return Outlook(name, "will not start", f"there is no {path}")
    content = _FileOnVolume(volume, loader)
    made_for = loader_architecture(content)
    if made_for != architecture:
        return Outlook(name, "will not start", f"{path} is {'made for ' + made_for if made_for else 'no UEFI loader'}")
    fault = "its cluster chain is broken" if loader.faults else loader_fault(content)
    if fault:
        report.fault("start", f"{path} is not whole: {fault}.", "Put a sound loader in its place.")
        return Outlook(name, "will not start", f"{path} is not whole")
    return Outlook(name, "starts", f"{path} is whole, on a FAT32 volume")
