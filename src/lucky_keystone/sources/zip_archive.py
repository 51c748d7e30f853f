"""The members of a zip archive as contents, with what Unix keeps of them.

The standard library reads the directory; members are ranges of the archive, or decode on demand.
"""

from __future__ import annotations

import io
import stat
import struct
import zipfile
import zlib
from datetime import datetime
from functools import cached_property

from msgspec import Struct

from ..common.errors import KeystoneError, SourceError
from ..content.contents import NO_BYTES, Seekable
from ..content.ranges import ContentFile, FileRange, RangedFile
from ..content.tree import EPOCH, MOST_DEPTH, File, Folder, Special, UnixFacts
from .as_file import AsFile
from .deflated import DeflatedFile
from .summed import CRC32, Sum, SummedFile

_LOCAL_HEADER = struct.Struct("<4s5H3I2H")  # APPNOTE 6.3.10, 4.3.7
_LOCAL_MAGIC = b"PK\3\4"
_MADE_ON_UNIX = 3
_MOST_MEMBERS = 1_000_000
_ENCRYPTED, _SAYS_UTF8 = 1, 1 << 11
_ODD = (
    zipfile.BadZipFile,
    EOFError,
    ValueError,
    LookupError,
    OverflowError,
    struct.error,
    NotImplementedError,
    zlib.error,
)


class Member(Struct, frozen=True):
    """A file in an archive."""

    path: str
    content: Seekable
    mode: int | None
    """As stat(2) has it; None where the archive keeps none."""
    modified: datetime


def _name_of(info: zipfile.ZipInfo) -> str:
    """Return a member's path. Packers on Unix write UTF-8, and often do not say so (4.4.4, bit 11)."""
    if info.flag_bits & _SAYS_UTF8 or info.create_system != _MADE_ON_UNIX:
        return info.filename
    try:
        return info.filename.encode("cp437").decode("utf-8")
    except UnicodeError:
        return info.filename


class ZipArchive:
    """An archive in any content."""

    def __init__(self, content: Seekable, name: str) -> None:
        """Read the directory. Raises SourceError where it is damaged."""
        self._content, self._name = content, name
        self._file: RangedFile = (
            content.file
            if isinstance(content, FileRange) and not content.offset and content.size == content.file.size
            else ContentFile(content, name)
        )
        try:
            with zipfile.ZipFile(io.BufferedReader(AsFile(content))) as archive:
                self._infos = archive.infolist()
        except _ODD as error:
            raise SourceError(
                f"{name}, a zip archive: its directory cannot be read: {str(error).rstrip('.')}.",
                advice="It is damaged or incomplete: download or copy it again.",
            ) from error
        if len(self._infos) > _MOST_MEMBERS:
            raise SourceError(f"{name}: {len(self._infos):,} members of a zip archive are invalid.")
        for info in self._infos:
            info.filename = _name_of(info)
        self._refuse_cut_off()

    def _refuse_cut_off(self) -> None:
        """Raise SourceError for an archive of more than 4 GiB that keeps sizes and places in 32 bits, as some are made.

        The library takes the multiple of 4 GiB that its directory's place lacks for something in front of the archive.
        """
        first = min((info.header_offset for info in self._infos), default=0)
        if first >= 1 << 32 and self._content.read_at(0, 4) == _LOCAL_MAGIC:
            raise SourceError(
                f"{self._name}: it has more than 4 GiB, and its directory states sizes of up to 4 GiB only.",
                advice="Its packer cut sizes off. Unpack the archive, and use the result.",
            )

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Paths of all files."""
        return tuple(info.filename for info in self._infos if not info.filename.endswith("/"))

    def member(self, path: str) -> Member | None:
        """Return the file at exactly `path`. Raises SourceError for one that cannot be read."""
        info = next((info for info in self._infos if info.filename == path), None)
        return self._member(info) if info is not None else None

    def _member(self, info: zipfile.ZipInfo) -> Member:
        mode = info.external_attr >> 16 if info.create_system == _MADE_ON_UNIX else 0
        try:
            modified = datetime(*info.date_time)
        except ValueError:
            modified = EPOCH
        return Member(info.filename, self._bytes(info), mode or None, modified)

    def _bytes(self, info: zipfile.ZipInfo) -> Seekable:
        where = f"{self._name}: {info.filename}"
        if info.flag_bits & _ENCRYPTED:
            raise SourceError(f"{where} is encrypted.", advice="Unpack the archive, and use the result.")
        try:
            head = _LOCAL_HEADER.unpack(self._content.read_at(info.header_offset, _LOCAL_HEADER.size))
        except KeystoneError as error:
            raise SourceError(f"{where} lies outside of the archive.") from error
        start = info.header_offset + _LOCAL_HEADER.size + head[9] + head[10]
        if head[0] != _LOCAL_MAGIC or start + info.compress_size > self._content.size:
            raise SourceError(f"{where} lies outside of the archive.", advice="The archive is damaged or incomplete.")
        stored = FileRange(self._file, start, info.compress_size)
        if not info.file_size:
            return NO_BYTES
        expected = Sum(CRC32, info.CRC.to_bytes(4, "big"))
        if info.compress_type == zipfile.ZIP_STORED:
            if info.compress_size != info.file_size:
                raise SourceError(f"{where}: {info.compress_size:,} bytes are stored of {info.file_size:,}.")
            return FileRange(SummedFile(stored, where, expected), 0, stored.size)
        if info.compress_type != zipfile.ZIP_DEFLATED:
            raise SourceError(
                f"{where} is compressed by a method that is not supported (method {info.compress_type}).",
                advice="Unpack the archive, and use the result.",
            )
        return FileRange(DeflatedFile(stored, info.file_size, where, expected=expected), 0, info.file_size)

    def tree(self) -> Folder:
        """Return everything in it as a tree. Raises SourceError for paths that leave it or clash."""
        top = Folder("")
        for info in self._infos:
            parts = info.filename.rstrip("/").split("/")
            if any(part in ("", ".", "..") for part in parts) or len(parts) > MOST_DEPTH:
                raise SourceError(f"{self._name}: '{info.filename[:100]}' is not a valid path.")
            folder = top.made_folder(parts[:-1])
            if folder is None:
                raise SourceError(f"{self._name}: '{info.filename[:100]}' is both a file and a folder.")
            self._add(folder, parts[-1], info)
        return top

    def _add(self, folder: Folder, name: str, info: zipfile.ZipInfo) -> None:
        if info.filename.endswith("/"):
            made = folder.entries.setdefault(name, Folder(name))
            kept = info.external_attr >> 16 if info.create_system == _MADE_ON_UNIX else 0
            if isinstance(made, Folder) and kept:
                made.special = Special(unix=UnixFacts(mode=stat.S_IMODE(kept)))
            return
        if name in folder.entries:
            raise SourceError(f"{self._name}: '{info.filename[:100]}' is in it twice.")
        member = self._member(info)
        is_link = member.mode is not None and stat.S_ISLNK(member.mode)
        mode = None if member.mode is None or is_link else stat.S_IMODE(member.mode)
        facts = UnixFacts(mode=mode, is_link=is_link)
        folder.entries[name] = File(name, member.content, member.modified, Special(unix=facts))
