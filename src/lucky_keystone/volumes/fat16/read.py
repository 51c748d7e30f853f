"""Reads FAT12 and FAT16 volumes: folders and files as on FAT32, the FAT and the root folder of their own."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from ...common.later import np
from ...content.contents import Readable
from ..fat32.read import Entry, FatVolume
from ..fat32.records import ENTRY_SIZE, FIRST_CLUSTER, DirEntry
from ..volume import Run
from .records import MOST_CLUSTERS_FAT12, MOST_CLUSTERS_FAT16, BootSector16


class Fat16Volume(FatVolume):
    """A volume that starts at byte `offset` of `drive` and may reach to `offset + size`."""

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        super().__init__(drive, offset, size)
        self.boot = boot = BootSector16.unpack(self.boot_sector)
        require = self.requirement(BootSector16, boot, "FAT12 or FAT16")
        self.take_measures(boot, require)
        require(boot.BPB_RootEntCnt > 0, "BPB_RootEntCnt")
        require(boot.BPB_FATSz16 > 0, "BPB_FATSz16")
        require(0 < boot.total_sectors * boot.BPB_BytsPerSec <= self.size, "BPB_TotSec32")
        self.root_sectors = -(-boot.BPB_RootEntCnt * ENTRY_SIZE // self.sector_size)
        self.first_data = boot.BPB_RsvdSecCnt + boot.BPB_NumFATs * boot.BPB_FATSz16 + self.root_sectors
        self.cluster_count = (boot.total_sectors - self.first_data) // boot.BPB_SecPerClus
        require(0 < self.cluster_count <= MOST_CLUSTERS_FAT16, "BPB_TotSec32")
        entries = boot.BPB_FATSz16 * self.sector_size * 8 // (12 if self.is_fat12 else 16)
        require(entries >= self.cluster_count + FIRST_CLUSTER, "BPB_FATSz16")

    @property
    def is_fat12(self) -> bool:
        """True when FAT entries have 12 bits."""
        return self.cluster_count <= MOST_CLUSTERS_FAT12

    def fat(self, copy: int = 0) -> list[int]:
        """Return a copy of the FAT, as far as the volume has clusters: at most 65,526 entries."""
        boot = self.boot
        offset = self.offset + (boot.BPB_RsvdSecCnt + copy * boot.BPB_FATSz16) * self.sector_size
        count = self.cluster_count + FIRST_CLUSTER
        if not self.is_fat12:
            return [int(entry) for entry in np.frombuffer(self.bytes_at(offset, 2 * count), "<u2")]
        data = self.bytes_at(offset, -(-count * 3 // 2))  # fatgen103, "FAT12": two entries in three bytes
        pairs = (int.from_bytes(data[number * 3 // 2 : number * 3 // 2 + 2], "little") for number in range(count))
        return [pair >> 4 if number & 1 else pair & 0xFFF for number, pair in enumerate(pairs)]

    @cached_property
    def _fat(self) -> list[int]:
        return self.fat()

    def chain(self, cluster: int) -> tuple[tuple[Run, ...], str]:
        """Follow a chain: (its runs, what is wrong with it or ''). It ends at the first thing that is wrong."""
        runs: list[Run] = []
        end_from = 0xFF8 if self.is_fat12 else 0xFFF8
        for _ in range(self.cluster_count):
            if not self.is_cluster(cluster):
                return tuple(runs), f"leads to cluster {cluster}, which the volume does not have"
            if runs and runs[-1].first + runs[-1].count == cluster:
                runs[-1] = Run(runs[-1].first, runs[-1].count + 1)
            else:
                runs.append(Run(cluster, 1))
            following = self._fat[cluster]
            if following >= end_from:
                return tuple(runs), ""
            if following < FIRST_CLUSTER:
                return tuple(runs), f"breaks off at cluster {cluster} (its FAT entry is {following})"
            cluster = following
        return tuple(runs), "loops"

    def root(self) -> Entry:
        """The root folder as an entry: it has no clusters."""
        return Entry("", "", b"", True, 0, 0, (), None)

    def free_clusters(self) -> int:
        """Clusters that the FAT marks as free."""
        return sum(1 for entry in self._fat[FIRST_CLUSTER:] if entry == 0)

    def part_at(self, inside: int) -> str:
        """Name the volume's own structure that holds its byte `inside`, '' for none of those a start reads."""
        reserved = self.boot.BPB_RsvdSecCnt * self.sector_size
        if inside < reserved:
            return "further boot code in the reserved sectors"
        root = (self.first_data - self.root_sectors) * self.sector_size
        return "the FAT, to follow a cluster chain" if inside < root else ""

    def first_cluster_of(self, record: DirEntry) -> int:
        """fatgen103, "DIR_FstClusHI": 0 here, and older systems keep something else in it."""
        return record.DIR_FstClusLO

    def boot_label(self) -> bytes:
        return self.boot.BS_VolLab

    def raw_entries(self, folder: Entry) -> Iterator[bytes]:
        """Yield the 32 bytes of each entry of a folder."""
        if folder.path:
            yield from super().raw_entries(folder)
            return
        offset = self.offset + (self.first_data - self.root_sectors) * self.sector_size
        yield from self.entries_in(self.bytes_at(offset, self.boot.BPB_RootEntCnt * ENTRY_SIZE))
