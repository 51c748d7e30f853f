"""How a FAT32 volume divides its sectors (fatgen103, "FAT Volume Initialization")."""

from __future__ import annotations

from bisect import bisect_left

from msgspec import Struct

from ...common.errors import UsageError
from ...content.extents import MIB, align_up
from .records import FEWEST_CLUSTERS, FIRST_CLUSTER, MOST_CLUSTERS

FEWEST_RESERVED_SECTORS = 32
LARGEST_CLUSTER = 32 << 10
"""Bytes; larger clusters are not read by all firmware (fatgen103, "BPB_SecPerClus")."""

_MARGIN = 16  # fatgen103 advises to stay some clusters away from the limit between FAT16 and FAT32


class Geometry(Struct, frozen=True):
    """One volume's dimensions. All counts are in sectors unless named otherwise."""

    sector_size: int
    cluster_size: int
    """Bytes."""
    hidden: int
    """Sectors of the drive in front of the volume."""
    total: int
    reserved: int
    fat: int
    """Sectors of one FAT."""

    @property
    def first_data(self) -> int:
        """First sector of cluster 2, from the volume's start."""
        return self.reserved + 2 * self.fat

    @property
    def sectors_per_cluster(self) -> int:
        return self.cluster_size // self.sector_size

    @property
    def cluster_count(self) -> int:
        return (self.total - self.first_data) // self.sectors_per_cluster

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster from the volume's start, in bytes."""
        return self.first_data * self.sector_size + (cluster - FIRST_CLUSTER) * self.cluster_size


def default_cluster_size(volume_size: int, sector_size: int) -> int:
    """Return the cluster size in bytes for a volume of `volume_size` bytes.

    The usual one, smaller if FAT32 needs it.
    """
    usual = 4 << 10
    for limit, size in ((8 << 30, 4 << 10), (16 << 30, 8 << 10), (32 << 30, 16 << 10)):
        if volume_size <= limit:
            usual = size
            break
    else:
        usual = LARGEST_CLUSTER
    while usual > sector_size and volume_size // usual < FEWEST_CLUSTERS + 2048:
        usual //= 2
    return max(usual, sector_size)


def geometry(*, hidden: int, total: int, sector_size: int, cluster_size: int) -> Geometry:
    """Divide `total` sectors that start at sector `hidden` of the drive, the data area aligned to 1 MiB of the drive.

    Raises UsageError when the volume has too few or too many clusters for FAT32.
    """
    check_cluster_size(cluster_size, sector_size)
    per_cluster = cluster_size // sector_size

    def describes_all(fat: int) -> bool:
        """A longer FAT describes more clusters and leaves room for fewer, so this turns true once."""
        clusters = (total - _first_data(hidden, fat, sector_size)) // per_cluster
        return clusters + FIRST_CLUSTER <= fat * sector_size // 4

    fat = bisect_left(range(total + 1), True, lo=1, key=describes_all)
    result = Geometry(sector_size, cluster_size, hidden, total, _first_data(hidden, fat, sector_size) - 2 * fat, fat)
    if result.cluster_count < FEWEST_CLUSTERS + _MARGIN:
        smallest = smallest_total(hidden, 0, sector_size, cluster_size) * sector_size
        raise UsageError(
            f"A volume of {total * sector_size} bytes has {max(result.cluster_count, 0)} clusters "
            f"of {cluster_size} bytes; "
            f"FAT32 needs at least {FEWEST_CLUSTERS}.",
            advice=f"Choose smaller clusters, or a drive of more than {smallest} bytes.",
        )
    if result.cluster_count > MOST_CLUSTERS:
        raise UsageError(
            f"Clusters of {cluster_size} bytes are too small for {total * sector_size} bytes.",
            advice="Choose larger clusters.",
        )
    return result


def smallest_total(hidden: int, data_clusters: int, sector_size: int, cluster_size: int) -> int:
    """Return the fewest sectors of a volume at `hidden` that has room for `data_clusters`."""
    clusters = max(data_clusters, FEWEST_CLUSTERS + _MARGIN)
    fat = -(-(clusters + FIRST_CLUSTER) * 4 // sector_size)
    return _first_data(hidden, fat, sector_size) + clusters * (cluster_size // sector_size)


def check_cluster_size(cluster_size: int, sector_size: int) -> None:
    """Raise UsageError for a cluster size that FAT32 or firmware does not take."""
    if cluster_size & (cluster_size - 1) or not sector_size <= cluster_size <= LARGEST_CLUSTER:
        raise UsageError(
            f"Clusters of {cluster_size} bytes cannot be used with sectors of {sector_size} bytes.",
            advice=f"Choose a power of two from {sector_size} to {LARGEST_CLUSTER}.",
        )


def _first_data(hidden: int, fat: int, sector_size: int) -> int:
    """First sector of the data area, from the volume's start: a multiple of 1 MiB of the drive."""
    return align_up(hidden + FEWEST_RESERVED_SECTORS + 2 * fat, MIB // sector_size) - hidden
