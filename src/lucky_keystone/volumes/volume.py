"""What every volume's reader gives, whatever the file system: files and folders, and where their bytes lie."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import Any, Protocol, TypeVar

from msgspec import Struct

from ..common.errors import SourceError
from ..content.tree import MOST_DEPTH

HOLE = -1


def stored_hidden(first_sector: int) -> int:
    """Return what a BPB says of the sectors in front of a volume: 32 bits, 0 where that is not enough.

    BIOS boot code alone uses it (fatgen103, "BPB_HiddSec"), and reaches no further.
    """
    return first_sector if first_sector < 1 << 32 else 0


class VolumeError(SourceError):
    """The bytes are not a readable volume of this kind."""


class UnreadVolume(VolumeError):
    """A volume that is of a kind that is read, and has something that is not: encryption, say."""


class Run(Struct, frozen=True):
    """`count` neighbouring clusters from `first`; a hole, which reads as zeros, has HOLE for a first cluster."""

    first: int
    count: int

    @property
    def is_hole(self) -> bool:
        """True when no clusters belong to it."""
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
        """Where its bytes lie; none when they are in the file's record."""

    @property
    def modified(self) -> datetime | None:
        """When it was last written, as the volume keeps it; None where that is not a moment."""

    @property
    def faults(self) -> list[str]:
        """What is wrong with it, in words."""


_E = TypeVar("_E", bound=Entry)


def walk_below(
    root: _E, entries: Callable[[_E], Iterator[_E]], identity: Callable[[_E], int], budget: int
) -> Iterator[_E]:
    """Yield `root` and everything below it.

    `identity` numbers folders: one that is met twice, or too deep, is faulty and left out.

    After `budget` entries, more than can be real, it ends with a fault of the root.
    """
    yield root
    waiting = [(root, 0)]
    seen = {identity(root)}
    while waiting:
        folder, depth = waiting.pop()
        for entry in entries(folder):
            budget -= 1
            if entry.is_folder and not entry.faults:
                if identity(entry) in seen or depth >= MOST_DEPTH:
                    entry.faults.append("the folder appears twice, or is nested too deeply")
                else:
                    seen.add(identity(entry))
                    waiting.append((entry, depth + 1))
            yield entry
            if budget <= 0:
                root.faults.append("implausibly many entries")
                return


def find_below(
    root: _E, path: str, entries: Callable[[_E], Iterator[_E]], matches: Callable[[_E, str], bool]
) -> _E | None:
    """Return the entry at `path` ('/'-separated) below `root`, or None.

    `matches` compares an entry with a part of the path.
    """
    here = root
    for part in path.strip("/").split("/"):
        if not here.is_folder:
            return None
        found = next((entry for entry in entries(here) if matches(entry, part)), None)
        if found is None:
            return None
        here = found
    return here


class Volume(Protocol):
    """A volume that can be read."""

    offset: int
    """First byte on the drive."""
    size: int
    """Bytes it may have: those of its partition."""

    @property
    def cluster_size(self) -> int:
        """Bytes."""

    @property
    def boot_sector(self) -> bytes:
        """Its first 512 bytes."""

    def label(self) -> str:
        """The volume's label, '' when it has none."""

    def names_loader(self) -> str:
        """The path of the loader that the volume names to firmware; '' where it names none, or has no such thing."""

    def root(self) -> Any:
        """The root folder as an entry."""

    def bytes_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive, for what lies outside all clusters."""

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster on the drive, in bytes."""

    def cluster_at(self, offset: int) -> int:
        """The cluster that holds byte `offset` of the drive."""

    def part_at(self, inside: int) -> str:
        """Name the volume's own structure that holds its byte `inside`, '' for none of those a start reads."""

    def find(self, path: str) -> Any:
        """Return the entry at `path`, case ignored, or None."""

    def entries(self, folder: Any) -> Iterator[Any]:
        """Yield what is in a folder."""

    def walk(self) -> Iterator[Any]:
        """Yield the root and every entry below it."""

    def readable_size(self, entry: Any) -> int:
        """Bytes of a file that can be read: fewer than its size where its clusters are missing."""

    def pieces(self, entry: Any) -> Iterator[bytes]:
        """Yield a file's bytes."""

    def read_at_of(self, entry: Any, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a file from `offset`."""


class FileOnVolume(Struct, frozen=True):
    """A file's bytes through its clusters, as a content that can be read at any offset."""

    volume: Volume
    entry: Entry

    @property
    def size(self) -> int:
        """Bytes, as far as it has clusters."""
        return self.volume.readable_size(self.entry)

    def read_at(self, offset: int, size: int) -> bytes:
        """Return up to `size` bytes from `offset`."""
        return self.volume.read_at_of(self.entry, offset, size)
