"""What the technician may choose, the same for planning and building. None means: decide, and say why."""

from __future__ import annotations

import msgspec

from ..errors import NotYet, UsageError
from ..units import SECTOR_SIZES
from ..volumes.fat32.geometry import check_cluster_size
from ..volumes.fat32.names import label_fault
from ..volumes.ntfs.geometry import check_cluster_size as ntfs_check_cluster_size
from ..volumes.ntfs.names import label_fault as ntfs_label_fault
from ..wim.split import LARGEST_PART


class Choices(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """Choices as given. Sizes in bytes."""

    table: str | None = None
    firmware: str | None = None
    file_system: str | None = None
    label: str | None = None
    cluster: int | None = None
    part_size: int | None = None
    use: str | None = None
    identity: str | None = None
    purpose: str | None = None
    edition: str | None = None
    waive: str | None = None


_SUPPORTED = {"purpose": "install"}
_KNOWN = {
    "table": ("mbr", "gpt"),
    "firmware": ("bios", "uefi", "both"),
    "file_system": ("fat32", "ntfs", "fat32+ntfs"),
    "purpose": ("install", "portable"),
    "use": ("whole", "needed"),
}
_INSTEAD = {
    "purpose": "Leave the choice out to build an installer drive.",
    "edition": "Leave the choice out: setup asks which edition to install.",
    "waive": "Leave the choice out; the installer's own checks stay in force.",
}


def check_choices(choices: Choices, sector_size: int) -> None:
    """Raise UsageError for a choice that means nothing, NotYet for one that this version does not build."""
    for name, known in _KNOWN.items():
        value = getattr(choices, name)
        if value is not None and value not in known:
            raise UsageError(f"{option(name)} {value}: not known.", advice=f"Choose one of: {', '.join(known)}.")
    for name, instead in _INSTEAD.items():
        value = getattr(choices, name)
        if value is not None and value != _SUPPORTED.get(name):
            raise NotYet(f"{option(name)} {value} is not built yet by this version.", advice=instead)
    if choices.table == "gpt" and choices.firmware in ("bios", "both"):
        raise UsageError(
            "--table gpt: BIOS machines start no Windows installer from a GPT drive.",
            advice="Choose --table mbr, which starts in BIOS and UEFI machines alike, or --firmware uefi.",
        )
    if sector_size not in SECTOR_SIZES:
        raise UsageError(f"Sectors of {sector_size} bytes are not supported.", advice="Choose 512 or 4096.")
    on_ntfs = choices.file_system in ("ntfs", "fat32+ntfs")
    if choices.label is not None and (fault := (ntfs_label_fault if on_ntfs else label_fault)(choices.label)):
        allowed = "up to 32 characters" if on_ntfs else "up to 11 letters, digits, blanks or - _"
        raise UsageError(f"Label '{choices.label}' {fault}.", advice=f"Use {allowed}.")
    if choices.cluster is not None:
        (ntfs_check_cluster_size if on_ntfs else check_cluster_size)(choices.cluster, sector_size)
    if choices.part_size is not None and on_ntfs:
        raise UsageError(
            "--part-size: nothing is split on NTFS.", advice="Leave it out, or choose --file-system fat32."
        )
    if choices.part_size is not None and not 1 << 20 <= choices.part_size <= LARGEST_PART:
        raise UsageError(
            f"Parts of {choices.part_size} bytes are not possible on FAT32.",
            advice=f"Choose from 1 MiB to {LARGEST_PART} bytes (4 GiB less one).",
        )


def option(name: str) -> str:
    """Return a choice's name as it is typed."""
    return "--" + name.replace("_", "-")
