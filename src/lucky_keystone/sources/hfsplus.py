"""An HFS+ volume inside an image as a tree: names, bytes as ranges of the image, and what Unix and the Finder keep."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from ..common.errors import SourceError
from ..content.contents import NO_BYTES, Content, Joined, Seekable
from ..content.ranges import FileRange, RangedFile
from ..content.tree import EPOCH, File, Folder, Special, UnixFacts
from ..volumes.hfsplus.parse import Fork
from ..volumes.hfsplus.read import Entry, HfsPlusVolume
from ..volumes.hfsplus.records import HAS_ATTRIBUTES, PERMISSION_BITS, CatalogFile, CatalogFolder, moment_of
from .image_volumes import Damage, tree_of
from .packed_file import PackedFile

_NO_MODE = 0
"""What volumes of old systems have for permissions: none were ever set."""


class HfsPlusInImage:
    """An HFS+ volume at byte `offset` of an image."""

    def __init__(self, image: RangedFile, offset: int, size: int) -> None:
        """Raises VolumeError for what is not a readable volume."""
        self._image, self._offset = image, offset
        self.volume = HfsPlusVolume(FileRange(image, 0, image.size), offset, size)
        self._shared: dict[int, File] = {}
        self._damage = Damage(f"{image.path}, ")

    @cached_property
    def label(self) -> str:
        return self.volume.label()

    def find(self, path: str) -> File | None:
        """Return the file at `path`, without reading more of the volume than the way to it."""
        entry = self.volume.find(path)
        return self._file(entry) if entry is not None and not entry.is_folder else None

    def beside(self, path: str) -> Iterator[File]:
        """Yield the files in the folder that `path` is in."""
        above = path.rpartition("/")[0]
        folder = self.volume.find(above) if above else self.volume.root()
        if folder is not None and folder.is_folder:
            yield from (self._file(entry) for entry in self.volume.entries(folder) if not entry.is_folder)

    @property
    def form(self) -> str:
        return "HFS+"

    @property
    def notes(self) -> tuple[str, ...]:
        return ()

    def paths(self) -> Iterator[str]:
        """Yield the paths of all files."""
        yield from (entry.path for entry in self.volume.walk() if not entry.is_folder)

    def tree(self) -> Folder:
        """Return everything on it. Raises SourceError for what is damaged, with its path."""

        def make(entry: Entry) -> File | Folder:
            return self._folder(entry) if entry.is_folder else self._file(entry)

        return tree_of(self.volume.walk(), make, self._damage)

    @property
    def damage(self) -> tuple[str, ...]:
        return self._damage.told()

    def _folder(self, entry: Entry) -> Folder:
        return Folder(entry.name, entry.modified or EPOCH, special=Special(unix=self._facts(entry)))

    def _file(self, entry: Entry) -> File:
        """Return a file; one with several names is one File."""
        known = self._shared.get(entry.number)
        if entry.link and known is not None:
            return known
        if entry.faults:
            raise SourceError(
                f"{self._image.path}, {entry.path}: {entry.faults[0]}.",
                advice="The image is damaged: download or copy it again.",
            )
        file = File(entry.name, self._content(entry), entry.modified or EPOCH, Special(unix=self._facts(entry)))
        if entry.link:
            self._shared[entry.number] = file
        return file

    def _content(self, entry: Entry) -> Content:
        if entry.packed is not None:
            first = entry.resource.runs[0].first if entry.resource.runs else 0
            place = FileRange(self._image, self.volume.cluster_offset(first), 0).where()
            where = f"{self._image.path}, {entry.path}"
            return PackedFile(where, entry.size, place, lambda at, size: self.volume.read_at_of(entry, at, size))
        return self._fork(entry.data)

    def _fork(self, fork: Fork) -> Seekable:
        ranges: list[FileRange] = []
        left = fork.size
        for run in fork.runs:
            size = min(run.count * self.volume.cluster_size, left)
            ranges.append(FileRange(self._image, self.volume.cluster_offset(run.first), size))
            left -= size
        if not ranges:
            return NO_BYTES
        return ranges[0] if len(ranges) == 1 else Joined(ranges)

    def _facts(self, entry: Entry) -> UnixFacts:
        record, permissions = entry.record, entry.permissions
        mode = permissions.fileMode
        attributes = self.volume.attributes(entry.number) if record.flags & HAS_ATTRIBUTES else {}
        assert isinstance(record, CatalogFile | CatalogFolder)
        return UnixFacts(
            mode=mode & PERMISSION_BITS if mode != _NO_MODE else None,
            is_link=entry.is_symlink,
            finder_info=bytes(32) if entry.is_symlink else record.finderInfo,
            flags=permissions.ownerFlags,
            resource=self._fork(entry.resource),
            attributes=attributes,
            created=moment_of(record.createDate),
        )
