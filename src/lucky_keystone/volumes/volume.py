"""What every volume's reader gives, whatever the file system: files and folders, and where their bytes lie."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from ..errors import SourceError

HOLE = -1


class Readable(Protocol):
    """Bytes that can be read at an offset."""

    def read_at(self, offset: int, size: int) -> bytes:
        """Return exactly `size` bytes from `offset`."""


class VolumeError(SourceError):
    """The bytes are no volume of this kind that can be read at all."""


@dataclass(frozen=True, slots=True)
class Run:
    """`count` neighbouring clusters from `first`; a hole, which reads as zeros, has HOLE for a first cluster."""

    first: int
    count: int

    @property
    def is_hole(self) -> bool:
        """True when no clusters stand behind it."""
        return self.first == HOLE


class Entry(Protocol):
    """A file or folder as it was found."""

    @property
    def path(self) -> str:
        """'/'-separated; '' of the root."""

    @property
    def name(self) -> str:
        """The last part of the path."""

    @property
    def is_folder(self) -> bool: ...

    @property
    def size(self) -> int:
        """Bytes of a file."""

    @property
    def runs(self) -> Sequence[Run]:
        """Where its bytes lie; none when they stand in the file's record."""

    @property
    def faults(self) -> list[str]:
        """What is wrong with it, in words."""


class Volume(Protocol):
    """A volume that can be read."""

    @property
    def cluster_size(self) -> int:
        """Bytes."""

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster on the drive, in bytes."""

    def cluster_at(self, offset: int) -> int:
        """The cluster that holds byte `offset` of the drive."""

    def find(self, path: str) -> Entry | None:
        """Return the entry at `path`, case ignored, or None."""

    def walk(self) -> Iterator[Entry]:
        """Yield the root and every entry below it."""
