"""The forecast: on which firmware a drive starts, told from its loaders and its layout before a byte is written.

`check` asks the same rules of what is really on a drive.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal, Protocol

from ..content import seekable
from ..planning.plan import Outlook
from .pe import REMOVABLE_LOADERS, loader_architecture, loader_fault

if TYPE_CHECKING:
    from asn1crypto.x509 import Certificate

    from ..families.windows.shapes import Shape
    from ..sources.source import Source
    from .authenticode import Signature

MOST_BIOS_LOADER = 0x9FC00 - 0x20000
"""Bytes between 2000:0000, where BOOTMGR is loaded, and the firmware's data at the top of low memory."""

UEFI_NAMES = {"x64": "UEFI 64-bit", "x86": "UEFI 32-bit", "arm64": "UEFI ARM64"}
SECURE = ", Secure Boot"
NOT_FROM_GPT = Outlook("BIOS", "will not start", "BIOS machines start no Windows installer from a GPT drive")
NOT_WITH_4096 = Outlook("BIOS", "will not start", "BIOS firmware reads drives in sectors of 512 bytes only")

USUAL_ISSUERS = {
    "Microsoft Windows Production PCA 2011": "machines that have revoked the 2011 generation, or trust the 2023 one only, refuse it",
    "Windows UEFI CA 2023": "machines whose firmware was never updated may not trust the 2023 generation yet",
}
"""Who vouches for loaders that machines are delivered to trust, and on which machines that may not hold."""

Way = Literal["fat32", "starter", "crossing", "none"]
"""How UEFI firmware gets at the loader: on the drive's FAT32 volume, on the pair's, through our helper, or not at all."""
_WAYS = {
    "fat32": "on a FAT32 volume",
    "starter": "on the pair's FAT32 volume",
    "crossing": "on NTFS, through the crossing",
}


class Readable(Protocol):
    """A loader's bytes."""

    @property
    def size(self) -> int: ...

    def read_at(self, offset: int, size: int) -> bytes: ...


@dataclass(frozen=True)
class LoaderState:
    """What a UEFI loader is by its own bytes."""

    path: str
    architecture: str
    fault: str
    """Why it cannot be whole, '' when it is."""
    signature: Signature | None


def examine(path: str, content: Readable) -> LoaderState:
    """Read a loader's headers, and all of it when it is signed."""
    architecture = loader_architecture(content)
    fault = loader_fault(content) if architecture else ""
    from .authenticode import read_signature  # what reads certificates takes its time to load

    return LoaderState(path, architecture, fault, read_signature(content) if architecture and not fault else None)


def forecast(
    source: Source, sector_size: int, shape: Shape, trusted: Sequence[Certificate] = ()
) -> tuple[Outlook, ...]:
    """Return a row for BIOS, and two for each UEFI architecture: as it is, and with Secure Boot on."""
    way: Way = (
        "starter"
        if shape.is_pair
        else "crossing"
        if shape.has_crossing
        else "none"
        if shape.file_system == "ntfs"
        else "fat32"
    )
    rows = [_bios(source, sector_size, shape)]
    for architecture, name in REMOVABLE_LOADERS.items():
        path = f"efi/boot/{name}"
        file = source.root.find_file(path)
        loader = examine(path, seekable(file.content)) if file else None
        rows += uefi_rows(architecture, path, loader, way, trusted, where="the source")
    return tuple(rows)


def _bios(source: Source, sector_size: int, shape: Shape) -> Outlook:
    manager = source.root.find_file("bootmgr")
    if shape.table == "gpt":
        return NOT_FROM_GPT
    if manager is None:
        return Outlook("BIOS", "will not start", "the source has no BOOTMGR in its root")
    if manager.size == 0 or manager.size > MOST_BIOS_LOADER:
        return Outlook(
            "BIOS",
            "will not start",
            f"BOOTMGR has {manager.size:,} bytes; 1 to {MOST_BIOS_LOADER:,} fit into low memory",
        )
    if sector_size != 512:
        return NOT_WITH_4096
    return Outlook("BIOS", "starts", "MBR record, active partition and BOOTMGR will be in place")


def uefi_rows(
    architecture: str, path: str, loader: LoaderState | None, way: Way, trusted: Sequence[Certificate], *, where: str
) -> tuple[Outlook, Outlook]:
    """Return the rows of one architecture, without Secure Boot and with it. `where` names what was looked at."""
    name = UEFI_NAMES[architecture]
    plain = _plain(name, architecture, path, loader, way, where)
    if plain.verdict != "starts" or loader is None:
        return plain, Outlook(name + SECURE, plain.verdict, plain.reason)
    return plain, _secure(name + SECURE, path, loader, way, trusted)


def _plain(name: str, architecture: str, path: str, loader: LoaderState | None, way: Way, where: str) -> Outlook:
    if loader is None:
        return Outlook(name, "will not start", f"{where} has no {path}")
    if loader.architecture != architecture:
        made_for = f"made for {loader.architecture}" if loader.architecture else "no UEFI loader by its header"
        return Outlook(name, "will not start", f"{path} is {made_for}")
    if loader.fault:
        return Outlook(name, "will not start", f"{path} is not whole: {loader.fault}")
    if way == "none":
        return Outlook(name, "will not start", "UEFI firmware does not read NTFS, and the drive has no crossing")
    return Outlook(name, "starts", f"{path} {_WAYS[way]}")


def _secure(name: str, path: str, loader: LoaderState, way: Way, trusted: Sequence[Certificate]) -> Outlook:
    signature = loader.signature
    if way == "crossing":
        return Outlook(
            name, "will not start", "the crossing is not signed: Secure Boot has to be off, or choose fat32+ntfs"
        )
    if signature is None:
        return Outlook(name, "will not start", f"{path} is not signed")
    if not signature.fits:
        return Outlook(name, "will not start", f"{path}: {signature.why}")
    told = f"{path} is signed by '{signature.signer}' under '{signature.issuer}'"
    if trusted:
        if signature.trusted_by(trusted):
            return Outlook(name, "starts", f"{told}, which the certificates given trust")
        return Outlook(name, "will not start", f"{told}, which none of the certificates given trusts")
    caveat = USUAL_ISSUERS.get(signature.issuer)
    if caveat is not None:
        return Outlook(name, "starts", f"{told}; {caveat}")
    return Outlook(
        name, "not known", f"{told}: whether the machine trusts that is not known (--trust CERTIFICATE tells)"
    )
