"""BIOS: sector 0 is loaded and entered; ours starts the active partition's boot sector, which starts BOOTMGR."""

from __future__ import annotations

from collections.abc import Sequence

from .bootable import Bootable, BootVolume
from .foreign import Does, Judged
from .outlook import Outlook, Verdict
from .release import is_before_secure_boot, older_release, setup_build
from .stores import starts_system, store_fault
from .trust import Machine

SECTOR_SIZE = 512
"""Bytes of the only sectors that BIOS firmware reads."""
MOST_LOADER = 0x9FC00 - 0x20000
"""Bytes between 2000:0000, where BOOTMGR is loaded, and the firmware's data at the top of low memory."""
LOADER = "bootmgr"


class Bios:
    """The rule for BIOS firmware."""

    def rows(self, drive: Bootable, machine: Machine) -> Sequence[Outlook]:
        verdict, reason = _verdict(drive)
        if verdict == "starts" and is_before_secure_boot(build := setup_build(drive)):
            reason = f"{reason}; {older_release(build)}"
        return (Outlook("BIOS", verdict, reason, kind="bios"),)


def loader_fits(size: int) -> bool:
    """True when BOOTMGR of `size` bytes fits into low memory."""
    return 0 < size <= MOST_LOADER


def _verdict(drive: Bootable) -> tuple[Verdict, str]:
    if drive.sector_size != SECTOR_SIZE:
        return "will not start", f"BIOS firmware reads drives in sectors of {SECTOR_SIZE} bytes only"
    if drive.record == "none" and drive.table != "none":
        return "will not start", "sector 0 has no boot code"
    if drive.record == "other" and drive.table != "none":
        return _foreign_record(drive)
    if drive.table == "gpt":
        return "will not start", _gpt_reason(drive)
    if drive.table == "none":
        return _without_table(drive)
    active = [volume for volume in drive.volumes if volume.active]
    if drive.active_count != 1 or not active:
        return "will not start", "no partition with a volume is active, or more than one"
    return _volume(drive, active[0])


def _gpt_reason(drive: Bootable) -> str:
    if any(volume.names_loader for volume in drive.volumes) and not any(v.find(LOADER) for v in drive.volumes):
        return "nothing on it is for BIOS machines"
    what = "Windows" if any(starts_system(drive, volume, "uefi") for volume in drive.volumes) else "a Windows installer"
    return f"BIOS machines cannot start {what} from a GPT drive"


def _volume(drive: Bootable, active: BootVolume) -> tuple[Verdict, str]:
    """Our record starts this volume's boot sector."""
    if active.boot_code == "none":
        return "will not start", "the volume's boot sector has no code"
    if active.boot_code == "damaged":
        return "will not start", "the volume's boot code is incomplete or damaged"
    manager = active.find(LOADER)
    if active.boot_code == "other" and manager is None:
        return "not known", "the volume's boot code is foreign and was not examined; there is no BOOTMGR"
    if active.code.does is not Does.STARTS:
        return _foreign(active.code, "the volume's boot code", "BOOTMGR")
    if manager is None:
        where = drive.looked_at if len(drive.volumes) == 1 else "the volume that BIOS machines start"
        return "will not start", f"{where} has no BOOTMGR in its root folder"
    if manager.unseen:
        return "not known", f"BOOTMGR was not examined: {manager.unseen.rstrip('.')}"
    if manager.faults:
        return "will not start", "BOOTMGR is damaged"
    if not loader_fits(manager.size):
        return "will not start", f"BOOTMGR has {manager.size:,} bytes; 1 to {MOST_LOADER:,} fit into low memory"
    fault = store_fault(drive, active, "bios")
    if fault is not None:
        return "will not start", f"{fault.path} {fault.why}"
    foreign = (
        "; the volume's boot code is foreign, and starts it in an emulation" if active.boot_code == "other" else ""
    )
    if starts_system(drive, active, "bios"):
        return (
            "starts",
            f"MBR record, active partition, boot code and BOOTMGR are in place; its store names this drive{foreign}",
        )
    return "starts", f"MBR record, active partition, boot code and BOOTMGR are in place{foreign}"


def _foreign(code: Judged, what: str, aim: str) -> tuple[Verdict, str]:
    if code.does is Does.GIVES_UP:
        return "will not start", f"{what} is foreign, and starts nothing"
    if code.does is Does.OTHER:
        return "not known", f"{what} is foreign, and starts something else than {aim}"
    return "not known", f"{what} is foreign, and what it does is not known: {code.why}; {aim} is there"


def _foreign_record(drive: Bootable) -> tuple[Verdict, str]:
    active = [volume for volume in drive.volumes if volume.active]
    if drive.table == "gpt":
        seen = "some BIOS machines do not start any GPT drive"
    elif drive.active_count != 1:
        seen = "no partition is active, which some BIOS machines refuse"
    elif active and active[0].find(LOADER):
        if drive.record_code.does is not Does.STARTS:
            return _foreign(drive.record_code, "the boot code in sector 0", "an active partition with BOOTMGR")
        verdict, reason = _volume(drive, active[0])
        way = "; the code in sector 0 is foreign, and starts that partition in an emulation"
        return verdict, reason + (way if verdict == "starts" else "")
    else:
        seen = "one partition is active"
    return "not known", f"the boot code in sector 0 is foreign and was not examined; {seen}"


def _without_table(drive: Bootable) -> tuple[Verdict, str]:
    if not drive.volumes:
        return "will not start", "sector 0 carries no partition table and no volume"
    volume = drive.volumes[0]
    if volume.boot_code == "none":
        return "will not start", "its boot sector has no code"
    if volume.boot_code == "other" and volume.find(LOADER) is None:
        return (
            "not known",
            "its boot sector has code that is foreign and was not examined; some BIOS machines want a table",
        )
    verdict, reason = _volume(drive, volume)
    return ("not known", "some BIOS machines want a table") if verdict == "starts" else (verdict, reason)
