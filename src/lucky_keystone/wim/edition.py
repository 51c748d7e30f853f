"""The folder tree of an edition, read from the metadata of its install image where it is asked for.

Nothing that a number in it says is believed before it was checked against the bytes it points into.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from fnmatch import fnmatchcase
from functools import lru_cache
from typing import NamedTuple

from msgspec import Struct

from ..common.errors import SourceError
from ..common.later import np
from .read import DAMAGED
from .records import ATTRIBUTE_FOLDER, ATTRIBUTE_REPARSE, DirectoryEntry, StreamEntry

_MOST_ENTRIES = 5_000_000
_MOST_DEPTH = 256
_NO_BYTES = bytes(20)
_FORBIDDEN = frozenset("/\\\0")
_NO_SECURITY = 0xFFFF_FFFF
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_LARGEST_TIME = 2_650_467_743_999_999_999  # 9999-12-31, in 100 ns since 1601
_FIELDS = struct.Struct("<QIIQ16xQQQ20sIQHHH")
"""DirectoryEntry, read 100,000 times: the same fields (a test holds both together)."""


class Stream(Struct, frozen=True):
    """A named stream of a file."""

    name: str
    sha1: bytes
    """Of its bytes; zeros where it is empty."""


class EditionEntry(NamedTuple):
    """A file or folder of an edition: there may be 100,000, and a tuple is the quickest to make."""

    name: str
    short_name: str
    attributes: int
    security: int
    """Number of its security descriptor; FFFFFFFFh for none. `EditionTree.security_of` has its bytes."""
    sha1: bytes
    """Of its bytes; zeros where it is empty, or a folder."""
    children: int
    """Where the entries below it begin in the metadata; 0 for none."""
    created: int
    accessed: int
    written: int
    """100 ns since 1601."""
    link: int
    """The same for all names of a hard-linked file; of a reparse point its tag is the lower half."""
    streams: tuple[Stream, ...]
    second: bytes = b""
    """Of a reparse point: SHA-1 of a second stream without a name, beside its own data."""

    @property
    def reparse_tag(self) -> int:
        """Of a reparse point (MS-FSCC 2.1.2.1)."""
        return self.link & 0xFFFF_FFFF

    @property
    def link_group(self) -> int:
        """The same number in all names of one file; 0 for a file with one name."""
        return 0 if self.is_reparse_point else self.link

    @property
    def is_folder(self) -> bool:
        return bool(self.attributes & ATTRIBUTE_FOLDER) and not self.is_reparse_point

    @property
    def is_reparse_point(self) -> bool:
        return bool(self.attributes & ATTRIBUTE_REPARSE)

    @property
    def is_empty(self) -> bool:
        """True for a file without bytes: no resource holds them."""
        return self.sha1 == _NO_BYTES

    @property
    def modified(self) -> datetime:
        return moment(self.written)


@lru_cache(4096)  # many files of an edition were written at the same moment
def moment(time: int) -> datetime:
    """Return a time of an entry, in 100 ns since 1601."""
    return _EPOCH + timedelta(microseconds=min(time, _LARGEST_TIME) // 10)


class EditionTree:
    """What an edition holds."""

    def __init__(self, metadata: bytes, what: str) -> None:
        """`metadata` is its unpacked resource; `what` names the edition. Raises SourceError where it has no root."""
        self._data, self._what = metadata, what
        if len(metadata) < 8:
            raise self._fault(0, "it is too short")
        self._descriptors, start = self._security()
        root = self._entry(start)
        if root is None or not root[0].is_folder:
            raise self._fault(start, "there is no root folder")
        self.root = root[0]

    def security_of(self, entry: EditionEntry) -> bytes | None:
        """Return a self-relative security descriptor (MS-DTYP 2.4.6); None where the entry has none.

        Raises SourceError for a number that no descriptor has.
        """
        if entry.security == _NO_SECURITY:
            return None
        if entry.security >= len(self._descriptors):
            raise self._fault(0, f"'{entry.name}' has the security descriptor {entry.security}, of none")
        start, end = self._descriptors[entry.security]
        return self._data[start:end]

    def _security(self) -> tuple[list[tuple[int, int]], int]:
        """Return where the security descriptors lie, and where the root's entry begins."""
        length, count = (int.from_bytes(self._data[at : at + 4], "little") for at in (0, 4))
        at = 8 + 8 * count
        if at > len(self._data) or length > len(self._data):
            raise self._fault(0, "its security descriptors do not fit")
        found = []
        for size in np.frombuffer(self._data, "<u8", count, 8):
            if at + int(size) > max(length, 8):
                raise self._fault(0, "its security descriptors do not fit")
            found.append((at, at + int(size)))
            at += int(size)
        return found, -(-max(length, 8) // 8) * 8

    def entries(self, folder: EditionEntry) -> Iterator[EditionEntry]:
        """Yield what is in a folder. Raises SourceError for an entry that is damaged."""
        offset, seen = folder.children, 0
        while offset and (found := self._entry(offset)) is not None:
            entry, offset = found
            seen += 1
            if seen > _MOST_ENTRIES:
                raise self._fault(offset, "a folder has too many entries")
            if not entry.name or entry.name in (".", "..") or not _FORBIDDEN.isdisjoint(entry.name):
                raise self._fault(offset, f"'{entry.name}' is not a valid name")
            yield entry

    def walk(self, folder: EditionEntry | None = None, prefix: str = "") -> Iterator[tuple[str, EditionEntry]]:
        """Yield everything below a folder with its path, '/' between names. Raises SourceError for a loop."""
        waiting = [(prefix, self.root if folder is None else folder, 0)]
        seen: set[int] = set()
        while waiting:
            path, within, depth = waiting.pop()
            for number, entry in enumerate(self.entries(within)):
                if not number:  # the end of an empty folder may be that of others as well
                    if within.children in seen or depth > _MOST_DEPTH:
                        raise self._fault(within.children, "the folder appears twice, or is nested too deeply")
                    seen.add(within.children)
                below = f"{path}{entry.name}"
                yield below, entry
                if entry.is_folder:
                    waiting.append((f"{below}/", entry, depth + 1))

    def find(self, path: str) -> EditionEntry | None:
        """Return the entry at a path, case ignored; '' is the root."""
        found = self.root
        for name in filter(None, path.replace("\\", "/").split("/")):
            lower = name.lower()
            below = next((entry for entry in self.entries(found) if entry.name.lower() == lower), None)
            if below is None:
                return None
            found = below
        return found

    def matching(self, pattern: str) -> Iterator[tuple[str, EditionEntry]]:
        """Yield what fits a pattern: by its whole path where the pattern has a '/', else by its name; case ignored."""
        wanted = pattern.replace("\\", "/").lower().strip("/")
        whole = "/" in wanted
        for path, entry in self.walk():
            if fnmatchcase(path.lower() if whole else entry.name.lower(), wanted):
                yield path, entry

    def _entry(self, offset: int) -> tuple[EditionEntry, int] | None:
        """Return the entry at an offset and where the next one begins; None at the end of a folder."""
        data = self._data
        length = int.from_bytes(data[offset : offset + 8], "little")
        if not length or offset + 8 > len(data):
            if offset + 8 > len(data):
                raise self._fault(offset, "a folder has no end")
            return None
        if length % 8 or length < DirectoryEntry.SIZE or offset + length > len(data):
            raise self._fault(offset, f"an entry has an invalid length of {length:,} bytes")
        (_, attributes, security, children, created, accessed, written, sha1, _, link, count, short, name) = (
            _FIELDS.unpack_from(data, offset)
        )
        at = offset + DirectoryEntry.SIZE
        # A terminating zero follows a name that is there.
        end = at + name + (2 if name else 0) + short
        if end > offset + length or name % 2 or short % 2:
            raise self._fault(offset, "its names do not fit an entry")
        if children >= len(data):
            raise self._fault(offset, "an entry leads outside of it")
        streams, after, own = self._streams(offset + length, count) if count else ((), offset + length, ())
        unnamed = [each for each in (sha1, *own) if each != _NO_BYTES]
        entry = EditionEntry(
            name=data[at : at + name].decode("utf-16-le", "surrogatepass"),
            short_name=data[end - short : end].decode("utf-16-le", "surrogatepass") if short else "",
            attributes=attributes,
            security=security,
            sha1=unnamed[0] if unnamed else _NO_BYTES,
            children=children if attributes & ATTRIBUTE_FOLDER else 0,
            created=created,
            accessed=accessed,
            written=written,
            link=link,
            streams=streams,
            second=unnamed[1] if len(unnamed) > 1 and unnamed[1] != unnamed[0] else b"",
        )
        return entry, after

    def _streams(self, offset: int, count: int) -> tuple[tuple[Stream, ...], int, tuple[bytes, ...]]:
        """Return named streams, where the next entry begins, and the sums of unnamed ones."""
        found: list[Stream] = []
        own: list[bytes] = []
        for _ in range(count):
            length = int.from_bytes(self._data[offset : offset + 8], "little")
            if length % 8 or length < StreamEntry.SIZE or offset + length > len(self._data):
                raise self._fault(offset, f"a stream entry has an invalid length of {length:,} bytes")
            entry = StreamEntry.unpack(self._data[offset : offset + StreamEntry.SIZE])
            name = self._data[offset + StreamEntry.SIZE : offset + StreamEntry.SIZE + entry.name_length]
            if StreamEntry.SIZE + entry.name_length > length or entry.name_length % 2:
                raise self._fault(offset, "its name does not fit a stream entry")
            if name:
                found.append(Stream(name.decode("utf-16-le", "surrogatepass"), entry.sha1))
            else:
                own.append(entry.sha1)
            offset += length
        return tuple(found), offset, tuple(own)

    def _fault(self, offset: int, why: str) -> SourceError:
        return SourceError(f"{self._what}, its folder tree, byte {offset:,}: {why}.", advice=DAMAGED)
