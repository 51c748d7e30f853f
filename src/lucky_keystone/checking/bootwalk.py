"""Walks the way a drive starts, as firmware does, by the rules that make the forecast.

Says what is broken on the way.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence

from ..setup.folders import SETUP_IMAGES
from ..starting.bios import LOADER, loader_fits
from ..starting.boot_store import STORES
from ..starting.bootable import ReadBootVolume, ReadDrive
from ..starting.foreign import Does, Judged
from ..starting.loaders import examine, loader_path
from ..starting.outlook import Outlook
from ..starting.pe import REMOVABLE_LOADERS
from ..starting.release import is_before_secure_boot, setup_architecture, setup_build
from ..starting.rules import outlooks
from ..starting.stores import lost_entries, store_fault
from ..starting.trust import Machine
from ..starting.uefi import NAMES
from ..tables.mbr import HEADS, SECTORS_PER_TRACK
from .codes import Code
from .macwalk import walk_macs
from .report import Place, Report

_BIOS_STORE = "boot/bcd"
_INSTALLED_LOADER = "efi/microsoft/boot/bootmgfw.efi"
_MAC_LOADER = "System/Library/CoreServices/boot.efi"
_REBUILD = "Build the drive again."


def walk_boot(drive: ReadDrive, report: Report, machine: Machine, wanted: Collection[str] = ()) -> tuple[Outlook, ...]:
    """Return on which firmware the drive starts, adding findings for what keeps it from starting.

    `wanted` is which firmware ('bios', 'uefi') it is to start on: what is missing for that is a fault, as everything is
    when no firmware starts it.
    """
    rows = outlooks(drive, machine)
    if drive.table == "none" and not drive.volumes:
        return rows  # without a table no firmware looks for anything, and what is wrong with that is said already
    if drive.table == "mbr" and drive.sector_size == 512:
        _bios(drive, report)
    has_loader = [_uefi(architecture, drive.volumes, report) for architecture in REMOVABLE_LOADERS]
    if not any(has_loader):
        _installed_only(drive, report)
    _stores(drive, report)
    walk_macs(drive, report, machine)
    _wanted(rows, wanted, report)
    if not any(row.verdict != "will not start" for row in rows):
        what = "no firmware finds anything on this drive to start."
        if is_plain(drive):
            what = "it is a plain data drive: nothing on it could start."
        report.start(Code.START_NOTHING, what, "Build it from an installer image.")
        wanted = ("bios", "uefi")
    report.demand(wanted)
    return rows


def is_plain(drive: ReadDrive) -> bool:
    """True where volumes were read and nothing on them is for a start: no loader, no store, no setup."""
    loaders = [loader_path(architecture) for architecture in REMOVABLE_LOADERS]
    paths = (LOADER, _INSTALLED_LOADER, *STORES.values(), *SETUP_IMAGES, *loaders, _MAC_LOADER)
    named = any(volume.names_loader or any(volume.find(path) for path in paths) for volume in drive.volumes)
    return bool(drive.volumes) and not drive.unseen and not named


def _stores(drive: ReadDrive, report: Report) -> None:
    """Find boot stores that do not start the system which they name."""
    for volume in drive.volumes:
        for firmware in STORES:
            fault = store_fault(drive, volume, firmware)
            if fault is None:
                for lost in lost_entries(volume, firmware):
                    place = Place(volume.partition.number, file=lost.path)
                    report.start(Code.START_STORE, f"{lost.path} {lost.why}.", _REBUILD, place)
                continue
            code = Code.START_STORE_OTHER_DRIVE if fault.is_other_drive else Code.START_STORE
            place = Place(volume.partition.number, file=fault.path)
            what = f"{fault.path} {fault.why}, so {firmware.upper()} machines will not start it."
            report.start(code, what, _REBUILD, place, firmware=firmware)  # type: ignore[arg-type]


def _wanted(rows: Sequence[Outlook], wanted: Collection[str], report: Report) -> None:
    """Note that the drive does not start where it is to, when nothing else that was found says why."""
    for firmware, name in (("bios", "BIOS"), ("uefi", "UEFI")):
        mine = [row for row in rows if row.kind == firmware and not row.refines]
        said = any(found.firmware == firmware for found in report.findings)
        if firmware in wanted and not said and all(row.verdict == "will not start" for row in mine):
            what = f"{name} machines will not start it: {mine[0].reason}."
            report.start(Code.START_WANTED, what, _REBUILD, firmware=firmware)  # type: ignore[arg-type]


def _bios(drive: ReadDrive, report: Report) -> None:
    """Find what keeps BOOTMGR, which is there, from being started."""
    bearers = [volume for volume in drive.volumes if volume.find(LOADER) is not None]
    bearer = next((volume for volume in bearers if volume.active), bearers[0] if bearers else None)
    if bearer is None:
        _missing_manager(drive, report)
        return
    number, manager = bearer.partition.number, bearer.find(LOADER)
    assert manager is not None
    place = Place(number, file=LOADER)
    if manager.faults or not loader_fits(manager.size):
        what = f"BOOTMGR ({manager.size:,} bytes) is damaged, or too large for low memory."
        report.fault(Code.START_BOOTMGR, "start", what, "Replace it with an intact BOOTMGR.", place)

    def miss(code: Code, what: str, place: Place) -> None:
        report.start(code, f"{what}, so BIOS machines will not start BOOTMGR.", _REBUILD, place, firmware="bios")

    sector = Place(number, bearer.volume.offset, 512)
    if drive.record == "none":
        miss(Code.START_NO_MBR_CODE, "sector 0 has no boot code", Place(offset=0, size=440))
    elif drive.record_code.does is Does.GIVES_UP:
        what = "sector 0 has foreign boot code that starts no partition"
        miss(Code.START_FOREIGN_MBR_CODE, what, Place(offset=0, size=440))
    else:
        _other_code(drive.record_code, "sector 0", "the active partition", Place(offset=0, size=440), report)
    if drive.active_count == 0:
        miss(Code.START_NO_ACTIVE, "no partition is active", Place(number, 446, 64))
    elif drive.active_count == 1 and not bearer.active:
        what = f"another partition than number {number}, which holds BOOTMGR, is active"
        miss(Code.START_WRONG_ACTIVE, what, Place(number, 446, 64))
    if bearer.boot_code == "none":
        miss(Code.START_NO_VOLUME_CODE, "the volume's boot sector has no code", sector)
    elif bearer.boot_code == "damaged":
        _damaged_code(bearer, report)
    elif bearer.code.does is Does.GIVES_UP:
        miss(Code.START_FOREIGN_CODE, "the volume's boot sector has foreign code that starts nothing", sector)
    else:
        _other_code(bearer.code, "the volume's boot sector", "BOOTMGR", sector, report)
    _geometry(bearer, report)


def _other_code(code: Judged, where: str, aim: str, place: Place, report: Report) -> None:
    """Note what is left as it is: somebody may want it so."""
    if code.does is Does.OTHER:
        what = (
            f"{where} has foreign boot code that starts something else than {aim}; 'mend --boot-code' puts ours there."
        )
        report.note(Code.START_OTHER_CODE, "start", what, place)
    elif code.does is Does.NOT_KNOWN:
        what = f"{where} has foreign boot code, and what it does is not known: {code.why}; "
        what += "'mend --boot-code' puts ours there."
        report.note(Code.START_CODE_NOT_KNOWN, "start", what, place)


def _missing_manager(drive: ReadDrive, report: Report) -> None:
    """Find an installer for BIOS machines that has everything but BOOTMGR."""
    for volume in drive.volumes:
        if volume.find(_BIOS_STORE) is not None and volume.find(SETUP_IMAGES[0]) is not None:
            what = f"BOOTMGR is missing, though {_BIOS_STORE} is there, so BIOS machines will not start it."
            place = Place(volume.partition.number, file=LOADER)
            report.start(Code.START_BOOTMGR, what, "Copy it from the installer.", place, firmware="bios")
            return


def _geometry(bearer: ReadBootVolume, report: Report) -> None:
    """Compare the geometry in the boot sector with the one that the partition table counts by."""
    heads, sectors = bearer.geometry
    if (heads, sectors) != (HEADS, SECTORS_PER_TRACK):
        what = (
            f"the volume's boot sector says {heads} heads and {sectors} sectors a track, the partition table counts by "
            f"{HEADS} and {SECTORS_PER_TRACK}: it was made for another drive, and old BIOS firmware reads wrong places."
        )
        place = Place(bearer.partition.number, bearer.volume.offset + 24, 4)
        report.start(Code.VOLUME_GEOMETRY, what, _REBUILD, place, firmware="bios", area="boot sectors")


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
            what = f"{path.upper()} is incomplete or damaged: {state.fault}."
            report.fault(Code.START_LOADER, "start", what, "Replace it with an intact loader.", place)
        elif state.architecture != architecture:
            made_for = f"made for {state.architecture}" if state.architecture else "no UEFI loader"
            what = f"{path.upper()} is {made_for}, so {NAMES[architecture]} machines will not start it."
            advice = "Replace it with a loader for the right architecture."
            report.start(Code.START_LOADER_ARCHITECTURE, what, advice, place, firmware="uefi")
    if found and not any(volume.kind.firmware_reads for volume, _ in found):
        what = f"{path.upper()} lies on {found[0][0].kind.shown} only, which UEFI firmware does not read."
        number = found[0][0].partition.number
        report.start(Code.START_NO_CROSSING, what, _REBUILD, Place(number, file=path), firmware="uefi")
    return bool(found)


def _installed_only(drive: ReadDrive, report: Report) -> None:
    """Find what loader is missing where there is none for any machine."""
    for volume in drive.volumes:
        file = volume.find(_INSTALLED_LOADER) if volume.kind.firmware_reads else None
        if file is None:
            continue
        architecture = examine(file).architecture
        name = loader_path(architecture) if architecture in REMOVABLE_LOADERS else "the name for its machines"
        what = f"{_INSTALLED_LOADER} is there, but not under the name that firmware looks for on removable drives."
        place = Place(volume.partition.number, file=_INSTALLED_LOADER)
        report.start(Code.START_NO_REMOVABLE_LOADER, what, f"Copy it to {name}.", place, firmware="uefi")
        return
    _without_any(drive, report)


def _without_any(drive: ReadDrive, report: Report) -> None:
    """An installer whose release starts on UEFI, and which has no loader under whatever name."""
    architecture, build = setup_architecture(drive), setup_build(drive)
    starts_on_uefi = architecture in REMOVABLE_LOADERS and not (architecture == "x86" and is_before_secure_boot(build))
    volume = next((each for each in drive.volumes if each.kind.firmware_reads and each.find(SETUP_IMAGES[0])), None)
    if volume is None or not starts_on_uefi:
        return
    path = loader_path(architecture)
    what = f"{path} is missing, which {NAMES[architecture]} machines start from."
    advice = "Copy it from the installer, or run 'lucky-keystone mend' with --from."
    place = Place(volume.partition.number, file=path)
    report.start(Code.START_NO_REMOVABLE_LOADER, what, advice, place, firmware="uefi")
