"""A volume as a check found it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..tables.table import Partition
from ..volumes.fat32.read import Entry as Fat32Entry
from ..volumes.fat32.read import Fat32Volume
from ..volumes.ntfs.read import Entry as NtfsEntry
from ..volumes.ntfs.read import NtfsVolume


@dataclass(frozen=True)
class FoundFat32:
    """A FAT32 volume that could be read, the partition it stands in, and everything on it, the root first."""

    partition: Partition
    volume: Fat32Volume
    entries: Sequence[Fat32Entry]


@dataclass(frozen=True)
class FoundNtfs:
    """The same of an NTFS volume."""

    partition: Partition
    volume: NtfsVolume
    entries: Sequence[NtfsEntry]


FoundVolume = FoundFat32 | FoundNtfs


@dataclass(frozen=True)
class FileOnVolume:
    """A file's bytes through its clusters, as a content that can be read at any offset."""

    found: FoundVolume
    entry: Fat32Entry | NtfsEntry

    @property
    def size(self) -> int:
        """Bytes, as far as it has clusters."""
        volume = self.found.volume
        held = sum(run.count for run in self.entry.runs) * volume.cluster_size
        return min(self.entry.size, held) if self.entry.runs or isinstance(self.found, FoundFat32) else self.entry.size

    def read_at(self, offset: int, size: int) -> bytes:
        """Return up to `size` bytes from `offset`."""
        return self.found.volume.read_at_of(self.entry, offset, size)  # type: ignore[arg-type]


def file_on(found: FoundVolume, path: str) -> FileOnVolume | None:
    """Return the file at `path`, case ignored, None when there is none."""
    wanted = path.upper()
    entry = next((entry for entry in found.entries if not entry.is_folder and entry.path.upper() == wanted), None)
    return FileOnVolume(found, entry) if entry is not None else None
