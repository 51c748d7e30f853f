"""The volumes of an APFS container in an image as trees: bytes as ranges of the image, and what Unix keeps."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Iterator
from functools import cached_property

from ..common.errors import SourceError
from ..content.bundles import is_bundle_name
from ..content.contents import NO_BYTES, Content, Joined, Literal, Seekable, Zeros
from ..content.ranges import FileRange, RangedFile
from ..content.tree import EPOCH, File, Folder, Special, UnixFacts
from ..volumes.apfs.container import Container
from ..volumes.apfs.read import ApfsVolume, Entry, Fork, moment_of
from ..volumes.volume import UnreadVolume, VolumeError
from .image_volumes import Damage, tree_of
from .packed_file import PackedFile

_PERMISSIONS, _OWN_FLAGS = 0o7777, 0xFF
_LOADER = "System/Library/CoreServices/boot.efi"
_AGAIN = "The image is damaged: download or copy it again."


class ApfsInImage:
    """A container at byte `offset` of an image. What is looked for is looked for in all of its volumes."""

    def __init__(self, image: RangedFile, offset: int, size: int) -> None:
        """Raises VolumeError for a container without a volume that can be read."""
        self._image = image
        self.container = Container(FileRange(image, 0, image.size), offset, size)
        self.volumes: list[ApfsVolume] = []
        self._unread: list[VolumeError] = []
        for number in self.container.volume_numbers():
            try:
                self.volumes.append(ApfsVolume(self.container, number, self.container.volume(number)))
            except VolumeError as error:
                self._unread.append(error)
        if not self.volumes:
            raise next(iter(self._unread), UnreadVolume("The container has no volumes."))
        self._shared: dict[tuple[int, int], File] = {}
        self._damage = Damage("")

    @property
    def label(self) -> str:
        return self._main.label

    @property
    def form(self) -> str:
        return "APFS" if len(self.volumes) == 1 else f"APFS, {len(self.volumes)} volumes"

    @cached_property
    def _main(self) -> ApfsVolume:
        """The volume that a start or an installer is on; the one with the most files where none has either."""
        found = (volume for volume in self.volumes if _has_app(volume) or volume.find(_LOADER) is not None)
        return next(found, max(self.volumes, key=lambda volume: volume.superblock.apfs_num_files))

    @property
    def notes(self) -> tuple[str, ...]:
        said = [error.message for error in self._unread]
        if len(self.volumes) > 1:
            names = (f"'{volume.label}'{f' ({volume.role})' if volume.role else ''}" for volume in self.volumes)
            said.append(
                f"The APFS container has the volumes {', '.join(names)}; the files are those of '{self.label}'."
            )
        return tuple(said)

    def find(self, path: str) -> File | None:
        for volume in self.volumes:
            entry = volume.find(path)
            if entry is not None and not entry.is_folder:
                return self._file(volume, entry)
        return None

    def beside(self, path: str) -> Iterator[File]:
        above = path.rpartition("/")[0]
        for volume in self.volumes:
            folder = volume.find(above) if above else volume.root()
            if folder is not None and folder.is_folder:
                yield from (self._file(volume, entry) for entry in volume.entries(folder) if not entry.is_folder)

    def paths(self) -> Iterator[str]:
        for volume in self.volumes:
            yield from (entry.path for entry in volume.walk() if not entry.is_folder)

    def tree(self) -> Folder:
        volume = self._main
        self._damage = Damage(f"{self._image.path}, {volume.label}: ")

        def make(entry: Entry) -> File | Folder:
            return self._folder(volume, entry) if entry.is_folder else self._file(volume, entry)

        return tree_of(_told_apart(volume.walk()), make, self._damage)

    @property
    def damage(self) -> tuple[str, ...]:
        return self._damage.told()

    def _refuse_faulty(self, volume: ApfsVolume, entry: Entry) -> None:
        if entry.faults:
            where = f"{self._image.path}, {volume.label}: {entry.path or 'root folder'}"
            raise SourceError(f"{where}: {entry.faults[0]}.", advice=_AGAIN)

    def _folder(self, volume: ApfsVolume, entry: Entry) -> Folder:
        return Folder(entry.name, entry.modified or EPOCH, special=Special(unix=self._facts(volume, entry)))

    def _file(self, volume: ApfsVolume, entry: Entry) -> File:
        """Return a file; one with several names is one File."""
        known = self._shared.get((volume.oid, entry.number))
        if known is not None:
            return known
        self._refuse_faulty(volume, entry)
        special = Special(unix=self._facts(volume, entry))
        file = File(entry.name, self._content(volume, entry), entry.modified or EPOCH, special)
        if entry.has_names:
            self._shared[volume.oid, entry.number] = file
        return file

    def _content(self, volume: ApfsVolume, entry: Entry) -> Content:
        if entry.packed is not None:
            place = self._fork(entry.resource).where()
            where = f"{self._image.path}, {entry.path}"
            return PackedFile(where, entry.size, place, lambda at, size: volume.read_at_of(entry, at, size))
        return self._fork(entry.data)

    def _fork(self, fork: Fork) -> Seekable:
        if fork.embedded is not None:
            return Literal(fork.embedded)
        parts: list[FileRange | Zeros] = []
        left = fork.size
        for extent in fork.extents:
            size = min(extent.size, left)
            left -= size
            at = self.container.block_offset(extent.block)
            before = parts[-1] if parts else None
            if not extent.block:
                parts.append(Zeros(size))
            elif isinstance(before, FileRange) and before.offset + before.size == at:
                parts[-1] = FileRange(self._image, before.offset, before.size + size)
            else:
                parts.append(FileRange(self._image, at, size))
        if not parts:
            return NO_BYTES
        return parts[0] if len(parts) == 1 else Joined(parts)

    def _facts(self, volume: ApfsVolume, entry: Entry) -> UnixFacts:
        assert entry.inode is not None
        return UnixFacts(
            mode=entry.inode.mode & _PERMISSIONS,
            is_link=entry.is_symlink,
            finder_info=entry.finder_info,
            flags=entry.inode.bsd_flags & _OWN_FLAGS,
            resource=self._fork(entry.resource),
            attributes={name: volume.attribute(entry, name) for name in entry.attributes},
            created=moment_of(entry.inode.create_time),
        )


def _has_app(volume: ApfsVolume) -> bool:
    return any(entry.is_folder and is_bundle_name(entry.name) for entry in volume.entries(volume.root()))


def _told_apart(entries: Iterable[Entry]) -> Iterator[Entry]:
    """Yield entries; one whose name HFS+ would take for that of another in its folder is faulty."""
    known: set[tuple[str, str]] = set()
    for entry in entries:
        place = entry.path.rpartition("/")[0], unicodedata.normalize("NFD", entry.name)
        if entry.path and place in known:
            entry.faults.append("another entry of its folder has this name")
        known.add(place)
        yield entry
