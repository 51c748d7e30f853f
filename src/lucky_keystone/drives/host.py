"""The seam to the computer: what every system, and the bay, can do with its drives."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

from msgspec import Struct

from ..content.source_file import SourceFile
from .drive import Drive, Hardware
from .medium import OpenMedium
from .optical import OpticalDrive


class Span(Struct, frozen=True):
    """A partition, for telling a system of it. Bytes."""

    number: int
    offset: int
    size: int


class Handle(OpenMedium, Protocol):
    """A drive opened by a host."""

    def identity(self) -> Hardware:
        """What the system says of the drive behind this very handle, whatever its path names now."""


class Host(Protocol):
    """One computer, or one bay."""

    def drives(self) -> tuple[Drive, ...]:
        """List the drives. Needs no rights."""

    def optical_drives(self) -> tuple[OpticalDrive, ...]:
        """List the optical drives. Needs no rights."""

    def disc(self, path: Path) -> SourceFile | None:
        """Return what reads the disc at `path`, where that is more than reading a file; None for any other path."""

    def disks_below(self, path: Path) -> frozenset[Path]:
        """Return the paths of the drives that the file or device `path` lies on.

        Raises ProtectError where a file is there and cannot be placed.
        """

    def open(self, drive: Drive, *, write: bool) -> Handle:
        """Open a drive; for writing exclusively and locked. Raises NoRights, ProtectError or DriveError."""

    def unmount(self, drive: Drive) -> None:
        """Unmount every volume of the drive. Raises ProtectError when one is busy, NoRights."""

    def tell_of_table(self, handle: OpenMedium, partitions: Sequence[Span]) -> str:
        """Let the system look at the new table; return in words what it made of it."""

    def eject(self, drive: Drive) -> str:
        """Make the drive ready to be pulled out; return in words what was done."""
