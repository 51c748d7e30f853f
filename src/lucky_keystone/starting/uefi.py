"""UEFI: firmware looks for a removable-media loader on a volume that it reads (UEFI 2.10, 3.5.1.1)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from ..boot.records import crossing
from ..content import SizedReadable
from ..errors import KeystoneError, TooFarInside
from .bootable import Bootable, BootFile
from .outlook import Outlook, Verdict
from .pe import REMOVABLE_LOADERS, loader_architecture, loader_fault
from .trust import Machine

if TYPE_CHECKING:
    from .authenticode import Signature

NAMES = {"x64": "UEFI 64-bit", "x86": "UEFI 32-bit", "arm64": "UEFI ARM64"}
SECURE = ", Secure Boot"

USUAL_ISSUERS = {
    "Microsoft Windows Production PCA 2011": (
        "machines that have revoked the 2011 generation, or trust the 2023 one only, refuse it"
    ),
    "Windows UEFI CA 2023": "machines whose firmware was never updated may not trust the 2023 generation yet",
}
"""Who signs loaders that machines are delivered to trust, and on which machines that may not hold."""

UNMARKED = "firmware that looks at the active or first partition alone (on some small boards) does not find it"
BY_TYPE = "firmware that looks at the active partition alone finds it only if it also goes by type EFh"
"""What the forecast adds where the loader's volume has no mark."""

Way = Literal["fat32", "starter", "crossing", "unreadable"]
"""How firmware gets at the loader: on a FAT volume, on the pair's, through our helper, or not at all."""
_WAYS = {
    "fat32": "on a FAT volume",
    "starter": "on the pair's FAT32 volume",
    "crossing": "on NTFS, through the crossing",
}


@dataclass(frozen=True)
class LoaderState:
    """What a UEFI loader is by its own bytes."""

    path: str
    architecture: str
    """By its PE header; '' when it is no loader."""
    fault: str
    """Why it cannot be whole, '' when it is."""
    signatures: tuple[Signature, ...]
    unseen: str = ""
    """Why it was not examined; '' when it was."""


def loader_path(architecture: str) -> str:
    """Return the path of the removable-media loader of an architecture (UEFI 2.10, 3.5.1.1, table 3.2)."""
    return f"efi/boot/{REMOVABLE_LOADERS[architecture]}"


def examine(file: BootFile) -> LoaderState:
    """Read a loader's headers, and all of it when it is signed. Bytes that cannot be read are its fault."""
    if file.faults:
        return LoaderState(file.path, "", "; ".join(file.faults), ())
    if file.unseen:
        return LoaderState(file.path, "", "", (), file.unseen)
    content: SizedReadable = file.content
    try:
        architecture = loader_architecture(content)
        fault = loader_fault(content) if architecture else ""
        from .authenticode import read_signatures  # what reads certificates takes its time to load

        return LoaderState(
            file.path, architecture, fault, read_signatures(content) if architecture and not fault else ()
        )
    except TooFarInside as error:
        return LoaderState(file.path, "", "", (), error.message)
    except KeystoneError as error:
        return LoaderState(file.path, "", error.message.rstrip("."), ())


@dataclass(frozen=True)
class FoundLoader:
    """The loader that runs in the end, and how firmware gets at it."""

    state: LoaderState | None
    way: Way
    caveat: str = ""
    """What firmware does that goes by marks; '' where it finds the loader."""


def find_loader(drive: Bootable, architecture: str) -> FoundLoader:
    """Look where firmware looks: on volumes it reads, in their order on the drive."""
    path = loader_path(architecture)
    elsewhere = next(
        (file for volume in drive.volumes if not volume.kind.firmware_reads and (file := volume.find(path))), None
    )
    any_marked = any(volume.marked for volume in drive.volumes)
    for number, volume in enumerate(drive.volumes):
        file = volume.find(path) if volume.kind.firmware_reads else None
        if file is None:
            continue
        caveat = "" if volume.marked or (number == 0 and not any_marked) else UNMARKED
        if caveat and volume.has_system_type and drive.table == "mbr":
            caveat = BY_TYPE
        if _is_crossing(file, architecture):
            return FoundLoader(examine(elsewhere) if elsewhere else None, "crossing", caveat)
        is_pair = any(not (kind := other.kind).firmware_reads and not kind.names_loaders for other in drive.volumes)
        return FoundLoader(examine(file), "starter" if is_pair else "fat32", caveat)
    return FoundLoader(examine(elsewhere) if elsewhere else None, "unreadable")


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
        plain = _plain(self.architecture, found, drive)
        secure = plain.firmware + SECURE
        if plain.verdict != "starts" or found.state is None:
            return plain, Outlook(secure, plain.verdict, plain.reason, plain.firmware)
        return plain, _secure(plain.firmware, found.state, found.way, machine)


def _plain(architecture: str, found: FoundLoader, drive: Bootable) -> Outlook:
    name, loader, path = NAMES[architecture], found.state, loader_path(architecture)
    if loader is None and drive.unseen:
        return Outlook(name, "not known", f"not all of it was examined: {drive.unseen}")
    if loader is None:
        return Outlook(name, "will not start", f"{drive.looked_at} has no {path}")
    if loader.unseen:
        return Outlook(name, "not known", f"{path} was not examined: {loader.unseen.rstrip('.')}")
    if loader.fault:
        return Outlook(name, "will not start", f"{path} is incomplete or damaged: {loader.fault}")
    if loader.architecture != architecture:
        made_for = f"made for {loader.architecture}" if loader.architecture else "not a UEFI loader, by its header"
        return Outlook(name, "will not start", f"{path} is {made_for}")
    if found.way == "unreadable":
        return Outlook(name, "will not start", "UEFI firmware does not read NTFS, and the drive has no crossing")
    return Outlook(name, "starts", "; ".join(filter(None, (f"{path} {_WAYS[found.way]}", found.caveat))))


def _secure(plain: str, loader: LoaderState, way: Way, machine: Machine) -> Outlook:
    """One signature that the machine allows is enough; one that it revokes refuses all (UEFI 2.10, 32.5.3.3)."""
    verdict, why = _secure_verdict(loader, way, machine)
    return Outlook(plain + SECURE, verdict, why, plain)


def _secure_verdict(loader: LoaderState, way: Way, machine: Machine) -> tuple[Verdict, str]:
    if way == "crossing":
        why = "the crossing (our UEFI helper) is unsigned: turn Secure Boot off, or use --file-system fat32+ntfs"
        return "will not start", why
    if not loader.signatures:
        return "will not start", f"{loader.path} is not signed"
    refused = next((one for one in loader.signatures if one.trusted_by(machine.revoked)), None)
    if refused is not None:
        return "will not start", f"{_signed(loader, refused)}, which the certificates given as revoked refuse"
    sound = [signature for signature in loader.signatures if signature.fits]
    if not sound:
        return "will not start", f"{loader.path}: {loader.signatures[0].why}"
    if machine.trusted:
        allowed = next((one for one in sound if one.trusted_by(machine.trusted)), None)
        if allowed is not None:
            return "starts", f"{_signed(loader, allowed)}, which the certificates given trust"
        return "will not start", f"{_signed(loader, *sound)}, which none of the certificates given trusts"
    usual = [signature for signature in sound if signature.issuer in USUAL_ISSUERS]
    if len({signature.issuer for signature in usual}) > 1:
        return "starts", f"{_signed(loader, *usual)}; machines that trust either of them start it"
    if usual:
        return "starts", f"{_signed(loader, usual[0])}; {USUAL_ISSUERS[usual[0].issuer]}"
    why = f"{_signed(loader, *sound)}: whether the machine trusts that is unknown (--trust CERTIFICATE says)"
    return "not known", why


def _signed(loader: LoaderState, *signatures: Signature) -> str:
    by = " and ".join(f"by '{one.signer}' under '{one.issuer}'" for one in signatures)
    return f"{loader.path} is signed {by}"
