"""The file records, and the entries of indexes, of a layout."""

from __future__ import annotations

from collections.abc import Iterator

from ...common.record import packer
from ..volume import Run
from .attributes import RESIDENT_HEAD, file_record, nonresident, resident
from .catalogue import FOLDER_INDEX, Attribute, NameLink, Node
from .geometry import vcns_per_block
from .index import pack_blocks, pack_root
from .layout import Layout, key_of
from .records import (
    COLLATE_FILE_NAME,
    DATA,
    FILE_NAME,
    FIRST_FREE,
    FIRST_UNUSED,
    FOLDER_NAME,
    INDEX_ROOT,
    MFT,
    QUOTA,
    RECORD_HAS_VIEW_INDEX,
    RECORD_IN_EXTEND,
    RECORD_IN_USE,
    RECORD_IS_FOLDER,
    REPARSE_POINTS,
    RESIDENT,
    STANDARD_INFORMATION,
    VIEW_INDEX_NAME,
    AttributeHeader,
    FileName,
    FolderEntryHeader,
    ResidentForm,
    StandardInformation,
    reference,
)

_STANDARD_SIZE = RESIDENT_HEAD + StandardInformation.SIZE
_TIMES = ("created", "modified", "record_changed", "accessed")
_standard = packer(
    (
        AttributeHeader,
        {
            "type": STANDARD_INFORMATION,
            "length": _STANDARD_SIZE,
            "form": RESIDENT,
            "name_length": 0,
            "name_offset": RESIDENT_HEAD,
            "flags": 0,
            "instance": 0,
        },
    ),
    (ResidentForm, {"value_length": StandardInformation.SIZE, "value_offset": RESIDENT_HEAD, "indexed": 0}),
    (StandardInformation, {}),
    names=(*_TIMES, "attributes", "security"),
)
_name = packer(
    (FileName, {}),
    names=("parent", *_TIMES, "allocated", "size", "attributes", "reparse_tag", "name_length", "namespace"),
)
_entry = packer((FolderEntryHeader, {"flags": 0}), names=("file", "length", "key_length"))


class Records:
    """Makes the records and index entries of one layout."""

    def __init__(self, layout: Layout) -> None:
        self._layout, self._catalogue = layout, layout.catalogue
        self._size = layout.geometry.record_size
        self._vcns = vcns_per_block(layout.cluster_size)
        self._security = self._catalogue.security
        self._further: dict[int, tuple[int, int]] = {
            spread.first_further + index: (number, index + 1)
            for number, spread in self._catalogue.spread.items()
            for index in range(len(spread.records) - 1)
        }

    def record(self, number: int) -> bytes:
        node = self._catalogue.nodes.get(number)
        if node is not None and node.content is not None:
            return self._plain(node)
        if node is not None:
            return self._whole(node, number, 0)
        further = self._further.get(number)
        if further is not None:
            return self._whole(self._catalogue.nodes[further[0]], number, further[1])
        return self._nameless(number)

    def _plain(self, node: Node) -> bytes:
        parts = [self._standard_of(node)]
        instance = 1
        for link in node.links:
            parts.append(resident(FILE_NAME, self.name(link), instance, indexed=True))
            instance += 1
        cluster_size = self._layout.cluster_size
        if node.size:
            run = Run(self._layout.plain[node.number], -(-node.size // cluster_size))
            parts.append(nonresident(DATA, (run,), node.size, cluster_size, instance))
        else:
            parts.append(resident(DATA, b"", instance))
        return file_record(node.number, 1, RECORD_IN_USE, len(node.links), parts, self._size, instances=instance + 1)

    def _whole(self, node: Node, number: int, part: int) -> bytes:
        """Return record `number` of a file that is not plain, its `part`-th."""
        attributes = self._layout.attributes(node.number)
        lists = sum(attribute.kind < FILE_NAME for attribute in attributes)
        ordered: list[Attribute | NameLink] = [*attributes[:lists], *node.links, *attributes[lists:]]
        spread = self._catalogue.spread.get(node.number)
        places = spread.records[part] if spread else range(len(ordered) + 1)
        parts = [
            self._attribute(node, ordered[place - 1], place) if place else self._standard_of(node) for place in places
        ]
        flags = RECORD_IN_USE | (RECORD_IS_FOLDER if node.is_folder else 0)
        if self._catalogue.is_view(node.number):
            flags |= RECORD_HAS_VIEW_INDEX
        if QUOTA <= node.number <= REPARSE_POINTS:
            flags |= RECORD_IN_EXTEND
        if not part:
            return file_record(
                number, node.sequence, flags, len(node.links), parts, self._size, instances=len(ordered) + 1
            )
        base = reference(node.number, node.sequence)
        return file_record(number, 1, RECORD_IN_USE, 0, parts, self._size, instances=len(ordered) + 1, base=base)

    def _nameless(self, number: int) -> bytes:
        """A free record, or one of those kept for later versions of the format, which are in use and hold nothing."""
        if not FIRST_UNUSED <= number < FIRST_FREE:
            return file_record(number, max(number, 1) if number < FIRST_FREE else 1, 0, 0, (), self._size, instances=0)
        parts = (self._standard_of(self._catalogue.nodes[MFT]), resident(DATA, b"", 1))
        return file_record(number, number, RECORD_IN_USE, 0, parts, self._size, instances=2)

    def _standard_of(self, node: Node) -> bytes:
        return _standard(*node.times, node.attributes, self._security[node.security])

    def _attribute(self, node: Node, attribute: Attribute | NameLink, instance: int) -> bytes:
        if isinstance(attribute, NameLink):
            return resident(FILE_NAME, self.name(attribute), instance, indexed=True)
        if attribute.kind == INDEX_ROOT:
            return resident(INDEX_ROOT, self._root(node, attribute.name), instance, attribute.name)
        if attribute.value is not None:
            return resident(attribute.kind, attribute.value, instance, attribute.name)
        runs = self._layout.runs[key_of(node.number, attribute)]
        size, cluster_size = attribute.size, self._layout.cluster_size
        return nonresident(attribute.kind, runs, size, cluster_size, instance, attribute.name, sparse=attribute.sparse)

    # -- indexes -------------------------------------------------------------------------------------------------

    def name(self, link: NameLink) -> bytes:
        """Return the FILE_NAME of a name, as it is in the file's record and in the folder's index."""
        child, parent = link.child, link.parent
        allocated, size = self._layout.stream_sizes(child)
        attributes = child.attributes
        if child.is_folder:
            attributes |= FOLDER_NAME
        elif self._catalogue.is_view(child.number):
            attributes |= VIEW_INDEX_NAME
        stored = link.name.encode("utf-16-le", "surrogatepass")
        reparse = child.special.reparse
        tag = int.from_bytes(reparse[:4], "little") if reparse else 0
        above = parent.number | parent.sequence << 48
        return (
            _name(
                above,
                *child.times,
                allocated,
                size,
                attributes,
                tag,
                len(stored) // 2,
                link.namespace,
            )
            + stored
        )

    def _entry_of(self, link: NameLink) -> bytes:
        key = self.name(link)
        length = FolderEntryHeader.SIZE + len(key) + 7 & ~7
        child = link.child
        return (_entry(child.number | child.sequence << 48, length, len(key)) + key).ljust(length, b"\0")

    def _root(self, node: Node, name: str) -> bytes:
        if name == FOLDER_INDEX:
            tree = self._catalogue.trees[node.number]
            return pack_root(
                tree.found,
                lambda place: self._entry_of(tree.links[place]),
                indexed_type=FILE_NAME,
                collation=COLLATE_FILE_NAME,
                vcns=self._vcns,
            )
        view = next(view for view in self._catalogue.views[node.number] if view.name == name)
        return pack_root(
            view.found, view.entries.__getitem__, indexed_type=0, collation=view.collation, vcns=self._vcns
        )

    def blocks(self, node: Node, attribute: Attribute) -> Iterator[bytes]:
        """Yield the blocks of an index's $INDEX_ALLOCATION."""
        if attribute.name == FOLDER_INDEX:
            tree = self._catalogue.trees[node.number]
            return pack_blocks(tree.found, lambda place: self._entry_of(tree.links[place]), self._vcns)
        view = next(view for view in self._catalogue.views[node.number] if view.name == attribute.name)
        return pack_blocks(view.found, view.entries.__getitem__, self._vcns)
