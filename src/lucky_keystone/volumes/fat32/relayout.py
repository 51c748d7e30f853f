"""Lays a tree out on a volume that exists: what did not change keeps its place, the rest goes into free room.

Folders are small and are laid out anew at the volume's front, as always. A file keeps its place when path and size are
the same and it lies there in one piece; whether its bytes are the same is seen when they are compared.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from ...errors import SourceError
from ...tree import Folder
from .compose import Layout, PlacedFile, lay_out
from .records import FIRST_CLUSTER


def lay_out_again(root: Folder, label: str, cluster_size: int, cluster_count: int, places: Mapping[str, tuple[int, int]]) -> Layout:
    """Give every folder and file of `root` its clusters on a volume of `cluster_count` clusters.

    `places` tells where files lie now: path, compared without regard to case, to (first cluster, size in bytes).
    Raises SourceError when a file finds no room in one piece.
    """
    fresh = lay_out(root, label, cluster_size)
    folders_end = max(folder.cluster + folder.cluster_count for folder in fresh.folders)
    last = FIRST_CLUSTER + cluster_count
    kept: dict[str, PlacedFile] = {}
    waiting: list[tuple[PlacedFile, int]] = []
    end = folders_end
    for placed, (cluster, size) in sorted(((p, places.get(p.path.upper(), (0, -1))) for p in fresh.files), key=lambda pair: pair[1][0]):
        if not placed.cluster_count:
            continue
        if end <= cluster and cluster + placed.cluster_count <= last and size == placed.file.size:
            kept[placed.path] = replace(placed, cluster=cluster)
            end = cluster + placed.cluster_count
        else:
            waiting.append((placed, cluster))
    waiting.sort(key=lambda pair: pair[0].cluster)  # in the order of the source
    free = _Free(folders_end, last, [(placed.cluster, placed.cluster_count) for placed in kept.values()])
    for placed, before in waiting:
        kept[placed.path] = replace(placed, cluster=_room(free, placed, before, cluster_size))
    files = tuple(kept.get(placed.path, placed) for placed in fresh.files)
    next_free = max([folders_end, *(placed.cluster + placed.cluster_count for placed in files if placed.cluster_count)])
    holes = tuple((first, end - first) for first, end in free.gaps if first < next_free)
    return Layout(fresh.folders, files, next_free, cluster_size, label, holes)


def _room(free: _Free, placed: PlacedFile, before: int, cluster_size: int) -> int:
    cluster = free.take(placed.cluster_count, before)
    if cluster is None:
        raise SourceError(
            f"The drive has no room in one piece for {placed.path} ({placed.cluster_count * cluster_size:,} bytes) "
            "beside the files that keep their place.",
            advice="Build the drive anew, without --update.",
        )
    return cluster


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
        """Return the first of `count` free clusters and mark them used: at `wish` if that can be, else in the first gap."""
        fitting = [(index, wish) for index, (first, end) in enumerate(self.gaps) if first <= wish and wish + count <= end]
        fitting += [(index, first) for index, (first, end) in enumerate(self.gaps) if first + count <= end]
        if not fitting:
            return None
        index, start = fitting[0]
        first, end = self.gaps[index]
        self.gaps[index : index + 1] = [gap for gap in ((first, start), (start + count, end)) if gap[0] < gap[1]]
        return start
