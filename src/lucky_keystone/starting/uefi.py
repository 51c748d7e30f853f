"""UEFI: firmware looks for a removable-media loader on a volume that it reads (UEFI 2.10, 3.5.1.1)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ..boot.records import crossing
from ..common.errors import KeystoneError
from .bootable import Bootable, BootFile
from .loaders import LoaderState, examine, loader_path
from .outlook import Outlook, Verdict
from .release import is_before_secure_boot, older_release_on_uefi, setup_build
from .secure_boot import crossing_state, secure_verdict
from .stores import starts_system, store_fault
from .trust import Machine

NAMES = {"x64": "UEFI 64-bit", "x86": "UEFI 32-bit", "arm64": "UEFI ARM64"}
SECURE = ", Secure Boot"

UNMARKED = "firmware that looks at the active or first partition alone (on some small boards) does not find it"
BY_TYPE = "firmware that looks at the active partition alone finds it only if it also goes by type EFh"
"""What the forecast adds where the loader's volume has no mark."""

Way = Literal["alone", "starter", "system", "crossing", "unreadable"]
"""How firmware gets at the loader: on a FAT volume, on the pair's, through our helper, or not at all."""
_WAYS = {
    "alone": "on a FAT volume",
    "starter": "on the FAT32 volume",
    "system": "on the FAT32 volume, and the boot store there names this drive",
    "crossing": "on NTFS, through the crossing",
}


class FoundLoader(Struct, frozen=True):
    """The loader that runs in the end, and how firmware gets at it."""

    state: LoaderState | None
    way: Way
    caveat: str = ""
    """What firmware does that goes by marks; '' where it finds the loader."""
    store: str = ""
    """What is wrong with the boot store beside it."""
    unread: str = ""
    """The file system that it lies on and firmware does not read."""


def find_loader(drive: Bootable, architecture: str) -> FoundLoader:
    """Look where firmware looks: on volumes it reads, in their order on the drive."""
    path = loader_path(architecture)
    unread = next((each for each in drive.volumes if not each.kind.firmware_reads and each.find(path)), None)
    elsewhere = unread.find(path) if unread is not None else None
    any_marked = any(volume.marked for volume in drive.volumes)
    for number, volume in enumerate(drive.volumes):
        file = volume.find(path) if volume.kind.firmware_reads else None
        if file is None:
            continue
        caveat = "" if volume.marked or (number == 0 and not any_marked) else UNMARKED
        if caveat and volume.has_system_type and drive.table == "mbr":
            caveat = BY_TYPE
        if _is_crossing(file, architecture):
            fault = store_fault(drive, unread, "uefi") if unread is not None else None
            store = f"{fault.path} {fault.why}" if fault is not None else ""
            return FoundLoader(examine(elsewhere) if elsewhere else None, "crossing", caveat, store)
        fault = store_fault(drive, volume, "uefi")
        if fault is not None:
            return FoundLoader(examine(file), "system", caveat, f"{fault.path} {fault.why}")
        if starts_system(drive, volume, "uefi"):
            return FoundLoader(examine(file), "system", caveat)
        is_pair = any(not (kind := other.kind).firmware_reads and not kind.names_loaders for other in drive.volumes)
        return FoundLoader(examine(file), "starter" if is_pair else "alone", caveat)
    return FoundLoader(
        examine(elsewhere) if elsewhere else None, "unreadable", unread=unread.kind.shown if unread else ""
    )


def _is_crossing(file: BootFile, architecture: str) -> bool:
    ours = crossing(architecture)
    try:
        return not file.faults and file.size == len(ours) and file.content.read_at(0, file.size) == ours
    except KeystoneError:
        return False


class Uefi:
    """The rule for UEFI firmware of one architecture: without Secure Boot, and with it."""

    def __init__(self, architecture: str) -> None:
        self.architecture = architecture

    def rows(self, drive: Bootable, machine: Machine) -> Sequence[Outlook]:
        found = find_loader(drive, self.architecture)
        build = setup_build(drive)
        plain = _plain(self.architecture, found, drive, build)
        secure = replace(plain, firmware=plain.firmware + SECURE, refines=plain.firmware, secure_boot=True)
        if plain.verdict != "starts" or found.state is None:
            return plain, secure
        started = [crossing_state(self.architecture)] if found.way == "crossing" else []
        verdict, why = secure_verdict([*started, found.state], machine)
        if is_before_secure_boot(build) and not (verdict == "starts" and machine.trusted is not None):
            verdict, why = "will not start", f"releases before build 9200 do not know Secure Boot (this one is {build})"
        return plain, replace(secure, verdict=verdict, reason=why)


def _plain(architecture: str, found: FoundLoader, drive: Bootable, build: int) -> Outlook:
    loader, path = found.state, loader_path(architecture)

    def row(verdict: Verdict, reason: str) -> Outlook:
        return Outlook(NAMES[architecture], verdict, reason, kind="uefi", architecture=architecture)

    if loader is None and drive.unseen:
        return row("not known", f"not all of it was examined: {drive.unseen}")
    if loader is None and drive.table == "none" and not drive.volumes:
        return row("will not start", "without a partition table it finds no volume")
    if loader is None:
        of_old = architecture == "x86" and is_before_secure_boot(build)
        why = "; 32-bit releases of this age start in BIOS mode only" if of_old else ""
        return row("will not start", f"{drive.looked_at} has no {path}{why}")
    if loader.unseen:
        return row("not known", f"{path} was not examined: {loader.unseen.rstrip('.')}")
    if loader.fault:
        return row("will not start", f"{path} is incomplete or damaged: {loader.fault}")
    if loader.architecture != architecture:
        made_for = f"made for {loader.architecture}" if loader.architecture else "not a UEFI loader, by its header"
        return row("will not start", f"{path} is {made_for}")
    if found.way == "unreadable":
        return row("will not start", f"UEFI firmware does not read {found.unread}, and the drive has no crossing")
    if found.store:
        return row("will not start", found.store)
    older = older_release_on_uefi(build) if is_before_secure_boot(build) else ""
    return row("starts", "; ".join(filter(None, (f"{path} {_WAYS[found.way]}", found.caveat, older))))
