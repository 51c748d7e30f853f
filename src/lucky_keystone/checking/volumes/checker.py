"""What a checker of one kind of volume does.

A further kind is one more module beside this one, and a line in `checkers`.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

from ...content.contents import SizedReadable
from ...manifest.format import RegionNote
from ...tables.table import Partition
from ..found import FoundVolume
from ..report import Report

WrongBlock = tuple[RegionNote, int, int, bytes]
"""A block whose bytes are not those that were written: region, offset on the drive, size, hash that was expected."""


class Checker(Protocol):
    """Checks volumes of one kind, and tells use by a computer from damage."""

    def check(self, volume: Any, partition: Partition, sectors: int, report: Report) -> tuple[list[Any], int]:
        """Check everything of `volume`, in a partition of `sectors`.

        Returns its entries, the root first, and the bytes that are free.
        """

    def added(self, volume: Any, entries: Sequence[Any], note: Any) -> list[Any]:
        """Return the entries that were not built. `note` is what the manifest keeps of the volume."""

    def judge(
        self, drive: SizedReadable, wrong: Sequence[WrongBlock], note: Any, found: FoundVolume | None, report: Report
    ) -> None:
        """Add a finding for blocks that differ: changed by use, or different from what was built."""
