"""Gives everything in a catalogue its clusters.

Order on the volume: $Boot, $MFT with its bitmap and mirror, the log, the bitmap, what else is the volume's own and all
folders' indexes, then the files in the order their bytes are in the source, so that the source is read front to back.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from ...common.collecting import without_collections
from ...content.contents import Content, Joined, Zeros
from ...content.extents import align_up
from ..placing import Placing, WantedPlace, keep_places
from ..volume import HOLE, Run
from .catalogue import Attribute, Catalogue, Node, parts_of
from .geometry import Geometry
from .records import (
    BAD_CLUSTERS,
    BITMAP,
    BITMAP_FILE,
    BOOT,
    BOOT_FILE_SIZE,
    DATA,
    FIRST_USER,
    LOG_FILE,
    MFT,
    MFT_MIRROR,
)
from .system import log_size

_RECORDS_AT_ONCE = 64  # the MFT is a multiple of these, with some to spare for a host's first files


class Placed(Struct, frozen=True):
    """Clusters from `cluster` on that hold `content` and, behind its end, zeros."""

    cluster: int
    count: int
    content: Content


class PlacedIndex(Struct, frozen=True):
    """The clusters of an index, or of a stream of the volume's own."""

    cluster: int
    count: int
    node: Node
    attribute: Attribute


StreamKey = tuple[int, int, str]
"""A stream of a volume: record number, attribute type, name. No file has two of one type and name."""


def key_of(number: int, attribute: Attribute) -> StreamKey:
    """Return what tells a stream of file `number` from all others."""
    return number, attribute.kind, attribute.name


class Layout(Struct, frozen=True):
    """Where everything lies. Clusters count from the volume's start."""

    catalogue: Catalogue
    geometry: Geometry
    indexes: tuple[PlacedIndex, ...]
    """The volume's own streams first, from cluster 0 on, then the folders'; each behind the one before."""
    files: tuple[Placed, ...]
    """In the order of the source."""
    plain: Mapping[int, int]
    """First cluster of each plain file that has any, by record number."""
    own: Mapping[int, tuple[Attribute, ...]]
    """Attributes of the volume's own files that depend on its size, by record number."""
    runs: Mapping[StreamKey, tuple[Run, ...]]
    """Of each stream that has clusters or holes."""
    next_free: int
    """First cluster behind everything that is used."""
    holes: tuple[tuple[int, int], ...] = ()
    """First cluster and count of free clusters in front of `next_free`; only an update leaves any."""

    @property
    def cluster_size(self) -> int:
        return self.geometry.cluster_size

    @property
    def record_count(self) -> int:
        """File records of the MFT, the free ones at its end among them."""
        return record_count(self.catalogue)

    @property
    def files_from(self) -> int:
        """First cluster behind the volume's own files and the folders."""
        return max(placed.cluster + placed.count for placed in self.indexes)

    @property
    def clusters_used(self) -> int:
        return self.next_free - sum(count for _, count in self.holes)

    def used(self) -> list[tuple[int, int]]:
        """Return what is in use as (first cluster, end), rising."""
        edges = [0]
        for first, count in self.holes:
            edges += [first, first + count]
        edges.append(self.next_free)
        return [(low, high) for low, high in zip(edges[::2], edges[1::2], strict=True) if low < high]

    def attributes(self, number: int) -> tuple[Attribute, ...]:
        """Return the attributes of a file that is not plain, but for its standard information and names."""
        return self.own.get(number) or tuple(self.catalogue.attributes.get(number, ()))

    def stream_sizes(self, node: Node) -> tuple[int, int]:
        """Return (allocated, size) in bytes of a file's unnamed stream."""
        if node.content is not None:
            return align_up(node.size, self.cluster_size), node.size
        for attribute in self.attributes(node.number):
            if attribute.kind == DATA and not attribute.name:
                if attribute.value is not None:
                    return align_up(attribute.size, 8), attribute.size
                runs = self.runs[key_of(node.number, attribute)]
                return sum(run.count for run in runs if not run.is_hole) * self.cluster_size, attribute.size
        return 0, 0


def record_count(catalogue: Catalogue) -> int:
    """File records of the MFT: those needed, and some to spare."""
    return align_up(catalogue.next_number + _RECORDS_AT_ONCE // 2, _RECORDS_AT_ONCE)


@without_collections()
def place(
    catalogue: Catalogue,
    geometry: Geometry,
    places: Mapping[str, tuple[int, int]] | None = None,
    streams: Streams | None = None,
) -> Layout:
    """Lay the catalogue out on a volume of this geometry, which may be too small.

    Compare `next_free` with its clusters. `streams` are those of the catalogue, where they were sorted before.

    With `places` (path in upper case to first cluster and size) the volume exists, and files that did not change keep
    their place; raises SourceError then when one finds no room in one piece.
    """
    cluster_size = geometry.cluster_size
    records = record_count(catalogue)
    sizes = {
        BOOT: BOOT_FILE_SIZE,
        MFT: records * geometry.record_size,
        MFT_MIRROR: geometry.mirrored_records * geometry.record_size,
        LOG_FILE: log_size(geometry.total * geometry.sector_size),
        BITMAP_FILE: align_up(geometry.cluster_count, 64) // 8,
    }
    resized = {number: Attribute(DATA, content=Zeros(size)) for number, size in sizes.items()}
    mft_bitmap = Attribute(BITMAP, content=Zeros(align_up(records, 64) // 8))
    bad = Attribute(DATA, "$Bad", content=Zeros(geometry.cluster_count * cluster_size))
    own: dict[int, tuple[Attribute, ...]] = {number: (stream,) for number, stream in resized.items()}
    own |= {MFT: (resized[MFT], mft_bitmap), BAD_CLUSTERS: (Attribute(DATA, value=b""), bad)}
    runs: dict[StreamKey, tuple[Run, ...]] = {key_of(BAD_CLUSTERS, bad): (Run(HOLE, geometry.cluster_count),)}
    indexes: list[PlacedIndex] = []
    ahead = [(MFT, mft_bitmap), *resized.items()]
    sorted_streams = streams or streams_of(catalogue, cluster_size)
    wanted = sorted_streams.files
    next_free = 0
    for number, attribute in (ahead[1], ahead[0], *ahead[2:], *sorted_streams.own):
        node = catalogue.nodes[number]
        count = geometry.clusters_for(attribute.size)
        runs[key_of(number, attribute)] = (Run(next_free, count),)
        indexes.append(PlacedIndex(next_free, count, node, attribute))
        next_free += count
    placing = _placing(wanted, next_free, geometry, places)
    plain: dict[int, int] = {}
    files: list[Placed] = []
    for stream, cluster in zip(wanted, placing.clusters, strict=True):
        if stream.attribute is None:
            plain[stream.number] = cluster
        else:
            runs[key_of(stream.number, stream.attribute)] = _moved(stream.runs, cluster)
        if stream.count:
            files.append(Placed(cluster, stream.count, stream.content))
    return Layout(catalogue, geometry, tuple(indexes), tuple(files), plain, own, runs, placing.next_free, placing.holes)


class _WantedStream(Struct, frozen=True):
    """A stream of a file that needs clusters; its `runs` count from 0 until it has a place."""

    path: str
    size: int
    number: int
    attribute: Attribute | None
    """None for a plain file."""
    runs: tuple[Run, ...]
    content: Content
    """What fills the clusters of all runs but the holes, one after the other."""
    count: int
    """Clusters of them."""


class Streams(Struct, frozen=True):
    """What needs clusters whatever the volume's size, in the order it lies on it."""

    own: list[tuple[int, Attribute]]
    """Of the volume's own files and of folders, by record number."""
    files: list[_WantedStream]


@without_collections()
def streams_of(catalogue: Catalogue, cluster_size: int) -> Streams:
    """Return the streams of a catalogue, those of files in the order of the source."""
    own: list[tuple[int, Attribute]] = []
    files: list[_WantedStream] = []
    for number, mine in catalogue.attributes.items():
        for attribute in mine:
            if not attribute.content:
                continue
            if attribute.kind != DATA or number < FIRST_USER:
                own.append((number, attribute))
                continue
            path = catalogue.nodes[number].path
            path = f"{path}:{attribute.name}" if attribute.name else path
            files.append(_wanted(path, number, attribute, cluster_size))
    for number, node in catalogue.nodes.items():
        if node.content is not None and node.size:
            count = -(-node.size // cluster_size)
            files.append(_WantedStream(node.path, node.size, number, None, (), node.content, count))
    files.sort(key=lambda stream: (stream.content.where(), stream.path))
    return Streams(own, files)


def _wanted(path: str, number: int, attribute: Attribute, cluster_size: int) -> _WantedStream:
    content = attribute.content
    assert content is not None
    if not attribute.sparse:
        whole = (Run(0, -(-content.size // cluster_size)),)
        return _WantedStream(path, content.size, number, attribute, whole, content, whole[0].count)
    holes, kept = _holes(content, cluster_size)
    runs = _runs_around(holes, -(-content.size // cluster_size), cluster_size)
    filled = sum(run.count for run in runs if not run.is_hole)
    return _WantedStream(path, content.size, number, attribute, runs, kept, filled)


def _holes(content: Content, cluster_size: int) -> tuple[list[tuple[int, int]], Content]:
    """Return the holes of a sparse stream, (start, end) in bytes of whole clusters; and what fills the others."""
    holes: list[tuple[int, int]] = []
    kept: list[Content] = []
    at = 0
    for part in parts_of(content):
        end = at + part.size
        first = align_up(at, cluster_size)
        # The last cluster is a hole too when nothing but zeros reaches into it.
        last = align_up(end, cluster_size) if end == content.size else end // cluster_size * cluster_size
        if isinstance(part, Zeros) and first < last:
            holes.append((first, last))
            kept += [Zeros(first - at), Zeros(max(end - last, 0))]
        else:
            kept.append(part)
        at = end
    return holes, Joined(kept)


def _runs_around(holes: list[tuple[int, int]], clusters: int, cluster_size: int) -> tuple[Run, ...]:
    """Return the runs of a stream of `clusters`: holes, and between them runs that count from 0 on."""
    runs: list[Run] = []
    behind = taken = 0  # clusters of the stream, and of those that are filled, so far
    for start, end in [(first // cluster_size, last // cluster_size) for first, last in holes] + [(clusters, clusters)]:
        if start > behind:
            runs.append(Run(taken, start - behind))
            taken += start - behind
        if end > start:
            runs.append(Run(HOLE, end - start))
        behind = end
    return tuple(runs)


def _moved(runs: tuple[Run, ...], cluster: int) -> tuple[Run, ...]:
    return tuple(run if run.is_hole else Run(run.first + cluster, run.count) for run in runs)


def _placing(
    wanted: list[_WantedStream], first: int, geometry: Geometry, places: Mapping[str, tuple[int, int]] | None
) -> Placing:
    if places is not None:
        files = [WantedPlace(stream.path, stream.size, stream.count) for stream in wanted]
        return keep_places(files, places, first, geometry.cluster_count, geometry.cluster_size)
    clusters: list[int] = []
    for stream in wanted:
        count = stream.count
        clusters.append(first if count else 0)
        first += count
    return Placing(tuple(clusters), first, ())
