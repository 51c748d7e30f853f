"""The forecast: on which firmware a drive starts, told from its loaders before a byte is written."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..sources.pe import REMOVABLE_LOADERS
from .plan import Outlook

if TYPE_CHECKING:
    from ..sources.source import Loader

MOST_BIOS_LOADER = 0x9FC00 - 0x20000
"""Bytes between 2000:0000, where BOOTMGR is loaded, and the firmware's data at the top of low memory."""

UEFI_NAMES = {"x64": "UEFI 64-bit", "x86": "UEFI 32-bit", "arm64": "UEFI ARM64"}


def forecast(loaders: Sequence[Loader], sector_size: int, table: str) -> tuple[Outlook, ...]:
    """Return a row for BIOS, for each UEFI architecture, and for Secure Boot, for a drive with FAT32 and this kind of table."""
    bios = _NOT_FROM_GPT if table == "gpt" else _bios(loaders, sector_size)
    return (bios, *(_uefi(loaders, architecture) for architecture in UEFI_NAMES), _SECURE_BOOT)


_NOT_FROM_GPT = Outlook("BIOS", "will not start", "BIOS machines start no Windows installer from a GPT drive")
_SECURE_BOOT = Outlook("Secure Boot", "not known", "signatures are not examined yet; the layout needs nothing unsigned")


def _bios(loaders: Sequence[Loader], sector_size: int) -> Outlook:
    manager = next((loader for loader in loaders if loader.firmware == "bios"), None)
    if manager is None:
        return Outlook("BIOS", "will not start", "the source has no BOOTMGR in its root")
    if manager.size == 0 or manager.size > MOST_BIOS_LOADER:
        return Outlook("BIOS", "will not start", f"BOOTMGR has {manager.size:,} bytes; 1 to {MOST_BIOS_LOADER:,} fit into low memory")
    if sector_size != 512:
        return Outlook("BIOS", "will not start", "BIOS firmware reads drives in sectors of 512 bytes only")
    return Outlook("BIOS", "starts", "MBR record, active partition and BOOTMGR will be in place")


def _uefi(loaders: Sequence[Loader], architecture: str) -> Outlook:
    firmware = UEFI_NAMES[architecture]
    path = f"efi/boot/{REMOVABLE_LOADERS[architecture]}"
    loader = next((loader for loader in loaders if loader.path.lower() == path), None)
    if loader is None:
        return Outlook(firmware, "will not start", f"the source has no {path}")
    if loader.architecture != architecture:
        made_for = f"made for {loader.architecture}" if loader.architecture else "no UEFI loader by its header"
        return Outlook(firmware, "will not start", f"{path} is {made_for}")
    return Outlook(firmware, "starts", f"{path} on a FAT32 volume")
