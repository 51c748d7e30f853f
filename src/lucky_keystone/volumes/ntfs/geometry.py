"""How an NTFS volume divides its sectors into clusters, file records and index blocks."""

from __future__ import annotations

from msgspec import Struct

from ...common.errors import UsageError
from .records import INDEX_BLOCK_SIZE, STRIDE

SMALLEST_CLUSTER, LARGEST_CLUSTER = 512, 64 << 10
USUAL_CLUSTER = 4 << 10
"""What systems choose for volumes of up to 16 TiB."""
_MOST_CLUSTERS = (1 << 32) - 1  # systems take no more, whatever the structures could hold


class Geometry(Struct, frozen=True):
    """One volume's dimensions. Counts are in sectors unless named otherwise."""

    sector_size: int
    cluster_size: int
    """Bytes."""
    hidden: int
    """Sectors of the drive in front of the volume."""
    total: int
    """Of the partition: the last one holds the copy of the boot sector and belongs to no cluster."""

    @property
    def sectors_per_cluster(self) -> int:
        return self.cluster_size // self.sector_size

    @property
    def cluster_count(self) -> int:
        return (self.total - 1) // self.sectors_per_cluster

    @property
    def record_size(self) -> int:
        """Bytes of a file record."""
        return record_size(self.sector_size)

    @property
    def mirrored_records(self) -> int:
        """File records that $MFTMirr repeats: see the function of this name."""
        return mirrored_records(self.cluster_size, self.record_size)

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster from the volume's start, in bytes."""
        return cluster * self.cluster_size

    def clusters_for(self, size: int) -> int:
        """Clusters that hold `size` bytes."""
        return -(-size // self.cluster_size)


def record_size(sector_size: int) -> int:
    """Bytes of a file record: a KiB, or a sector where that is larger."""
    return max(1024, sector_size)


def mirrored_records(cluster_size: int, record_size: int) -> int:
    """File records that $MFTMirr repeats: four, or as many as fill a cluster."""
    return max(4, cluster_size // record_size)


def vcns_per_block(cluster_size: int) -> int:
    """By how much a VCN grows from one index block to the next.

    Clusters, or strides where a cluster holds several blocks.
    """
    return INDEX_BLOCK_SIZE // (cluster_size if cluster_size <= INDEX_BLOCK_SIZE else STRIDE)


def shift_or_count(size: int, cluster_size: int) -> int:
    """Return how a boot sector states the size of a record: in clusters, or as minus an exponent of two in bytes."""
    return size // cluster_size if size >= cluster_size else 0x100 - (size.bit_length() - 1)


def geometry(*, hidden: int, total: int, sector_size: int, cluster_size: int) -> Geometry:
    """Return the dimensions of a volume of `total` sectors. Raises UsageError when they cannot be."""
    check_cluster_size(cluster_size, sector_size)
    result = Geometry(sector_size, cluster_size, hidden, total)
    if result.cluster_count > _MOST_CLUSTERS:
        raise UsageError(
            f"Clusters of {cluster_size} bytes are too small for {total * sector_size} bytes.",
            advice="Choose larger clusters.",
        )
    return result


def check_cluster_size(cluster_size: int, sector_size: int) -> None:
    """Raise UsageError for a cluster size that NTFS does not have."""
    smallest = max(SMALLEST_CLUSTER, sector_size)
    if cluster_size & (cluster_size - 1) or not smallest <= cluster_size <= LARGEST_CLUSTER:
        raise UsageError(
            f"Clusters of {cluster_size} bytes cannot be used on NTFS with sectors of {sector_size} bytes.",
            advice=f"Choose a power of two from {smallest} to {LARGEST_CLUSTER}.",
        )
