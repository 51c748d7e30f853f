"""Volumes in images that are read as trees of files. A further kind is a module beside this and a line in READERS."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import islice
from typing import Protocol, TypeVar

from ..content.ranges import RangedFile
from ..content.tree import File, Folder

_MOST_DAMAGE = 100
"""Sentences."""


class Walked(Protocol):
    """An entry of a volume, as `volumes.volume.Entry` has it."""

    path: str
    name: str
    is_folder: bool
    faults: list[str]


_W = TypeVar("_W", bound=Walked)


class Damage:
    """What could not be taken into a tree, and why, by path."""

    def __init__(self, where: str) -> None:
        self._where, self._faults = where, dict[str, str]()

    def note(self, entry: Walked) -> None:
        """Keep the first fault of an entry that has one."""
        if entry.faults:
            what = f"{self._where}{entry.path or 'root folder'}: {entry.faults[0]}."
            self._faults.setdefault(entry.path, what)

    def told(self) -> tuple[str, ...]:
        """Return a sentence for each, as many as are told."""
        return tuple(islice(self._faults.values(), _MOST_DAMAGE))


def tree_of(entries: Iterable[_W], make: Callable[[_W], File | Folder], damage: Damage) -> Folder:
    """Return what a walk yields as a tree, but for what is faulty, which is noted."""
    folders: dict[str, Folder] = {}
    walked: list[_W] = []
    for entry in entries:
        if entry.is_folder:
            walked.append(entry)
        if entry.faults and entry.path:
            damage.note(entry)
            continue
        made = make(entry)
        if entry.path:
            folders[entry.path.rpartition("/")[0]].entries[entry.name] = made
        if isinstance(made, Folder):
            folders[entry.path] = made
    for entry in walked:  # what is wrong with a folder is known when all in it was looked at
        damage.note(entry)
    return folders[""]


class VolumeInImage(Protocol):
    """A volume of an image, or the volumes of a container in it."""

    @property
    def label(self) -> str: ...

    @property
    def form(self) -> str:
        """What it is, for people."""

    @property
    def notes(self) -> tuple[str, ...]:
        """What is to be said of it beside its files, a sentence each."""

    def find(self, path: str) -> File | None:
        """Return the file at `path`, without reading more of the volume than the way to it."""

    def beside(self, path: str) -> Iterator[File]:
        """Yield the files in the folder that `path` is in."""

    def paths(self) -> Iterator[str]:
        """Yield the paths of all files."""

    def tree(self) -> Folder:
        """Return everything on it, but for what is damaged."""

    @property
    def damage(self) -> tuple[str, ...]:
        """What the tree that was made lacks, and why, a sentence each."""


Opens = Callable[[RangedFile, int, int], VolumeInImage]
"""What opens a volume at a byte of an image, of at most this many bytes. Raises VolumeError."""


def _hfsplus(image: RangedFile, offset: int, size: int) -> VolumeInImage:
    from .hfsplus import HfsPlusInImage

    return HfsPlusInImage(image, offset, size)


def _apfs(image: RangedFile, offset: int, size: int) -> VolumeInImage:
    from .apfs import ApfsInImage

    return ApfsInImage(image, offset, size)


READERS: Mapping[str, Opens] = {"hfsplus": _hfsplus, "apfs": _apfs}
"""By the names that `inside` gives them."""
