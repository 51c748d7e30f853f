"""An edition of an install image as the tree of a volume: with everything that NTFS keeps of its files and folders."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct, field

from ..common.collecting import without_collections
from ..common.errors import SourceError
from ..content.contents import Content, stream
from ..content.tree import MOST_DEPTH, File, Folder, NtfsFacts, Special
from .edition import EditionEntry, EditionTree
from .read import DAMAGED
from .records import ATTRIBUTE_ENCRYPTED, ATTRIBUTE_FOLDER
from .resources import Resources

_LARGEST_REPARSE_DATA = 16 << 10  # MS-FSCC 2.1.2
_TAG_IS_MICROSOFTS = 1 << 31
_LARGEST_DESCRIPTOR = 64 << 10
_SMALLEST_DESCRIPTOR = 20
_LISTED = 8


@without_collections()
def applied_tree(resources: Resources, tree: EditionTree) -> Folder:
    """Return the tree of an edition. Nothing but metadata and reparse points is read.

    Raises SourceError naming what a volume cannot be given: encrypted files, and whatever is damaged.
    """
    return _Applied(resources, tree).whole()


class _Group(Struct):
    """A file with several names."""

    file: File
    sha1: bytes


class _Applied(Struct):
    resources: Resources
    tree: EditionTree
    groups: dict[int, _Group] = field(default_factory=dict)
    descriptors: dict[int, bytes] = field(default_factory=dict)
    encrypted: list[str] = field(default_factory=list)

    def whole(self) -> Folder:
        root = self.tree.root
        result = Folder("", root.modified.replace(tzinfo=None))
        waiting: list[tuple[Folder, EditionEntry, str, bytes | None, int]] = [
            (result, root, "", self._security(root, "", None), 0)
        ]
        seen: set[int] = set()
        while waiting:
            folder, entry, path, security, depth = waiting.pop()
            if entry.children and (entry.children in seen or depth > MOST_DEPTH):
                raise _fault(path, "the folder appears twice, or is nested too deeply")
            short_names: dict[str, str] = {}
            for below in self.tree.entries(entry):
                where = f"{path}/{below.name}" if path else below.name
                if below.name in folder.entries:
                    raise _fault(where, "its folder has the name twice")
                if below.short_name:
                    short_names[below.name] = below.short_name
                descriptor = self._security(below, where, security)
                if below.attributes & ATTRIBUTE_ENCRYPTED and not below.attributes & ATTRIBUTE_FOLDER:
                    self.encrypted.append(where)
                elif below.is_folder:
                    made = folder.entries[below.name] = Folder(below.name, below.modified.replace(tzinfo=None))
                    waiting.append((made, below, where, descriptor, depth + 1))
                else:
                    folder.entries[below.name] = self._file(below, where, descriptor)
            if folder.entries:  # empty ones may share their end
                seen.add(entry.children)
            folder.special = self._special(entry, path, security, short_names)
        if self.encrypted:
            listed = ", ".join(self.encrypted[:_LISTED]) + (", …" if len(self.encrypted) > _LISTED else "")
            raise SourceError(
                f"{len(self.encrypted)} files of the edition are encrypted and cannot be written: {listed}.",
                advice="Capture the image again without them.",
            )
        return result

    def _file(self, entry: EditionEntry, path: str, security: bytes | None) -> File | Folder:
        """Return a file, or a reparse point of either kind; names of one file share it."""
        if entry.is_reparse_point:
            special = self._special(entry, path, security, {}, self._reparse(entry, path))
            moment = entry.modified.replace(tzinfo=None)
            if entry.attributes & ATTRIBUTE_FOLDER:
                return Folder(entry.name, moment, special=special)
            return File(entry.name, self._content(b"", path), moment, special)
        group = self.groups.get(entry.link_group) if entry.link_group else None
        if group is not None:
            if group.sha1 != entry.sha1:
                raise _fault(path, "another name of the same file has other bytes")
            return group.file
        special = self._special(entry, path, security, {})
        made = File(entry.name, self._content(entry.sha1, path), entry.modified.replace(tzinfo=None), special)
        if entry.link_group:
            self.groups[entry.link_group] = _Group(made, entry.sha1)
        return made

    def _content(self, sha1: bytes, path: str) -> Content:
        return self.resources.content(sha1, path)

    def _special(
        self,
        entry: EditionEntry,
        path: str,
        security: bytes | None,
        short_names: dict[str, str],
        reparse: bytes | None = None,
    ) -> Special:
        facts = NtfsFacts(entry.attributes, entry.created, entry.written, entry.accessed, short_names or _NO_NAMES)
        streams = dict(self._streams(entry, path)) if entry.streams else _NO_STREAMS
        return Special(streams=streams, reparse=reparse, security=security, ntfs=facts)

    def _streams(self, entry: EditionEntry, path: str) -> Iterator[tuple[str, Content]]:
        for each in entry.streams:
            yield each.name, self._content(each.sha1, f"{path}:{each.name}")

    def _security(self, entry: EditionEntry, path: str, above: bytes | None) -> bytes | None:
        """Return a descriptor; of an entry that has none, that of its folder."""
        known = self.descriptors.get(entry.security)
        if known is not None:
            return known
        found = self.tree.security_of(entry)
        if not found:
            return above
        if not _SMALLEST_DESCRIPTOR <= len(found) <= _LARGEST_DESCRIPTOR or found[0] != 1:
            raise _fault(path, f"its security descriptor of {len(found):,} bytes is invalid")
        self.descriptors[entry.security] = found
        return found

    def _reparse(self, entry: EditionEntry, path: str) -> bytes:
        """Return a reparse point's buffer: its head, which images do not have, and its data (MS-FSCC 2.1.2)."""
        if entry.second:
            raise _fault(path, "a link with bytes of its own beside its target is not supported")
        content = self.resources.content(entry.sha1, path)
        if content.size > _LARGEST_REPARSE_DATA - 8:
            raise _fault(path, f"a reparse point of {content.size:,} bytes is too large")
        data = b"".join(bytes(piece) for piece in stream(content))
        # The GUID in front of the data of other makers' tags is not counted. Not proven here.
        counted = len(data) if entry.reparse_tag & _TAG_IS_MICROSOFTS else max(len(data) - 16, 0)
        return entry.reparse_tag.to_bytes(4, "little") + counted.to_bytes(2, "little") + bytes(2) + data


_NO_STREAMS: dict[str, Content] = {}
_NO_NAMES: dict[str, str] = {}


def _fault(path: str, why: str) -> SourceError:
    return SourceError(f"{path or 'The edition'}: {why}.", advice=DAMAGED)
