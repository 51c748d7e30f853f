"""Shapes of a drive: table, firmware and file system together. Which are built, which are refused and why, which is chosen.

            FAT32              NTFS                        pair (fat32+ntfs)
MBR         BIOS, UEFI         BIOS; UEFI by the crossing  BIOS, UEFI
GPT         UEFI               UEFI by the crossing        UEFI
"""

from __future__ import annotations

from dataclasses import dataclass

from ...errors import SourceError, UsageError
from ...planning.plan import DriveShape
from ...planning.volumes import FileSystem
from ...sources.source import Source
from ...starting.pe import REMOVABLE_LOADERS
from ...units import shown_size
from ...volumes.fat32.names import problems
from ...wim.split import LARGEST_PART
from ..choices import Choices
from .contents import divided, starter_tree

_MOST_MBR = 1 << 32  # sectors


@dataclass(frozen=True)
class Shape:
    """What was decided, each with its reason."""

    table: str
    firmware: str
    file_system: str
    reasons: dict[str, str]
    has_crossing: bool
    """True when UEFI firmware needs our helper to read the volume."""

    @property
    def first(self) -> FileSystem:
        """File system of the first volume, which holds everything."""
        return "fat32" if self.file_system == "fat32" else "ntfs"

    @property
    def is_pair(self) -> bool:
        """True when a FAT32 volume holds what firmware must read, and an NTFS volume everything."""
        return self.file_system == "fat32+ntfs"


def decide_shape(source: Source, choices: Choices, drive: DriveShape) -> Shape:
    """Decide what is not chosen.

    Raises UsageError or SourceError with the reason, and the nearest choice that works.
    """
    reasons: dict[str, str] = {}
    table = choices.table or _table(choices, drive, reasons)
    firmware = choices.firmware or _firmware(table, reasons)
    _refuse_firmware(source, firmware, drive)
    file_system = choices.file_system or _file_system(source, choices, firmware, reasons)
    reasons.setdefault("table", _TABLES[table])
    reasons.setdefault(
        "firmware", _BIOS_ON_NTFS if (firmware, file_system) == ("bios", "ntfs") else _FIRMWARE[firmware]
    )
    has_crossing = file_system == "ntfs" and firmware != "bios" and _has_uefi_loader(source)
    reasons.setdefault("file system", _file_system_reason(file_system, has_crossing=has_crossing))
    return Shape(table, firmware, file_system, reasons, has_crossing)


def _table(choices: Choices, drive: DriveShape, reasons: dict[str, str]) -> str:
    beyond = (drive.size or 0) // drive.sector_size - _MOST_MBR
    if choices.firmware == "uefi" and beyond > 0:
        reasons["table"] = f"an MBR would leave {shown_size(beyond * drive.sector_size)} of this drive unused"
        return "gpt"
    return "mbr"


def _firmware(table: str, reasons: dict[str, str]) -> str:
    if table == "gpt":
        reasons["firmware"] = "BIOS machines start no Windows installer from a GPT drive"
        return "uefi"
    return "both"


def _refuse_firmware(source: Source, firmware: str, drive: DriveShape) -> None:
    if firmware == "bios" and drive.sector_size != 512:
        raise UsageError(
            f"--firmware bios: BIOS firmware reads sectors of 512 bytes only, this drive has {drive.sector_size}.",
            advice="Choose --firmware uefi, or another drive.",
        )
    if firmware == "bios" and not any(loader.firmware == "bios" for loader in source.facts.loaders):
        raise SourceError("--firmware bios: the source has no BOOTMGR in its root.", advice="Choose --firmware uefi.")
    if firmware == "uefi" and not _has_uefi_loader(source):
        names = ", ".join(REMOVABLE_LOADERS.values())
        raise SourceError(
            f"--firmware uefi: the source has no UEFI loader ({names}) in efi/boot.", advice="Choose --firmware bios."
        )


def _has_uefi_loader(source: Source) -> bool:
    return any(source.root.find_file(f"efi/boot/{name}") for name in REMOVABLE_LOADERS.values())


def _file_system(source: Source, choices: Choices, firmware: str, reasons: dict[str, str]) -> str:
    """FAT32 when it can hold the source, else what still starts with Secure Boot left on, else what starts at all."""
    obstacle = fat32_obstacle(source, choices.part_size or LARGEST_PART)
    if not obstacle:
        return "fat32"
    if firmware == "bios" or not _has_uefi_loader(source):
        reasons["file system"] = f"FAT32 cannot hold the source: {obstacle}"
        return "ntfs"
    try:
        starter_tree(source.root)
    except SourceError as error:
        reasons["file system"] = f"neither FAT32 nor a pair can hold the source: {error.message.rstrip('.')}"
        return "ntfs"
    reasons["file system"] = f"FAT32 alone cannot hold the source: {obstacle}; a pair starts with Secure Boot left on"
    return "fat32+ntfs"


def fat32_obstacle(source: Source, part_size: int) -> str:
    """Return why FAT32 cannot hold the source, '' when it can."""
    try:
        divided(source, part_size)
    except SourceError as error:
        return error.message.rstrip(".")
    wrong = problems(source.root)
    return wrong[0] + (f" (and {len(wrong) - 1} more)" if len(wrong) > 1 else "") if wrong else ""


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
        return "the only one that all UEFI firmware reads; Secure Boot can stay on"
    if file_system == "fat32+ntfs":
        return "nothing is split, and Secure Boot can stay on: firmware starts from FAT32"
    return "nothing is split" + (
        "; UEFI firmware reads it through the crossing, with Secure Boot off" if has_crossing else ""
    )
