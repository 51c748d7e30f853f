"""How an HFS Plus volume divides its partition into allocation blocks, called clusters as on other volumes."""

from __future__ import annotations

from msgspec import Struct

from ...common.errors import UsageError
from .records import HEADER_OFFSET

SMALLEST_BLOCK, LARGEST_BLOCK = 512, 64 << 10
USUAL_BLOCK = 4 << 10
"""What systems choose for volumes of up to 16 TiB."""
MOST_BLOCKS = (1 << 32) - 1
_HEADER_END = HEADER_OFFSET + 512


class Geometry(Struct, frozen=True):
    """One volume's dimensions. Counts are in sectors unless named otherwise."""

    sector_size: int
    cluster_size: int
    """Bytes."""
    hidden: int
    """Sectors of the drive in front of the volume."""
    total: int
    """Of the partition."""

    @property
    def block_count(self) -> int:
        """Allocation blocks, those of both headers among them."""
        return self.total * self.sector_size // self.cluster_size

    @property
    def reserved(self) -> int:
        """Blocks in front that the boot blocks and the header take."""
        return -(-_HEADER_END // self.cluster_size)

    @property
    def cluster_count(self) -> int:
        """Blocks in front of those that the alternate header takes: what files can have, and the header's."""
        return min((self.total * self.sector_size - HEADER_OFFSET) // self.cluster_size, self.block_count)

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a block from the volume's start, in bytes."""
        return cluster * self.cluster_size

    def clusters_for(self, size: int) -> int:
        """Blocks that hold `size` bytes."""
        return -(-size // self.cluster_size)


def usual_block(volume_size: int, sector_size: int) -> int:
    """Return the usual bytes of a block for a volume of `volume_size` bytes."""
    block = max(USUAL_BLOCK, sector_size)
    while volume_size // block > MOST_BLOCKS:
        block *= 2
    return block


def check_block_size(size: int, sector_size: int) -> None:
    """Raise UsageError for a block size that is invalid on HFS+."""
    smallest = max(SMALLEST_BLOCK, sector_size)
    if size & (size - 1) or not smallest <= size <= LARGEST_BLOCK:
        raise UsageError(
            f"--cluster {size}: HFS+ has allocation blocks of {smallest} to {LARGEST_BLOCK} bytes here, "
            "in powers of two.",
            advice=f"Leave it out: {max(USUAL_BLOCK, sector_size)} is usual.",
        )
