"""Volumes in images that are read as trees of files. A further kind is a module beside this and a line in READERS."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Protocol

from ..content.ranges import RangedFile
from ..content.tree import File, Folder

MOST_DAMAGE = 100
"""Sentences."""


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
"""What opens a volume at a byte of an image, of so many bytes at most. Raises VolumeError."""


def _hfsplus(image: RangedFile, offset: int, size: int) -> VolumeInImage:
    from .hfsplus import HfsPlusInImage

    return HfsPlusInImage(image, offset, size)


def _apfs(image: RangedFile, offset: int, size: int) -> VolumeInImage:
    from .apfs import ApfsInImage

    return ApfsInImage(image, offset, size)


READERS: Mapping[str, Opens] = {"hfsplus": _hfsplus, "apfs": _apfs}
"""By the names that `inside` gives them."""
