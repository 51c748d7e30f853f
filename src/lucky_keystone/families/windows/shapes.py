"""Shapes of a drive (table, firmware, file system): which are built, which are refused and why, which is chosen.

            FAT32              NTFS                        pair (fat32+ntfs)
MBR         BIOS, UEFI         BIOS; UEFI by the crossing  BIOS, UEFI
GPT         UEFI               UEFI by the crossing        UEFI
"""

from __future__ import annotations

from msgspec import Struct

from ...common.errors import SourceError, UsageError
from ...common.units import shown_size
from ...content.tree import Folder
from ...starting.pe import REMOVABLE_LOADERS
from ...volumes.fat32.kind import FAT32
from ...wim.split import LARGEST_PART
from ..choices import Choices
from ..family import DriveShape, SplitImage
from .contents import divided, has_uefi_loader, starter_tree


class Shape(Struct, frozen=True):
    """What was decided, each with its reason, and the trees that were looked at on the way."""

    table: str
    firmware: str
    file_system: str
    reasons: dict[str, str]
    has_crossing: bool
    """True when UEFI firmware needs our helper to read the volume."""
    tree: Folder
    """Everything the source has, as it goes onto the first volume."""
    splits: tuple[SplitImage, ...]
    starter: Folder | None
    """Of a pair: what firmware must read."""


class _Contents(Struct, frozen=True):
    """How a file system holds the source."""

    tree: Folder
    splits: tuple[SplitImage, ...] = ()
    starter: Folder | None = None


def decide_shape(root: Folder, choices: Choices, drive: DriveShape) -> Shape:
    """Decide what is not chosen.

    Raises UsageError or SourceError with the reason, and the nearest choice that works.
    """
    reasons: dict[str, str] = {}
    table = choices.table or _table(choices, drive, reasons)
    firmware = choices.firmware or _firmware(table, reasons)
    _refuse_firmware(root, firmware, drive)
    if choices.file_system:
        file_system, contents = choices.file_system, _held(root, choices.file_system, choices)
    else:
        file_system, contents = _file_system(root, choices, firmware, reasons)
    reasons.setdefault("table", _TABLES[table])
    on_ntfs_for_bios = (firmware, file_system) == ("bios", "ntfs")
    reasons.setdefault("firmware", _BIOS_ON_NTFS if on_ntfs_for_bios else _FIRMWARE[firmware])
    has_crossing = file_system == "ntfs" and firmware != "bios" and has_uefi_loader(root)
    reasons.setdefault("file system", _file_system_reason(file_system, has_crossing=has_crossing))
    return Shape(table, firmware, file_system, reasons, has_crossing, contents.tree, contents.splits, contents.starter)


def _table(choices: Choices, drive: DriveShape, reasons: dict[str, str]) -> str:
    if choices.firmware == "uefi" and drive.beyond_mbr:
        reasons["table"] = f"an MBR would leave {shown_size(drive.beyond_mbr)} of this drive unused"
        return "gpt"
    return "mbr"


def _firmware(table: str, reasons: dict[str, str]) -> str:
    if table == "gpt":
        reasons["firmware"] = "BIOS machines cannot start a Windows installer from a GPT drive"
        return "uefi"
    return "both"


def _refuse_firmware(root: Folder, firmware: str, drive: DriveShape) -> None:
    if firmware == "bios" and drive.bios_fault:
        raise UsageError(f"--firmware bios: {drive.bios_fault}.", advice="Choose --firmware uefi, or another drive.")
    if firmware == "bios" and root.find_file("bootmgr") is None:
        raise SourceError("--firmware bios: the source has no BOOTMGR in its root.", advice="Choose --firmware uefi.")
    if firmware == "uefi" and not has_uefi_loader(root):
        names = ", ".join(REMOVABLE_LOADERS.values())
        raise SourceError(
            f"--firmware uefi: the source has no UEFI loader ({names}) in efi/boot.", advice="Choose --firmware bios."
        )


def _held(root: Folder, file_system: str, choices: Choices) -> _Contents:
    """Return how the source goes onto a file system. Raises SourceError when it does not."""
    if file_system == "fat32":
        return _Contents(*divided(root, choices.part_size or LARGEST_PART))
    if file_system == "fat32+ntfs":
        return _Contents(root, starter=starter_tree(root))
    return _Contents(root)


def _file_system(root: Folder, choices: Choices, firmware: str, reasons: dict[str, str]) -> tuple[str, _Contents]:
    """FAT32 when it can hold the source, else what still starts with Secure Boot left on, else what starts at all."""
    try:
        contents = _held(root, "fat32", choices)
        obstacle = FAT32.obstacle(contents.tree)
        if not obstacle:
            return "fat32", contents
    except SourceError as error:
        obstacle = error.message.rstrip(".")
    if firmware == "bios" or not has_uefi_loader(root):
        reasons["file system"] = f"FAT32 cannot hold the source: {obstacle}"
        return "ntfs", _held(root, "ntfs", choices)
    try:
        contents = _held(root, "fat32+ntfs", choices)
    except SourceError as error:
        reasons["file system"] = (
            f"neither FAT32 nor NTFS with FAT32 beside it can hold the source: {error.message.rstrip('.')}"
        )
        return "ntfs", _held(root, "ntfs", choices)
    reasons["file system"] = (
        f"FAT32 alone cannot hold the source: {obstacle}; NTFS with FAT32 beside it starts with Secure Boot left on"
    )
    return "fat32+ntfs", contents


_TABLES = {
    "mbr": "both BIOS and UEFI machines start from it",
    "gpt": "what UEFI machines are made for; BIOS machines do not start from it",
}
_FIRMWARE = {
    "both": "one drive serves old and new machines",
    "bios": "as chosen; UEFI machines start from it as well",
    "uefi": "as chosen",
}
_BIOS_ON_NTFS = "as chosen; UEFI machines would need the crossing"


def _file_system_reason(file_system: str, *, has_crossing: bool) -> str:
    if file_system == "fat32":
        return "the only one that all UEFI firmware reads, so that it needs no helper"
    if file_system == "fat32+ntfs":
        return "nothing is split, and firmware starts from FAT32, without a helper"
    crossing = "; UEFI firmware reads it through the crossing (our UEFI helper), with Secure Boot off"
    return "nothing is split" + (crossing if has_crossing else "")
