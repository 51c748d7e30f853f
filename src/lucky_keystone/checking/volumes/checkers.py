"""The checkers there are, by the name of the kind of volume they check."""

from __future__ import annotations

from collections.abc import Mapping

from .checker import Checker
from .exfat import ExfatChecker
from .fat16 import Fat16Checker
from .fat32 import Fat32Checker
from .hfsplus import HfsPlusChecker
from .ntfs import NtfsChecker

CHECKERS: Mapping[str, Checker] = {
    "fat32": Fat32Checker(),
    "ntfs": NtfsChecker(),
    "hfsplus": HfsPlusChecker(),
    "exfat": ExfatChecker(),
    "fat16": Fat16Checker(),
}
