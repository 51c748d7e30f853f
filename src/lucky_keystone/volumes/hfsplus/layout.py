"""Gives everything in a catalogue its blocks.

Order on the volume: the header, the allocation file, the trees (extents overflow, attributes, catalog), then the files
in the order their bytes are in the source, so that the source is read front to back.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ...common.collecting import without_collections
from ...content.contents import Content, Literal
from ...content.extents import align_up
from ..placing import WantedPlace, keep_places
from .btree import TreeRules, TreeShape, shape_tree
from .catalogue import ATTRIBUTE_MOST, AttributeRecords, CatalogRecords, Catalogue, NoRecords
from .geometry import Geometry
from .records import (
    ALLOCATION_FILE,
    ATTRIBUTE_KEY_MOST,
    ATTRIBUTES_FILE,
    BIG_KEYS,
    CATALOG_FILE,
    CATALOG_KEY_MOST,
    COMPARE_BINARY,
    COMPARE_FOLDED,
    EXTENT_KEY_LENGTH,
    EXTENTS_FILE,
    VARIABLE_INDEX_KEYS,
)

_EXTENTS_RULES = TreeRules(4096, EXTENT_KEY_LENGTH, BIG_KEYS)
_ATTRIBUTES_RULES = TreeRules(8192, ATTRIBUTE_KEY_MOST, BIG_KEYS | VARIABLE_INDEX_KEYS)
_NODE_OF_CATALOG = 8192
RESOURCES = "/..namedfork/rsrc"
"""Behind a file's path: its resource fork."""

ForkKey = tuple[int, bytes]
"""A file's number, and which of its forks: DATA, RESOURCE, or the name of an attribute as stored."""
DATA, RESOURCE = b"", b"\xff"


class PlacedFork(Struct, frozen=True):
    """Blocks from `cluster` on that hold `content` and, behind its end, zeros."""

    key: ForkKey
    path: str
    cluster: int
    count: int
    content: Content


class Layout(Struct, frozen=True):
    """Where everything lies. Blocks count from the volume's start."""

    catalogue: Catalogue
    geometry: Geometry
    shapes: Mapping[int, TreeShape]
    """Of each tree, by its file's number."""
    own: Mapping[int, tuple[int, int]]
    """First block and count of the volume's own files, by number."""
    forks: tuple[PlacedFork, ...]
    """In the order of the source."""
    places: Mapping[ForkKey, tuple[int, int]]
    """First block of each fork, and bytes."""
    next_free: int
    """First block behind everything but the alternate header."""
    holes: tuple[tuple[int, int], ...] = ()
    """First block and count of free blocks in front of `next_free`; only an update leaves any."""

    @property
    def clusters_used(self) -> int:
        return self.next_free - sum(count for _, count in self.holes)

    @property
    def files_from(self) -> int:
        """First block behind the volume's own files."""
        return max(first + count for first, count in self.own.values())

    def used(self) -> list[tuple[int, int]]:
        """Return what is in use as (first block, end), rising; the alternate header's blocks among it."""
        edges = [0]
        for first, count in self.holes:
            edges += [first, first + count]
        edges += [self.next_free, self.geometry.cluster_count, self.geometry.block_count]
        return [(low, high) for low, high in zip(edges[::2], edges[1::2], strict=True) if low < high]


class Measured(Struct, frozen=True):
    """What of a catalogue does not depend on the volume's size. Forks in the order of the source."""

    catalogue: Catalogue
    shapes: Mapping[int, TreeShape]
    forks: tuple[tuple[ForkKey, str, Content], ...]


@without_collections()
def measure(contents: Catalogue) -> Measured:
    """Shape the trees of a catalogue, and list its forks."""
    rules = TreeRules(
        _NODE_OF_CATALOG,
        CATALOG_KEY_MOST,
        BIG_KEYS | VARIABLE_INDEX_KEYS,
        COMPARE_BINARY if contents.case_sensitive else COMPARE_FOLDED,
    )
    attributes = AttributeRecords(contents, lambda _number, _name: b"")
    shapes = {EXTENTS_FILE: shape_tree(NoRecords(), _EXTENTS_RULES)}
    if len(attributes):
        shapes[ATTRIBUTES_FILE] = shape_tree(attributes, _ATTRIBUTES_RULES)
    shapes[CATALOG_FILE] = shape_tree(CatalogRecords(contents, lambda _node: b""), rules)
    forks = sorted(_forks(contents), key=lambda fork: (fork[2].where(), fork[1]))
    return Measured(contents, shapes, tuple(forks))


def _forks(contents: Catalogue) -> list[tuple[ForkKey, str, Content]]:
    found: list[tuple[ForkKey, str, Content]] = []
    for node in contents.nodes:
        if (data := node.data).size:
            found.append(((node.number, DATA), node.path, data))
        if (resource := node.unix.resource).size:
            found.append(((node.number, RESOURCE), node.path + RESOURCES, resource))
        for name, value in node.unix.attributes.items():
            if len(value) > ATTRIBUTE_MOST:
                stored = name.encode("utf-16-be", "surrogatepass")
                found.append(((node.number, stored), f"{node.path}/..attribute/{name}", Literal(value)))
    return found


@without_collections()
def place(measured: Measured, geometry: Geometry, standing: Mapping[str, tuple[int, int]] | None = None) -> Layout:
    """Lay a catalogue out on a volume of this geometry, which may be too small: compare `next_free` with its clusters.

    With `standing` (path in upper case to first block and size) the volume exists, and files that did not change keep
    their place; raises SourceError then when one finds no room in one piece.
    """
    next_free = geometry.reserved
    own: dict[int, tuple[int, int]] = {}
    bitmap = geometry.clusters_for(-(-geometry.block_count // 8))
    trees = {
        number: align_up(shape.size, geometry.cluster_size) // geometry.cluster_size
        for number, shape in measured.shapes.items()
    }
    for number, count in {ALLOCATION_FILE: bitmap, **trees}.items():
        own[number] = next_free, count
        next_free += count
    counts = [geometry.clusters_for(content.size) for _, _, content in measured.forks]
    if standing is None:
        clusters: list[int] = []
        for count in counts:
            clusters.append(next_free)
            next_free += count
        holes: tuple[tuple[int, int], ...] = ()
    else:
        wanted = [
            WantedPlace(path, content.size, count)
            for (_, path, content), count in zip(measured.forks, counts, strict=True)
        ]
        placing = keep_places(wanted, standing, next_free, geometry.cluster_count, geometry.cluster_size)
        clusters, next_free, holes = list(placing.clusters), placing.next_free, placing.holes
    forks = tuple(
        PlacedFork(key, path, cluster, count, content)
        for (key, path, content), cluster, count in zip(measured.forks, clusters, counts, strict=True)
    )
    places = {fork.key: (fork.cluster, fork.content.size) for fork in forks}
    return Layout(measured.catalogue, geometry, measured.shapes, own, forks, places, next_free, holes)
