"""What a tree needs of a volume, before anything has a place: file records, names in collation order, index trees.

Most files are plain: a name or two, and bytes in one piece; their record is made from their Node alone. Folders, the
volume's own files, and files with streams, holes, many names or bytes of our own making have a list of Attributes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from functools import lru_cache

from msgspec import Struct, field

from ...common.collecting import without_collections
from ...common.errors import SourceError
from ...content.contents import Content, Joined, Literal, Zeros
from ...content.tree import EPOCH, ORDINARY, File, Folder, Special
from .attributes import NONRESIDENT_HEAD, RESIDENT_HEAD, WIDEST_RUN, filetime, room_for_attributes
from .index import IndexNode, IndexShape, root_size, shape
from .names import refuse_problems, stored_names
from .records import (
    ARCHIVE,
    ATTR_DEF,
    ATTRIBUTE_LIST,
    BITMAP,
    CARRIED,
    DATA,
    EXTEND,
    FILE_NAME,
    FIRST_FREE,
    FIRST_USER,
    HIDDEN,
    INDEX_ALLOCATION,
    INDEX_BLOCK_SIZE,
    INDEX_ROOT,
    NAME_BOTH,
    NAME_POSIX,
    NAME_SHORT,
    REPARSE_FILE,
    REPARSE_POINT,
    ROOT,
    SECURE,
    SPARSE_FILE,
    STANDARD_INFORMATION,
    SYSTEM,
    UPCASE,
    VOLUME,
    VOLUME_INFORMATION,
    VOLUME_NAME,
    AttributeListEntry,
    FileName,
    FolderEntryHeader,
    StandardInformation,
    VolumeInformation,
    reference,
)
from .security import Descriptors, for_everyone, for_system_files, keep
from .system import ViewIndex, attribute_definitions, view_indexes
from .upcase import collation_key, upcase_table

FOLDER_INDEX = "$I30"
_LARGEST_RESIDENT = 256  # bytes of a stream that is in its record, where we made them
_LARGEST_RESIDENT_BITMAP = 64  # bytes of an index's bitmap that are in its record
_LONGEST_RESIDENT_LIST = 256
_LONGEST_RESIDENT_REPARSE = 512
_LARGEST_REPARSE = 16 << 10  # MS-FSCC 2.1.2
_STANDARD = RESIDENT_HEAD + StandardInformation.SIZE
_NAMED_STREAM = NONRESIDENT_HEAD + 8 + 24  # a stream in one piece, with a short name

IN_ROOT = (
    *(
        (0, "$MFT"),
        (1, "$MFTMirr"),
        (2, "$LogFile"),
        (3, "$Volume"),
        (4, "$AttrDef"),
        (ROOT, "."),
        (6, "$Bitmap"),
        (7, "$Boot"),
    ),
    *((8, "$BadClus"), (9, "$Secure"), (10, "$UpCase"), (EXTEND, "$Extend")),
)
IN_EXTEND = ((24, "$Quota"), (25, "$ObjId"), (26, "$Reparse"))


Times = tuple[int, int, int, int]
"""Created, written, changed, read, as StandardInformation has them: 100 ns since 1601."""


@lru_cache(1 << 12)
def times_of(moment: datetime) -> Times:
    """Return the times of a file of which only the one is known when it was written."""
    time = filetime(moment)
    return time, time, time, time


class Node(Struct):
    """A file or folder and its file record."""

    number: int
    path: str
    times: Times
    attributes: int
    """HIDDEN and so on."""
    is_folder: bool
    content: Content | None
    """Of the unnamed stream; None where there is none, or where an Attribute has it."""
    size: int
    """Bytes of the unnamed stream."""
    special: Special = ORDINARY
    links: list[NameLink] = field(default_factory=list)

    @property
    def sequence(self) -> int:
        """Sequence number: the volume's own first files have their record's, all others are their record's first."""
        return max(self.number, 1) if self.number < FIRST_FREE else 1

    @property
    def security(self) -> bytes:
        return self.special.security or (
            for_everyone() if self.number >= FIRST_USER or self.number == ROOT else for_system_files()
        )


class NameLink(Struct):
    """A name of a file or folder."""

    parent: Node
    child: Node
    name: str
    namespace: int

    @property
    def name_size(self) -> int:
        """Bytes of the name as it is stored."""
        return 2 * len(self.name) if self.name.isascii() else len(self.name.encode("utf-16-le", "surrogatepass"))


class Attribute(Struct):
    """An attribute of a file that is not plain: a value in the record, or a stream that needs clusters."""

    kind: int
    name: str = ""
    value: bytes | None = None
    content: Content | None = None
    sparse: bool = False

    @property
    def size(self) -> int:
        """Bytes of the value or stream."""
        return len(self.value) if self.value is not None else self.content.size if self.content else 0

    @property
    def most_bytes(self) -> int:
        """Bytes of the attribute in a record, wherever its clusters may lie."""
        name = 2 * len(self.name) + 7 & ~7
        if self.value is not None:
            return RESIDENT_HEAD + name + (len(self.value) + 7 & ~7)
        runs = 2 * len(parts_of(self.content)) + 1 if self.sparse else 1
        return NONRESIDENT_HEAD + (8 if self.sparse else 0) + name + (1 + WIDEST_RUN * runs + 7 & ~7)


def parts_of(content: Content | None) -> tuple[Content, ...]:
    """Return what a content is made of, one after the other."""
    return content.parts if isinstance(content, Joined) else (content,) if content else ()


class Tree(Struct):
    """An index: entries in order are made later, their sizes decide its shape now."""

    found: IndexShape
    links: list[NameLink]


class Spread(Struct, frozen=True):
    """Which attributes, by their place in order, are in the base record and in each further one."""

    first_further: int
    """Record number of the first further record."""
    records: list[list[int]]


class Catalogue(Struct, frozen=True):
    """A tree, numbered."""

    nodes: dict[int, Node]
    """By record number: the volume's own files and all others."""
    attributes: dict[int, list[Attribute]]
    """Of the nodes that are not plain, but for their standard information and names."""
    trees: dict[int, Tree]
    """Of the folders."""
    views: dict[int, tuple[ViewIndex, ...]]
    """Of the files that have other indexes."""
    spread: dict[int, Spread]
    """Of the same nodes."""
    security: dict[bytes, int]
    """Number of each security descriptor."""
    next_number: int
    """First record number that is not used."""
    newest: datetime

    def is_view(self, number: int) -> bool:
        """True for a file of the volume's own whose index holds no names."""
        return number in self.views


def entry_size(link: NameLink) -> int:
    """Bytes of an entry of a folder's index, without a child."""
    return FolderEntryHeader.SIZE + FileName.SIZE + link.name_size + 7 & ~7


@without_collections()
def catalogue(root: Folder, label: str, record_size: int) -> Catalogue:
    """Number `root`'s files and folders and order their names.

    Raises SourceError for names or attributes NTFS cannot hold.
    """
    refuse_problems(root, (name for _, name in IN_ROOT))
    newest = max((entry.modified for entry in root.entries.values()), default=EPOCH)
    nodes, trees = _numbered(root, newest)
    attributes: dict[int, list[Attribute]] = {}
    for folder, tree in trees.items():
        tree.links.sort(key=lambda link: collation_key(link.name))
        sizes = [entry_size(link) for link in tree.links]
        tree.found = shape(sizes, _root_room(nodes[folder], sizes, record_size))
        attributes[folder] = index_attributes(FOLDER_INDEX, tree.found, sizes)
    for node in nodes.values():
        if node.number >= FIRST_USER or node.number == ROOT:
            _add_special(node, attributes, record_size)
    special = [node for node in nodes.values() if node.special is not ORDINARY]
    descriptors = keep([for_system_files(), for_everyone(), *(node.security for node in special)])
    points = [
        (int.from_bytes(node.special.reparse[:4], "little"), reference(node.number, node.sequence))
        for node in special
        if node.special.reparse
    ]
    views = view_indexes(descriptors, points, filetime(newest))
    for owner, attribute in _own_attributes(label, descriptors, views):
        attributes.setdefault(owner, []).append(attribute)
    number = max(nodes) + 1
    spread: dict[int, Spread] = {}
    for node_number, mine in attributes.items():
        places = _spread(nodes[node_number], mine, number, record_size)
        spread[node_number] = Spread(number, places)
        number += len(places) - 1
    return Catalogue(nodes, attributes, trees, views, spread, descriptors.numbers, number, newest)


def _numbered(root: Folder, newest: datetime) -> tuple[dict[int, Node], dict[int, Tree]]:
    """Give every file and folder its record and its names.

    The volume's own, then those of the tree, folder by folder.
    """
    nodes = {number: _own(number, name, newest) for number, name in (*IN_ROOT, *IN_EXTEND)}
    if (facts := root.special.ntfs) is not None:
        nodes[ROOT].times = (facts.created, facts.written, facts.written, facts.accessed)
        nodes[ROOT].special = root.special
    trees: dict[int, Tree] = {}
    for folder, names in ((ROOT, IN_ROOT), (EXTEND, IN_EXTEND)):
        links = [NameLink(nodes[folder], nodes[number], name, NAME_BOTH) for number, name in names]
        for link in links:
            link.child.links.append(link)
        trees[folder] = Tree(_NO_SHAPE, links)
    known: dict[int, Node] = {}
    waiting: list[tuple[Node, Folder]] = [(nodes[ROOT], root)]
    number = FIRST_USER
    while waiting:
        above, folder_entry = waiting.pop()
        tree = trees.setdefault(above.number, Tree(_NO_SHAPE, []))
        stored = stored_names(folder_entry)
        for name, entry in folder_entry.entries.items():
            child = known.get(id(entry))
            if child is None:
                child = nodes[number] = _node(number, f"{above.path}/{name}" if above.path else name, entry)
                number += 1
                if isinstance(entry, Folder):
                    waiting.append((child, entry))
                else:
                    known[id(entry)] = child
            for text, namespace in stored[name]:
                link = NameLink(above, child, text, namespace)
                tree.links.append(link)
                child.links.append(link)
    for node in nodes.values():
        if node.special.ntfs is not None and len(node.links) > 1:
            _keep_one_short_name(node)
    return nodes, trees


def _keep_one_short_name(node: Node) -> None:
    """Make all names of a hard-linked file POSIX names but for the one that has a short name: it has no second one."""
    if sum(link.namespace == NAME_SHORT for link in node.links) > 1:
        raise SourceError(
            f"{node.path}: a file with several names has more than one short name.",
            advice="The image is damaged; get it again.",
        )
    for link in node.links:
        if link.namespace == NAME_BOTH:
            link.namespace = NAME_POSIX


_NO_SHAPE = shape((), 1 << 16)


def _own(number: int, name: str, newest: datetime) -> Node:
    path = "" if number == ROOT else name
    return Node(number, path, times_of(newest), HIDDEN | SYSTEM, number in (ROOT, EXTEND), None, 0)


def _own_attributes(
    label: str, descriptors: Descriptors, views: Mapping[int, tuple[ViewIndex, ...]]
) -> Iterator[tuple[int, Attribute]]:
    """Yield what the volume's own files hold, but for what depends on the volume's size."""
    yield VOLUME, Attribute(VOLUME_NAME, value=label.encode("utf-16-le"))
    yield VOLUME, Attribute(VOLUME_INFORMATION, value=VolumeInformation().pack())
    yield VOLUME, Attribute(DATA, value=b"")
    yield ATTR_DEF, Attribute(DATA, content=Literal(attribute_definitions()))
    yield SECURE, Attribute(DATA, "$SDS", content=Literal(descriptors.stream))
    yield UPCASE, Attribute(DATA, content=Literal(upcase_table()))
    for owner, indexes in views.items():
        for index in indexes:
            for attribute in index_attributes(index.name, index.found, [len(entry) for entry in index.entries]):
                yield owner, attribute


def _node(number: int, path: str, entry: File | Folder) -> Node:
    special, is_folder = entry.special, isinstance(entry, Folder)
    facts = special.ntfs
    times = times_of(entry.modified)
    flags = 0 if is_folder else ARCHIVE
    if facts is not None:
        times = (facts.created, facts.written, facts.written, facts.accessed)
        flags = facts.attributes & CARRIED
    if special is not ORDINARY:
        flags |= (SPARSE_FILE if special.sparse else 0) | (REPARSE_FILE if special.reparse else 0)
    if isinstance(entry, Folder):
        return Node(number, path, times, flags, True, None, 0, special)
    return Node(number, path, times, flags, False, entry.content, entry.size, special)


def index_attributes(name: str, found: IndexShape, sizes: Sequence[int]) -> list[Attribute]:
    """Return the attributes of an index; the root's value is packed later and already has its size."""
    made = [Attribute(INDEX_ROOT, name, value=bytes(root_size(found, sizes)))]
    blocks = len(found.blocks)
    if blocks:
        bits = ((1 << blocks) - 1).to_bytes(-(-blocks // 64) * 8, "little")
        made.append(Attribute(INDEX_ALLOCATION, name, content=Zeros(blocks * INDEX_BLOCK_SIZE)))
        short = len(bits) <= _LARGEST_RESIDENT_BITMAP
        made.append(Attribute(BITMAP, name, value=bits) if short else Attribute(BITMAP, name, content=Literal(bits)))
    return made


def _root_room(node: Node, sizes: Sequence[int], record_size: int) -> int:
    """Bytes that the index's root may take, beside what else its record holds."""
    room = (
        room_for_attributes(record_size)
        - _STANDARD
        - sum(map(_name_bytes, node.links))
        - RESIDENT_HEAD
        - 2 * len(FOLDER_INDEX)
    )
    if root_size(IndexShape((), IndexNode(range(len(sizes)), ())), sizes) <= room:
        return room
    return room - 2 * _NAMED_STREAM


def _name_bytes(link: NameLink) -> int:
    """Bytes of the $FILE_NAME attribute of a name."""
    return RESIDENT_HEAD + FileName.SIZE + link.name_size + 7 & ~7


def _add_special(node: Node, attributes: dict[int, list[Attribute]], record_size: int) -> None:
    """Give the node its attributes, unless it is plain."""
    special, mine = node.special, attributes.get(node.number, [])
    if not node.is_folder:
        content = node.content
        assert content is not None
        ours = isinstance(content, Literal) and 0 < content.size <= _LARGEST_RESIDENT
        if not special.streams and not special.sparse and special.reparse is None and not ours:
            names = sum(map(_name_bytes, node.links))
            if _STANDARD + names + _NAMED_STREAM <= room_for_attributes(record_size):
                return
        if not content.size or ours:
            mine.append(Attribute(DATA, value=content.data if isinstance(content, Literal) else b""))
        else:
            mine.append(Attribute(DATA, content=content, sparse=special.sparse))
        node.content = None
    for name, stream in special.streams.items():
        small = isinstance(stream, Literal) and stream.size <= _LARGEST_RESIDENT
        value = stream.data if isinstance(stream, Literal) and small else None if stream.size else b""
        mine.append(Attribute(DATA, name, value=value, content=None if value is not None else stream))
    if special.reparse is not None and len(special.reparse) <= _LONGEST_RESIDENT_REPARSE:
        mine.append(Attribute(REPARSE_POINT, value=special.reparse))
    elif special.reparse is not None and len(special.reparse) > _LARGEST_REPARSE:
        raise SourceError(
            f"{node.path}: a reparse point of {len(special.reparse):,} bytes is too large.", advice="Leave it out."
        )
    elif special.reparse is not None:
        mine.append(Attribute(REPARSE_POINT, content=Literal(special.reparse)))
    if mine:
        attributes[node.number] = mine


class _Item(Struct, frozen=True):
    """An attribute as it goes into a record; its place in order is its instance number."""

    kind: int
    name: str
    size: int
    """Bytes it takes in a record, at most."""

    def list_entry(self, segment: int, instance: int) -> bytes:
        """Return the entry of an attribute list that says in which record it is."""
        stored = self.name.encode("utf-16-le", "surrogatepass")
        length = _entry_size(self.name)
        entry = AttributeListEntry(
            type=self.kind, length=length, name_length=len(stored) // 2, segment=segment, instance=instance
        )
        return (entry.pack() + stored).ljust(length, b"\0")


def _entry_size(name: str) -> int:
    return AttributeListEntry.SIZE + 2 * len(name) + 7 & ~7


def _spread(node: Node, mine: list[Attribute], number: int, record_size: int) -> list[list[int]]:
    """Return which of the node's attributes go into which record, by their place in order; the base record first.

    More than one record needs an attribute list, which is added to `mine`; further records are numbered from `number`.
    Raises SourceError for an attribute that no record can hold.
    """
    mine.sort(key=lambda attribute: (attribute.kind, collation_key(attribute.name)))
    room = room_for_attributes(record_size)
    standard = _Item(STANDARD_INFORMATION, "", _STANDARD)
    names = [_Item(FILE_NAME, "", _name_bytes(link)) for link in node.links]
    others = [_Item(attribute.kind, attribute.name, attribute.most_bytes) for attribute in mine]
    items = [standard, *names, *others]
    if sum(item.size for item in items) <= room:
        return [list(range(len(items)))]
    if max(item.size for item in items) > room:
        raise SourceError(
            f"{node.path}: a stream, reparse point or other attribute of it does not fit a file record.",
            advice="Leave the file out, or make it less fragmented.",
        )
    list_size = sum(_entry_size(item.name) for item in items)
    is_resident = list_size <= _LONGEST_RESIDENT_LIST
    attribute_list = _Item(ATTRIBUTE_LIST, "", RESIDENT_HEAD + list_size if is_resident else _NAMED_STREAM)
    items = [standard, attribute_list, *names, *others]
    records = _packed(items, room)
    entries = b""
    for place, item in enumerate(items):
        if item is not attribute_list:  # a list does not list itself
            holder = next(index for index, places in enumerate(records) if place in places)
            segment = reference(number + holder - 1, 1) if holder else reference(node.number, node.sequence)
            entries += item.list_entry(segment, place)
    content = {"value": entries} if is_resident else {"content": Literal(entries)}
    mine.insert(0, Attribute(ATTRIBUTE_LIST, **content))
    return [sorted(places) for places in records]


def _packed(items: Sequence[_Item], room: int) -> list[list[int]]:
    """Put items, by their places, into records with `room` bytes each, the first that has room for one.

    Standard information and the attribute list stay in the base record, and so does an index's root if it can.
    """
    records: list[list[int]] = [[0, 1]]
    free = [room - items[0].size - items[1].size]
    for place in sorted(range(2, len(items)), key=lambda place: items[place].kind != INDEX_ROOT):
        size = items[place].size
        index = next((index for index, rest in enumerate(free) if size <= rest), len(free))
        if index == len(free):
            records.append([])
            free.append(room)
        records[index].append(place)
        free[index] -= size
    return records
