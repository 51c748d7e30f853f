"""Where files lie: on a volume that exists, what did not change keeps its place; and files as regions."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import lru_cache

from msgspec import Struct

from ..common.errors import SourceError
from ..content.contents import BLOCK, Awaited, Content, Zeros
from ..content.extents import Extent
from ..content.regions import Region, RegionKind, region

LARGEST_FILLED_HOLE = BLOCK
"""Bytes from which free clusters between files are left as they are instead of being filled with zeros."""


def file_regions(files: Iterable[tuple[int, int, Content]]) -> list[Region]:
    """Return files as regions: (offset on the drive, bytes of its clusters, content) of each, in rising order.

    A new region begins behind every larger hole, and where files that are the drive's own begin or end; smaller holes,
    and what a content leaves of its clusters, are zeros.
    """
    runs: list[tuple[RegionKind, list[Extent]]] = []
    end = 0
    for offset, room, content in files:
        gap = offset - end
        kind = RegionKind.OWN_FILES if isinstance(content, Awaited) else RegionKind.FILES
        if not runs or gap >= LARGEST_FILLED_HOLE:
            runs.append((kind, []))
        elif gap:
            runs[-1][1].append(Extent(end, Zeros(gap)))
        if runs[-1][0] is not kind:
            runs.append((kind, []))
        end = offset + room
        runs[-1][1].append(Extent(offset, content))
        if room > content.size:
            runs[-1][1].append(Extent(offset + content.size, _slack(room - content.size)))
    return [region(kind, run) for kind, run in runs]


_slack = lru_cache(1 << 12)(Zeros)
"""Of the files of a volume many have the same: they share it."""


class WantedPlace(Struct, frozen=True):
    """A file that needs `count` clusters in one piece; `size` is its length in bytes."""

    path: str
    size: int
    count: int


class Placing(Struct, frozen=True):
    """Where the files go."""

    clusters: tuple[int, ...]
    """First cluster of each file, in the order they were asked for; 0 of one without any."""
    next_free: int
    """First cluster behind everything that is used."""
    holes: tuple[tuple[int, int], ...]
    """First cluster and count of free clusters in front of `next_free`."""


def keep_places(
    files: Sequence[WantedPlace], places: Mapping[str, tuple[int, int]], first: int, end: int, cluster_size: int
) -> Placing:
    """Place `files` in clusters from `first` to `end` (half-open): where they lie now if path and size are the same.

    `places` has the path in upper case, and gives first cluster and size in bytes. Files that have to move go in the
    order they are asked for. Raises SourceError when one finds no room in one piece.
    """
    clusters = [0] * len(files)
    waiting: list[tuple[int, int]] = []
    taken: list[tuple[int, int]] = []
    free_from = first
    nowhere = (0, -1)
    for number in sorted(range(len(files)), key=lambda number: places.get(files[number].path.upper(), nowhere)[0]):
        file = files[number]
        cluster, size = places.get(file.path.upper(), nowhere)
        if not file.count:
            continue
        if free_from <= cluster and cluster + file.count <= end and size == file.size:
            clusters[number] = cluster
            taken.append((cluster, file.count))
            free_from = cluster + file.count
        else:
            waiting.append((number, cluster))
    free = _Free(first, end, taken)
    for number, before in sorted(waiting):
        file = files[number]
        found = free.take(file.count, before)
        if found is None:
            raise SourceError(
                f"The drive has no room in one piece for {file.path} ({file.count * cluster_size:,} bytes) "
                "beside the files that keep their place.",
                advice="Build the drive from scratch, without --update.",
            )
        clusters[number] = found
    next_free = max(
        [first, *(cluster + file.count for cluster, file in zip(clusters, files, strict=True) if file.count)]
    )
    return Placing(
        tuple(clusters), next_free, tuple((start, stop - start) for start, stop in free.gaps if start < next_free)
    )


class _Free:
    """The gaps between what is placed, as (first cluster, end)."""

    def __init__(self, first: int, end: int, taken: list[tuple[int, int]]) -> None:
        self.gaps: list[tuple[int, int]] = []
        for cluster, count in sorted(taken):
            if cluster > first:
                self.gaps.append((first, cluster))
            first = cluster + count
        if first < end:
            self.gaps.append((first, end))

    def take(self, count: int, wish: int) -> int | None:
        """Mark `count` free clusters as used and return the first: at `wish` if that can be, else in the first gap."""
        fitting = [
            (index, wish) for index, (first, end) in enumerate(self.gaps) if first <= wish and wish + count <= end
        ]
        fitting += [(index, first) for index, (first, end) in enumerate(self.gaps) if first + count <= end]
        if not fitting:
            return None
        index, start = fitting[0]
        first, end = self.gaps[index]
        self.gaps[index : index + 1] = [gap for gap in ((first, start), (start + count, end)) if gap[0] < gap[1]]
        return start
