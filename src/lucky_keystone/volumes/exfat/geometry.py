"""How an exFAT volume divides its sectors: FAT and cluster heap begin on boundaries of the drive (3.1.5, 3.1.7)."""

from __future__ import annotations

from msgspec import Struct

from ...common.errors import UsageError
from ...content.extents import MIB, align_up
from .records import FIRST_CLUSTER, MOST_CLUSTERS

_SMALL, _SMALL_BOUNDARY = 256 * MIB, 128 << 10
LARGEST_CLUSTER = 32 << 20


class Geometry(Struct, frozen=True):
    """One volume's dimensions. All counts are in sectors unless named otherwise."""

    sector_size: int
    cluster_size: int
    """Bytes."""
    hidden: int
    """Sectors of the drive in front of the volume."""
    total: int
    fat_offset: int
    fat: int
    """Sectors of the FAT."""
    heap: int
    """First sector of cluster 2, from the volume's start."""

    @property
    def cluster_count(self) -> int:
        return min((self.total - self.heap) * self.sector_size // self.cluster_size, MOST_CLUSTERS)

    @property
    def bitmap_size(self) -> int:
        """Bytes."""
        return -(-self.cluster_count // 8)

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster from the volume's start, in bytes."""
        return self.heap * self.sector_size + (cluster - FIRST_CLUSTER) * self.cluster_size


def usual_cluster(volume_size: int, sector_size: int) -> int:
    """Return the cluster size in bytes for a volume of `volume_size` bytes: what systems and cameras take as well."""
    usual = 4 << 10 if volume_size <= _SMALL else 32 << 10 if volume_size <= 32 << 30 else 128 << 10
    return max(usual, sector_size)


def check_cluster(size: int, sector_size: int) -> None:
    """Raise UsageError for a cluster size that exFAT does not have."""
    if size & (size - 1) or not sector_size <= size <= LARGEST_CLUSTER:
        raise UsageError(
            f"exFAT has no clusters of {size:,} bytes.",
            advice=f"Use a power of two from {sector_size} to {LARGEST_CLUSTER >> 20} MiB, or leave out --cluster.",
        )


def geometry(*, hidden: int, total: int, sector_size: int, cluster_size: int) -> Geometry:
    """Divide `total` sectors that start at sector `hidden` of the drive. Raises UsageError where nothing is left."""
    check_cluster(cluster_size, sector_size)
    boundary = MIB if total * sector_size >= _SMALL else _SMALL_BOUNDARY
    first = align_up(hidden * sector_size + boundary, boundary) // sector_size - hidden
    clusters = max(total - first, 0) * sector_size // cluster_size  # the FAT takes some of them
    fat = -(-4 * (clusters + FIRST_CLUSTER) // sector_size)
    heap = align_up((hidden + first + fat) * sector_size, max(boundary, min(cluster_size, MIB))) // sector_size - hidden
    shape = Geometry(sector_size, cluster_size, hidden, total, first, fat, heap)
    if total <= heap or shape.cluster_count < FIRST_CLUSTER:
        raise UsageError("The volume is too small for exFAT.", advice="Use a larger drive, or FAT32.")
    return shape
