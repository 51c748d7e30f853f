"""A source: what is built from, as it was given."""

from __future__ import annotations

import hashlib
from functools import cached_property
from pathlib import Path
from typing import ClassVar

from msgspec import Struct

from ..common.progress import Progress
from ..content.contents import Content, SizedReadable
from ..content.ranges import FileRange, RangedFile, stored_files
from ..content.source_file import SourceFile
from ..content.tree import File, Folder
from ..fetching.link import Place
from ..fetching.remote import RemoteFile
from .decoded import DecodedFile
from .diskimage import DiskImage

_SAMPLE = 1 << 20


class Packing(Struct, frozen=True):
    """How an image is compressed."""

    name: str
    file: DecodedFile
    was_measured: bool
    """True where the format does not say what comes out: it was decoded once."""


INSTALL_IMAGE = "install image"
"""The form of a source that is an install image on its own; its files are the image, or its parts in order."""


class DriverFolder(Struct, frozen=True):
    """A folder with driver packages for setup."""

    path: Path
    root: Folder


class Source(Struct, frozen=True, eq=False, dict=True):
    """What is built from. Facts about it are the families' to find."""

    NO_FILES: ClassVar[Folder] = Folder("")

    path: Place
    form: str
    """How it was read."""
    label: str
    root: Folder
    """Its files; empty where it has none that are read."""
    added: tuple[Path, ...] = ()
    drivers: tuple[DriverFolder, ...] = ()
    """Driver packages that setup is to take from the drive."""
    answer_file: File | None = None
    """Answers to setup's questions that were given beside it; its name is the path."""
    image: FileRange | None = None
    """All bytes of an image, decoded; None of a folder."""
    packing: Packing | None = None
    """None when it is not compressed."""
    volume_size: int = 0
    """Of a disc: bytes up to the end of its volume; 0 where nothing says it."""
    notes: tuple[str, ...] = ()
    """What a technician should know of it, a sentence each."""
    further: tuple[Source, ...] = ()
    """What else goes onto the same drive, each with volumes of its own."""
    joined: tuple[Source, ...] = ()
    """What goes into its own volumes as well, where its family can do that (`Family.joined`)."""
    merged: tuple[Source, ...] = ()
    """Further sources whose files `root` has as well."""
    damage: tuple[str, ...] = ()
    """Why it cannot be whole by what it says itself, one sentence per reason."""

    @property
    def sha256(self) -> str:
        """What an image on a server is to have; '' for any other source, and where it is not known."""
        return next((file.sha256 for file in self.remote_files if file.path == self.path), "")

    @property
    def disk_image(self) -> DiskImage | None:
        """The disk image that it is; None of any other source."""
        return self.image.file if self.image is not None and isinstance(self.image.file, DiskImage) else None

    @cached_property
    def places(self) -> tuple[Path, ...]:
        """What was given, and one file of every further disk that a part of it lies on."""
        devices = {file.device: file.path for file in self.files}
        below = (place for source in self.further for place in source.places)
        given = [self.path] if isinstance(self.path, Path) else []
        return tuple(dict.fromkeys((*given, *self.beside, *devices.values(), *below)))

    @property
    def beside(self) -> tuple[Path, ...]:
        """What was given to go onto the drive with it."""
        answers = (Path(self.answer_file.name),) if self.answer_file is not None else ()
        return (*self.added, *(each.path for each in self.drivers), *answers)

    @property
    def trees(self) -> tuple[Folder, ...]:
        """Its files, and those that were given beside it."""
        answers = [Folder("", entries={"answer file": self.answer_file})] if self.answer_file else []
        return (self.root, *(each.root for each in self.drivers), *answers)

    @cached_property
    def identities(self) -> frozenset[tuple[int, int]]:
        """Device and number of every file that is read."""
        return frozenset(file.identity for file in self.files)

    @cached_property
    def files(self) -> tuple[SourceFile, ...]:
        """Every file on this computer that a part of the source lies in."""
        return tuple(file for file in self._stored if isinstance(file, SourceFile))

    @cached_property
    def remote_files(self) -> tuple[RemoteFile, ...]:
        """Every file on a server that a part of the source lies in."""
        return tuple(file for file in self._stored if isinstance(file, RemoteFile))

    def prove_remote(self, progress: Progress) -> None:
        """Compare what came from servers with the sums it is to have. Raises SourceError."""
        for file in self.remote_files:
            file.prove(progress)

    def stop_remote(self) -> None:
        """Let nobody wait for a server any more."""
        for file in self.remote_files:
            file.stop()

    @cached_property
    def _stored(self) -> tuple[RangedFile, ...]:
        """Every file that a part of the source lies in, as it is stored."""
        contents: list[Content | SizedReadable] = []
        for source in (self, *self.further):
            contents += [source.image] if source.image else []
            contents += (file.content for tree in source.trees for _, file in tree.files())
        found: dict[int, RangedFile] = {}
        for content in contents:
            found.update((id(file), file) for file in stored_files(content))
        return tuple(found.values())

    @cached_property
    def fingerprint(self) -> str:
        """32 hex digits over every path, size and time: tells whether a saved plan still meets the same source.

        Of an image without files that are read: over its size, and the MiB at either end as it is stored.
        """
        digest = hashlib.sha256()
        for tree in self.trees:
            for path, entry in sorted(tree.walk(), key=lambda item: item[0]):
                size = entry.size if isinstance(entry, File) else -1
                digest.update(f"{path}\0{size}\0{entry.modified.isoformat()}\n".encode("utf-8", "surrogatepass"))
        if not self.root.entries and self.image is not None:
            file = self.packing.file.stored if self.packing else self.image.file
            stored = FileRange(file, 0, file.size)
            digest.update(f"{self.image.size} {stored.size}\n".encode())
            for offset in (0, max(stored.size - _SAMPLE, 0)):
                digest.update(stored.read_at(offset, min(_SAMPLE, stored.size - offset)))
        for source in self.further:
            digest.update(f"with {source.fingerprint}\n".encode())
        return digest.hexdigest()[:32]


def named_sources(source: Source) -> list[Source]:
    """Return a source and those that were given with it, in this order."""
    return [source, *source.merged, *source.joined, *source.further]
