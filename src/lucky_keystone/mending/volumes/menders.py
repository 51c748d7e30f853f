"""The remedies there are for volumes, by the name of the kind."""

from __future__ import annotations

from collections.abc import Mapping

from ..remedy import Rules
from . import exfat, fat32, hfsplus, ntfs

MENDERS: Mapping[str, Rules] = {
    "fat32": fat32.RULES,
    "ntfs": ntfs.RULES,
    "hfsplus": hfsplus.RULES,
    "exfat": exfat.RULES,
}
