"""Walks the way a drive starts, as firmware does, by the rules that make the forecast.

Says what is broken on the way.
"""

from __future__ import annotations

from collections.abc import Sequence

from ..starting.bios import LOADER, loader_fits
from ..starting.bootable import ReadBootVolume, ReadDrive
from ..starting.outlook import Outlook
from ..starting.pe import REMOVABLE_LOADERS
from ..starting.rules import outlooks
from ..starting.trust import Machine
from ..starting.uefi import NAMES, examine, loader_path
from .codes import Code
from .report import Place, Report

_INSTALLED_LOADER = "efi/microsoft/boot/bootmgfw.efi"
_REBUILD = "Build the drive again."


def walk_boot(drive: ReadDrive, report: Report, machine: Machine) -> tuple[Outlook, ...]:
    """Return on which firmware the drive starts, adding findings for chains that are there but broken."""
    rows = outlooks(drive, machine)
    if drive.table == "mbr" and drive.sector_size == 512:
        _bios(drive, report)
    has_loader = [_uefi(architecture, drive.volumes, report) for architecture in REMOVABLE_LOADERS]
    if not any(has_loader):
        _installed_only(drive.volumes, report)
    if not any(row.verdict != "will not start" for row in rows):
        what = "no firmware finds anything on this drive to start."
        report.start(Code.START_NOTHING, what, "Build it from an installer image.")
    return rows


def _bios(drive: ReadDrive, report: Report) -> None:
    """Find what keeps BOOTMGR, which is there, from being started."""
    bearer = next((volume for volume in drive.volumes if volume.find(LOADER) is not None), None)
    if bearer is None:
        return
    number, manager = bearer.partition.number, bearer.find(LOADER)
    assert manager is not None
    place = Place(number, file=LOADER)
    if manager.faults or not loader_fits(manager.size):
        what = f"BOOTMGR ({manager.size:,} bytes) is not whole or too large for low memory."
        report.fault(Code.START_BOOTMGR, "start", what, "Put a sound BOOTMGR in its place.", place)
    if drive.record == "none":
        what = "sector 0 has no boot code, so BIOS machines will not start BOOTMGR."
        report.start(Code.START_NO_MBR_CODE, what, _REBUILD, Place(offset=0, size=440))
    if drive.active_count == 0:
        what = "no partition is active, so BIOS machines will not start BOOTMGR."
        report.start(Code.START_NO_ACTIVE, what, _REBUILD, Place(number, 446, 64))
    if bearer.boot_code == "none":
        what = "the volume's boot sector has no code, so BIOS machines will not start BOOTMGR."
        report.start(Code.START_NO_VOLUME_CODE, what, _REBUILD, Place(number, bearer.volume.offset, 512))
    if bearer.boot_code == "damaged":
        _damaged_code(bearer, report)


def _damaged_code(found: ReadBootVolume, report: Report) -> None:
    record = found.kind.boot_record
    assert record is not None
    further = found.further_code
    state = "is missing" if further[: len(record.mark)] != record.mark else "is damaged"
    what = f"the boot code in the volume's sector {record.further_sector} {state}."
    place = Place(found.partition.number, found.further_place, len(record.further_code))
    report.fault(Code.START_VOLUME_CODE, "start", what, _REBUILD, place)


def _uefi(architecture: str, volumes: Sequence[ReadBootVolume], report: Report) -> bool:
    """Find what keeps a loader that is there from being started. Returns whether there is any."""
    path = loader_path(architecture)
    found = [(volume, file) for volume in volumes if (file := volume.find(path)) is not None]
    for volume, file in found:
        state, place = examine(file), Place(volume.partition.number, file=path)
        if state.fault:
            what = f"{path.upper()} is not whole: {state.fault}."
            report.fault(Code.START_LOADER, "start", what, "Put a sound loader in its place.", place)
        elif state.architecture != architecture:
            made_for = f"made for {state.architecture}" if state.architecture else "no UEFI loader"
            what = f"{path.upper()} is {made_for}, so {NAMES[architecture]} machines will not start it."
            report.start(Code.START_LOADER_ARCHITECTURE, what, "Put a loader of the right kind in its place.", place)
    if found and not any(volume.kind.firmware_reads for volume, _ in found):
        what = f"{path.upper()} lies on NTFS only, which UEFI firmware does not read."
        number = found[0][0].partition.number
        report.start(Code.START_NO_CROSSING, what, _REBUILD, Place(number, file=path))
    return bool(found)


def _installed_only(volumes: Sequence[ReadBootVolume], report: Report) -> None:
    for volume in volumes:
        if volume.kind.firmware_reads and volume.find(_INSTALLED_LOADER) is not None:
            what = f"{_INSTALLED_LOADER} is there, but not under the name that firmware looks for on removable drives."
            place = Place(volume.partition.number, file=_INSTALLED_LOADER)
            report.start(Code.START_NO_REMOVABLE_LOADER, what, "Copy it to efi/boot/bootx64.efi.", place)
