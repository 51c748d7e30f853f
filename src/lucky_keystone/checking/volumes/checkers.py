"""The checkers there are, by the name of the kind of volume they check."""

from __future__ import annotations

from collections.abc import Mapping

from .checker import Checker
from .fat16 import Fat16Checker
from .fat32 import Fat32Checker
from .ntfs import NtfsChecker

CHECKERS: Mapping[str, Checker] = {"fat32": Fat32Checker(), "ntfs": NtfsChecker(), "fat16": Fat16Checker()}
