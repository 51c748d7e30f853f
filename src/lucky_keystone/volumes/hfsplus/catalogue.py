"""Numbers the files and folders of a tree for an HFS Plus volume, and puts its catalog and attributes in order.

Nothing has a place yet: what a fork's blocks are is asked for when a record is packed.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime

from msgspec import Struct

from ...common.collecting import without_collections
from ...common.errors import SourceError
from ...content.contents import NO_BYTES, Content
from ...content.tree import EPOCH, File, Folder, Special, UnixFacts
from .names import binary_key, folded_key, name_fault, needs_case, shown_name, stored_name
from .records import (
    ATTRIBUTE_NAME_MOST,
    FIRST_USER,
    LINK_CREATOR,
    LINK_TYPE,
    LINKED_FILE,
    LINKED_FILES,
    ROOT,
    ROOT_PARENT,
    AttributeKey,
    CatalogFile,
    CatalogFolder,
    CatalogThread,
    ForkAttribute,
    InlineAttribute,
)

_LISTED = 6
ATTRIBUTE_MOST = 3802
"""Bytes of an attribute that are in its record; more go into blocks of their own."""
_THREAD_KEY = 8
_PRIVATE_FLAGS = 0x5000  # of the folder of linked files: invisible, its name locked
_PRIVATE_PLACE = 22460


class Node(Struct):
    """A file or folder with its number."""

    number: int
    parent: int
    """Its folder's number."""
    name: bytes
    """UTF-16 units as stored."""
    path: str
    entry: File | Folder
    special: int = 0
    """Of a hard link the number of its iNode, of an iNode the count of its links."""

    @property
    def is_folder(self) -> bool:
        return isinstance(self.entry, Folder)

    @property
    def unix(self) -> UnixFacts:
        return self.entry.special.unix

    @property
    def is_link(self) -> bool:
        """True of one of several names of a file, which has no bytes of its own."""
        return self.unix.finder_info[:8] == LINK_TYPE + LINK_CREATOR

    @property
    def data(self) -> Content:
        """The data fork: nothing where the bytes are kept compressed elsewhere."""
        if isinstance(self.entry, Folder) or self.unix.is_packed:
            return NO_BYTES
        return self.entry.content


class Catalogue(Struct, frozen=True):
    """Everything on a volume, by number."""

    tree: Folder
    label: str
    nodes: Sequence[Node]
    """The root first, then in rising order of numbers."""
    children: dict[int, list[Node]]
    """Of each folder, in the order of their keys."""
    case_sensitive: bool
    created: datetime
    starts_with: Node | None
    """The loader that the volume names to firmware."""

    @property
    def next_number(self) -> int:
        return FIRST_USER + len(self.nodes) - 1

    @property
    def folder_count(self) -> int:
        """The root left out."""
        return len(self.children) - 1

    @property
    def file_count(self) -> int:
        return len(self.nodes) - len(self.children)


@without_collections()
def catalogue(tree: Folder, label: str) -> Catalogue:
    """Number everything in `tree`. Raises SourceError for names that cannot be stored or appear twice in a folder."""
    case_sensitive = needs_case(tree) is not None
    key = binary_key if case_sensitive else folded_key
    shared = {number for number, count in Counter(id(file) for _, file in tree.files()).items() if count > 1}
    root = Node(ROOT, ROOT_PARENT, stored_name(label), "", tree)
    nodes, children = [root], {ROOT: list[Node]()}
    numbers = {"": ROOT}
    links: dict[int, list[Node]] = {}
    faults: list[str] = []
    for path, entry in tree.walk():
        above, _, name = path.rpartition("/")
        if fault := name_fault(name):
            faults.append(f"'{path[:80]}' {fault}")
            continue
        node = Node(FIRST_USER + len(nodes) - 1, numbers[above], stored_name(name), path, entry)
        nodes.append(node)
        children[node.parent].append(node)
        if node.is_folder:
            numbers[path], children[node.number] = node.number, []
        elif id(entry) in shared:
            links.setdefault(id(entry), []).append(node)
    faults += _attribute_faults(nodes)
    _refuse(faults)
    created = max((node.entry.modified for node in nodes), default=EPOCH)
    if links:
        _keep_linked_files(list(links.values()), nodes, children, created)
    for mine in children.values():
        mine.sort(key=lambda node: key(node.name))
        faults += [
            f"'{shown_name(two.name)}' twice in one folder"
            for one, two in zip(mine, mine[1:], strict=False)
            if key(one.name) == key(two.name)
        ]
    _refuse(faults)
    wanted = tree.special.unix.starts_with
    loader = next((node for node in nodes if node.path == wanted), None) if wanted else None
    if wanted and loader is None:
        raise SourceError(f"{wanted}, which the volume is to name to firmware, is not on it.")
    return Catalogue(tree, label, nodes, children, case_sensitive, created, loader)


def _attribute_faults(nodes: Sequence[Node]) -> Iterator[str]:
    for node in nodes:
        for name in node.unix.attributes:
            if not 0 < len(name.encode("utf-16-be", "surrogatepass")) <= 2 * ATTRIBUTE_NAME_MOST:
                yield f"'{node.path[:80]}' has an attribute whose name is too long ({name[:40]}…)"


def _refuse(faults: Sequence[str]) -> None:
    if faults:
        more = f" and {len(faults) - _LISTED} more" if len(faults) > _LISTED else ""
        raise SourceError(
            f"An HFS+ volume cannot hold: {'; '.join(faults[:_LISTED])}{more}.",
            advice="Rename or leave out what is named.",
        )


def _keep_linked_files(
    links: list[list[Node]], nodes: list[Node], children: dict[int, list[Node]], created: datetime
) -> None:
    """Move the bytes of files with several names into a folder of the volume's own (TN1150, "Hard Links")."""
    info = bytes(8) + _PRIVATE_FLAGS.to_bytes(2, "big") + 2 * _PRIVATE_PLACE.to_bytes(2, "big") + bytes(18)
    folder = Folder(LINKED_FILES, created, special=Special(unix=UnixFacts(mode=0o755, finder_info=info)))
    home = Node(FIRST_USER + len(nodes) - 1, ROOT, stored_name(LINKED_FILES), LINKED_FILES, folder)
    nodes.append(home)
    children[ROOT].append(home)
    children[home.number] = []
    for names in links:
        number = FIRST_USER + len(nodes) - 1
        file = names[0].entry
        name = f"{LINKED_FILE}{number}"
        node = Node(number, home.number, stored_name(name), names[0].path, file, len(names))
        nodes.append(node)
        children[home.number].append(node)
        stands_for = UnixFacts(mode=file.special.unix.mode, finder_info=(LINK_TYPE + LINK_CREATOR).ljust(32, b"\0"))
        for link in names:
            link.special = number
            link.entry = File(file.name, NO_BYTES, file.modified, Special(unix=stands_for))


# -- the records of both trees ---------------------------------------------------------------------------------------


def catalog_key(parent: int, name: bytes) -> bytes:
    """Return a key of the catalog, with its length (TN1150, "Catalog File Key")."""
    return b"%c%c" % divmod(6 + len(name), 256) + parent.to_bytes(4, "big") + (len(name) // 2).to_bytes(2, "big") + name


class CatalogRecords:
    """The records of the catalog: of each number its thread, then, of a folder, what is in it."""

    def __init__(self, contents: Catalogue, pack: Callable[[Node], bytes]) -> None:
        """`pack` makes the record of a file or folder, without its key."""
        self._pack = pack
        root = contents.nodes[0]
        self._items: list[tuple[Node, bool]] = [(root, False)]
        for node in contents.nodes:
            self._items.append((node, True))
            self._items += [(child, False) for child in contents.children.get(node.number, ())]

    def __len__(self) -> int:
        return len(self._items)

    def key_sizes(self) -> list[int]:
        return [_THREAD_KEY + (0 if is_thread else len(node.name)) for node, is_thread in self._items]

    def sizes(self) -> list[int]:
        thread, folder, file = CatalogThread.SIZE + 2, CatalogFolder.SIZE, CatalogFile.SIZE
        return [
            _THREAD_KEY + len(node.name) + (thread if is_thread else folder if node.is_folder else file)
            for node, is_thread in self._items
        ]

    def key(self, index: int) -> bytes:
        node, is_thread = self._items[index]
        return catalog_key(node.number, b"") if is_thread else catalog_key(node.parent, node.name)

    def record(self, index: int) -> bytes:
        node, is_thread = self._items[index]
        if not is_thread:
            return catalog_key(node.parent, node.name) + self._pack(node)
        thread = CatalogThread(recordType=3 if node.is_folder else 4, parentID=node.parent)
        return catalog_key(node.number, b"") + thread.pack() + (len(node.name) // 2).to_bytes(2, "big") + node.name


class AttributeRecords:
    """The records of the attributes file: by number, then by name."""

    def __init__(self, contents: Catalogue, fork_of: Callable[[int, bytes], bytes]) -> None:
        """`fork_of` gives the packed ForkData of an attribute too large for its record."""
        self._fork_of = fork_of
        self._items = [
            (node.number, name, value)
            for node in contents.nodes
            for name, value in sorted(
                ((name.encode("utf-16-be", "surrogatepass"), value) for name, value in node.unix.attributes.items())
            )
        ]

    def __len__(self) -> int:
        return len(self._items)

    def key_sizes(self) -> list[int]:
        return [AttributeKey.SIZE + len(name) for _, name, _ in self._items]

    def sizes(self) -> list[int]:
        return [AttributeKey.SIZE + len(name) + _value_size(value) for _, name, value in self._items]

    def key(self, index: int) -> bytes:
        number, name, _ = self._items[index]
        length = AttributeKey.SIZE - 2 + len(name)
        return AttributeKey(keyLength=length, fileID=number, attrNameLen=len(name) // 2).pack() + name

    def record(self, index: int) -> bytes:
        number, name, value = self._items[index]
        if len(value) > ATTRIBUTE_MOST:
            return self.key(index) + ForkAttribute(theFork=self._fork_of(number, name)).pack()
        return self.key(index) + InlineAttribute(attrSize=len(value)).pack() + value + bytes(len(value) % 2)


def _value_size(value: bytes) -> int:
    size = len(value)
    return ForkAttribute.SIZE if size > ATTRIBUTE_MOST else InlineAttribute.SIZE + size + size % 2


class NoRecords:
    """An empty tree's."""

    def __len__(self) -> int:
        return 0

    def key_sizes(self) -> tuple[()]:
        return ()

    def sizes(self) -> tuple[()]:
        return ()

    def key(self, index: int) -> bytes:
        raise IndexError(index)

    def record(self, index: int) -> bytes:
        raise IndexError(index)
