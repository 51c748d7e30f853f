"""Lays a tree out on a volume that exists.

Folders are small and are laid out again at the volume's front, as always. A file keeps its place when path and size are
the same and it lies there in one piece; whether its bytes are the same is seen when they are compared.
"""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from ...content.tree import Folder
from ..placing import WantedPlace, keep_places
from .compose import Layout, lay_out
from .records import FIRST_CLUSTER


def lay_out_again(
    root: Folder, label: str, cluster_size: int, cluster_count: int, places: Mapping[str, tuple[int, int]]
) -> Layout:
    """Give every folder and file of `root` its clusters on a volume of `cluster_count` clusters.

    `places` tells where files lie now: path, compared without regard to case, to (first cluster, size in bytes).
    Raises SourceError when a file finds no room in one piece.
    """
    fresh = lay_out(root, label, cluster_size)
    folders_end = max(folder.cluster + folder.cluster_count for folder in fresh.folders)
    wanted = [WantedPlace(placed.path, placed.file.size, placed.cluster_count) for placed in fresh.files]
    placing = keep_places(wanted, places, folders_end, FIRST_CLUSTER + cluster_count, cluster_size)
    files = tuple(
        replace(placed, cluster=cluster) for placed, cluster in zip(fresh.files, placing.clusters, strict=True)
    )
    return Layout(fresh.folders, files, placing.next_free, cluster_size, label, placing.holes)
