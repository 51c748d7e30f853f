"""A file tree: folders and files with their contents, names as the source spells them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from msgspec import Struct, field
from msgspec.structs import replace

from .contents import NO_BYTES, Content

MOST_DEPTH = 200
"""Folders within each other, as deep as any reader follows them: deeper ones loop, or nothing could reach them."""
EPOCH = datetime(1980, 1, 1)
"""Stands for 'no time recorded'; the first moment FAT can express."""


UF_COMPRESSED, DECMPFS = 1 << 5, "com.apple.decmpfs"
"""Flag of chflags(2), and the attribute with the compressed bytes, or with their header."""


class UnixFacts(Struct, frozen=True):
    """What Unix systems, and macOS in particular, keep of a file or folder; HFS+ holds all of it, others do without.

    Everything belongs to user and group 0 on the drives made here.
    """

    mode: int | None = None
    """Permissions as in stat(2), twelve bits; None where the source has none."""
    is_link: bool = False
    """True of a symbolic link: the file's bytes are the path it points to, in UTF-8."""
    finder_info: bytes = bytes(32)
    """Type, creator, flags and whatever else the Finder keeps."""
    flags: int = 0
    """Flags of the owner as in stat(2), eight bits: compressed, hidden and so on."""
    resource: Content = NO_BYTES
    """The resource fork."""
    attributes: Mapping[str, bytes] = field(default_factory=dict)
    """Extended attributes."""
    created: datetime | None = None
    starts_with: str = ""
    """Of a volume's root: the path of the loader that the volume names to firmware; '' when it names none."""

    @property
    def is_packed(self) -> bool:
        """True where the bytes are kept compressed beside an empty data fork: firmware decodes none."""
        return bool(self.flags & UF_COMPRESSED) and DECMPFS in self.attributes

    def unpacked(self) -> UnixFacts:
        """Return what is kept of the same file with its bytes in the data fork."""
        if not self.is_packed:
            return self
        attributes = {name: value for name, value in self.attributes.items() if name != DECMPFS}
        return replace(self, flags=self.flags & ~UF_COMPRESSED, attributes=attributes, resource=NO_BYTES)


NO_FACTS = UnixFacts()


_ARCHIVE = 0x20


class NtfsFacts(Struct, frozen=True):
    """What NTFS keeps of a file or folder that comes from such a volume. Times in 100 ns since 1601."""

    attributes: int
    """FILE_ATTRIBUTE_ bits (MS-FSCC 2.6)."""
    created: int
    written: int
    accessed: int
    short_names: Mapping[str, str] = field(default_factory=dict)
    """Of a folder: the short names of its entries, by their names; the others have none."""


class Special(Struct, frozen=True):
    """What only some volumes can hold beside names and bytes: all but `unix` is NTFS's."""

    streams: Mapping[str, Content] = field(default_factory=dict)
    """Named streams of a file."""
    sparse: bool = False
    """Whether zeros that a file's content describes as `Zeros` take no room."""
    reparse: bytes | None = None
    """A reparse point's whole buffer, its tag first (MS-FSCC 2.1.2)."""
    security: bytes | None = None
    """A self-relative security descriptor (MS-DTYP 2.4.6) instead of the usual one."""
    ntfs: NtfsFacts | None = None
    """None where names, attributes and times are made as a system makes them for a new file."""
    unix: UnixFacts = NO_FACTS

    def for_new_file(self) -> Special:
        """Return what a new file in a folder with this has: the folder's descriptor and times."""
        facts = self.ntfs and replace(self.ntfs, attributes=_ARCHIVE, short_names={})
        return Special(security=self.security, ntfs=facts)

    def for_new_folder(self) -> Special:
        """Return the same for a folder."""
        facts = self.ntfs and replace(self.ntfs, attributes=0, short_names={})
        return Special(security=self.security, ntfs=facts)


ORDINARY = Special()


class File(Struct):
    """A file: its name, its bytes, and the wall-clock time (no zone) it was last written.

    The same File in several places of a tree is one file with several names; a volume that has no such thing holds
    copies.
    """

    name: str
    content: Content
    modified: datetime = EPOCH
    special: Special = ORDINARY

    @property
    def size(self) -> int:
        """Length in bytes."""
        return self.content.size


class Folder(Struct):
    """A folder with its entries by name, in the order they were added."""

    name: str
    modified: datetime = EPOCH
    entries: dict[str, File | Folder] = field(default_factory=dict)
    special: Special = ORDINARY

    def find(self, path: str) -> File | Folder | None:
        """Return the entry at `path` ('/'-separated, case ignored as Windows does), or None."""
        here: File | Folder = self
        for part in path.strip("/").split("/"):
            if not isinstance(here, Folder):
                return None
            found = here.entries.get(part)
            if found is None:
                wanted = part.lower()
                found = next((entry for name, entry in here.entries.items() if name.lower() == wanted), None)
            if found is None:
                return None
            here = found
        return here

    def find_file(self, path: str) -> File | None:
        """Return the file at `path`, or None when nothing or a folder is there."""
        found = self.find(path)
        return found if isinstance(found, File) else None

    def find_folder(self, path: str) -> Folder | None:
        """Return the folder at `path`, or None when nothing or a file is there."""
        found = self.find(path)
        return found if isinstance(found, Folder) else None

    def made_folder(self, names: Sequence[str], special: Special = ORDINARY) -> Folder | None:
        """Return the folder below this one that these names lead to, made where there is none; as old as this one.

        None where a file is in the way.
        """
        here = self
        for name in names:
            below = here.entries.setdefault(name, Folder(name, self.modified, special=special))
            if not isinstance(below, Folder):
                return None
            here = below
        return here

    def put(self, path: str, file: File) -> None:
        """Put a file at `path` ('/'-separated), in place of what is there by that name; folders are made."""
        *folders, name = path.split("/")
        folder = self.made_folder(folders)
        assert folder is not None, f"a file is in the way of {path}"
        folder.entries[name] = file

    def walk(self) -> Iterator[tuple[str, File | Folder]]:
        """Yield every entry below this folder with its path, a folder before what it holds."""
        stack: list[tuple[str, Iterator[tuple[str, File | Folder]]]] = [("", iter(self.entries.items()))]
        while stack:
            prefix, entries = stack[-1]
            name, entry = next(entries, ("", None))
            if entry is None:
                stack.pop()
                continue
            path = prefix + name
            yield path, entry
            if isinstance(entry, Folder):
                stack.append((path + "/", iter(entry.entries.items())))

    def files(self) -> Iterator[tuple[str, File]]:
        """Yield every file below this folder with its path."""
        return ((path, entry) for path, entry in self.walk() if isinstance(entry, File))

    @property
    def folder_count(self) -> int:
        return sum(1 for _, entry in self.walk() if isinstance(entry, Folder))

    def replaced(self, path: str, file: File) -> Folder:
        """Return a new tree with `file` at `path` ('/'-separated, case ignored); the rest is shared.

        Folders that are not there are made; they get what their parent has beside names and bytes.
        """
        asked, _, rest = path.partition("/")
        name = next((each for each in self.entries if each.lower() == asked.lower()), asked)
        result = Folder(self.name, self.modified, dict(self.entries), self.special)
        if not rest:
            result.entries[name] = file
            return result
        below = self.entries.get(name)
        if not isinstance(below, Folder):
            below = Folder(name, self.modified, special=self.special.for_new_folder())
        result.entries[name] = below.replaced(rest, file)
        return result

    def merged(self, other: Folder) -> Folder:
        """Return a new tree: this one with `other` laid on top of it (names compared without case; files replaced)."""
        result = Folder(self.name, self.modified, dict(self.entries), self.special)
        spelled = {name.lower(): name for name in result.entries}
        for entry in other.entries.values():
            known = spelled.get(entry.name.lower())
            below = result.entries.pop(known) if known is not None else None
            if isinstance(entry, Folder) and isinstance(below, Folder):
                merged = below.merged(entry)
                result.entries[merged.name] = merged
            else:
                result.entries[entry.name] = entry
        return result
