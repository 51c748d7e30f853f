"""Reads a FAT32 volume from the bytes on a drive. Takes nothing from the composer but the record declarations.

Everything here expects hostile bytes: no size or cluster is believed before it is checked against the volume, and no
chain is followed for longer than the volume has clusters. What is wrong is collected in words, not raised, where the
rest can still be read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from typing import Any

from msgspec import Struct, field

from ...common.later import np
from ...common.record import Record
from ...content.contents import Readable
from ..chains import Chains
from ..fat16.records import BootSector16
from ..fat_times import moment_of
from ..volume import Run, VolumeError, find_below, walk_below
from .records import (
    ATTR_DIRECTORY,
    ATTR_LONG_NAME,
    ATTR_VOLUME_ID,
    DELETED,
    END_OF_CHAIN_FROM,
    END_OF_FOLDER,
    ENTRY_MASK,
    ENTRY_SIZE,
    FEWEST_CLUSTERS,
    FIRST_CLUSTER,
    LAST_LONG_ENTRY,
    MOST_CLUSTERS,
    MOST_FOLDER_ENTRIES,
    BootSector,
    DirEntry,
    FsInfo,
    LongEntry,
    short_name_checksum,
)


class Entry(Struct):
    """A file or folder found on the volume."""

    path: str
    name: str
    short_name: bytes
    is_folder: bool
    size: int
    """Bytes; of a folder: its clusters."""
    first_cluster: int
    runs: tuple[Run, ...]
    folder: Entry | None
    """The folder it is in; None for the root itself."""
    record: DirEntry | None = None
    faults: list[str] = field(default_factory=list)

    @property
    def modified(self) -> datetime | None:
        """Local time of whoever wrote it (fatgen103, "Date and Time Formats")."""
        if self.record is None:
            return None
        return moment_of(self.record.DIR_WrtDate, self.record.DIR_WrtTime)

    def runs_clusters(self) -> int:
        """Clusters its chain holds."""
        return sum(run.count for run in self.runs)


class FatVolume:
    """What FAT volumes of all sizes have alike: a volume that starts at byte `offset` of `drive`."""

    sector_size: int
    cluster_size: int
    first_data: int
    """First sector of cluster 2, from the volume's start."""
    cluster_count: int

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        self._drive, self.offset, self.size = drive, offset, size
        if size < 512:
            raise VolumeError(f"The partition at byte {offset} has {size} bytes: no volume fits.")
        self.boot_sector = drive.read_at(offset, 512)

    def requirement(self, kind: type[Record], boot: Record, shown: str) -> Callable[[bool, str], None]:
        """Return what raises VolumeError naming a field of the boot sector that does not hold."""

        def require(holds: bool, name: str) -> None:
            if not holds:
                at = self.offset + kind.offset_of(name)
                raise VolumeError(f"Boot sector, {name} (byte {at}): {getattr(boot, name)} is invalid on {shown}.")

        return require

    def take_measures(self, boot: BootSector | BootSector16, require: Callable[[bool, str], None]) -> None:
        """Compare what all sizes of FAT have alike with fatgen103, and take sector and cluster size from it."""
        require(boot.signature == 0xAA55, "signature")
        require(boot.BPB_BytsPerSec in (512, 1024, 2048, 4096), "BPB_BytsPerSec")
        per_cluster = boot.BPB_SecPerClus
        require(per_cluster > 0 and per_cluster & (per_cluster - 1) == 0, "BPB_SecPerClus")
        require(boot.BPB_RsvdSecCnt > 0, "BPB_RsvdSecCnt")
        require(boot.BPB_NumFATs in (1, 2), "BPB_NumFATs")
        self.sector_size = boot.BPB_BytsPerSec
        self.cluster_size = per_cluster * self.sector_size

    def chain(self, cluster: int) -> tuple[tuple[Run, ...], str]:
        """Follow a chain: (its runs, what is wrong with it or ''). It ends at the first thing that is wrong."""
        raise NotImplementedError

    def root(self) -> Entry:
        """The root folder as an entry."""
        raise NotImplementedError

    def boot_label(self) -> bytes:
        raise NotImplementedError

    def first_cluster_of(self, record: DirEntry) -> int:
        """Return where the bytes of an entry begin."""
        return record.first_cluster

    # -- where things are ----------------------------------------------------------------------------------------

    def is_cluster(self, cluster: int) -> bool:
        """Tell whether `cluster` is one of the volume's data clusters."""
        return FIRST_CLUSTER <= cluster < self.cluster_count + FIRST_CLUSTER

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster on the drive, in bytes."""
        return self.offset + self.first_data * self.sector_size + (cluster - FIRST_CLUSTER) * self.cluster_size

    def cluster_at(self, offset: int) -> int:
        """The cluster that holds byte `offset` of the drive (below 2 when that is in front of the data area)."""
        return (offset - self.cluster_offset(FIRST_CLUSTER)) // self.cluster_size + FIRST_CLUSTER

    def bytes_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive, for what lies outside all clusters."""
        return self._drive.read_at(offset, size)

    def sector(self, number: int) -> bytes:
        """Read one sector, counted from the volume's start."""
        return self._drive.read_at(self.offset + number * self.sector_size, self.sector_size)

    # -- folders -------------------------------------------------------------------------------------------------

    def walk(self, budget: int = 2_000_000) -> Iterator[Entry]:
        """Yield the root and every entry below it; faults of entries and folders are noted on them."""
        return walk_below(self.root(), self.entries, lambda entry: entry.first_cluster, budget)

    def entries(self, folder: Entry) -> Iterator[Entry]:
        """Yield the contents of `folder`. '.' and '..' are checked, not yielded; a bad entry carries its faults."""
        pending: list[LongEntry] = []
        for number, data in enumerate(self.raw_entries(folder)):
            if data[0] == DELETED:
                pending = []
                continue
            if data[11] & 0x3F == ATTR_LONG_NAME:
                pending.append(LongEntry.unpack(data))
                continue
            record = DirEntry.unpack(data)
            if record.DIR_Attr & ATTR_VOLUME_ID:
                pending = []
                continue
            if record.DIR_Name in (b".          ", b"..         "):
                self._check_dots(folder, number, record)
                continue
            yield self._entry(folder, record, pending)
            pending = []
        if pending:
            folder.faults.append("long-name entries without a short one at its end")

    def names_loader(self) -> str:
        return ""

    def label(self) -> str:
        """The label in the root folder, or the boot sector's when the root has none."""
        for data in self.raw_entries(self.root()):
            if data[0] != DELETED and data[11] & 0x3F != ATTR_LONG_NAME and data[11] & ATTR_VOLUME_ID:
                return data[:11].decode("ascii", "replace").rstrip()
        return self.boot_label().decode("ascii", "replace").rstrip()

    def raw_entries(self, folder: Entry) -> Iterator[bytes]:
        """Yield the 32 bytes of each entry of a folder."""
        left = MOST_FOLDER_ENTRIES
        for run in folder.runs:
            for cluster in range(run.first, run.first + run.count):
                count = 0
                for entry in self.entries_in(self._drive.read_at(self.cluster_offset(cluster), self.cluster_size)):
                    yield entry
                    count += 1
                    left -= 1
                    if not left:
                        folder.faults.append(f"more than {MOST_FOLDER_ENTRIES} entries")
                        return
                if count < self.cluster_size // ENTRY_SIZE:
                    return

    def entries_in(self, data: bytes) -> Iterator[bytes]:
        """Yield the entries in a folder's bytes, up to its end mark."""
        for start in range(0, len(data) - ENTRY_SIZE + 1, ENTRY_SIZE):
            if data[start] == END_OF_FOLDER:
                return
            yield data[start : start + ENTRY_SIZE]

    def _check_dots(self, folder: Entry, number: int, record: DirEntry) -> None:
        above = folder.folder
        expected = folder.first_cluster if number == 0 else (above.first_cluster if above and above.path else 0)
        if above is None or number > 1 or self.first_cluster_of(record) != expected:
            name = record.DIR_Name.decode().strip()
            folder.faults.append(f"its '{name}' entry is out of place or names cluster {self.first_cluster_of(record)}")

    def _entry(self, folder: Entry, record: DirEntry, pending: list[LongEntry]) -> Entry:
        faults: list[str] = []
        long_name = _long_name(pending, record.DIR_Name)
        if pending and long_name is None:
            faults.append("its long name does not belong to its short one")
        name = long_name or _short_name(record)
        path = f"{folder.path}/{name}" if folder.path else name
        is_folder = bool(record.DIR_Attr & ATTR_DIRECTORY)
        cluster = self.first_cluster_of(record)
        runs: tuple[Run, ...] = ()
        if cluster or is_folder or record.DIR_FileSize:
            runs, fault = self.chain(cluster)
            if fault:
                faults.append(f"its chain {fault}")
        entry = Entry(
            path, name, record.DIR_Name, is_folder, record.DIR_FileSize, cluster, runs, folder, record, faults
        )
        wanted = -(-record.DIR_FileSize // self.cluster_size)
        if not is_folder and not faults and entry.runs_clusters() != wanted:
            faults.append(f"{record.DIR_FileSize} bytes need {wanted} clusters, its chain has {entry.runs_clusters()}")
        if is_folder and record.DIR_FileSize:
            faults.append(f"a folder with a size of {record.DIR_FileSize}")
        if not name or any(character in name for character in '/\\\0"*:<>?|'):
            faults.append("a name that FAT does not allow")
        return entry

    # -- contents ------------------------------------------------------------------------------------------------

    def find(self, path: str) -> Entry | None:
        """Return the entry at `path` ('/'-separated, case ignored; long or short name), or None."""
        return find_below(
            self.root(),
            path,
            self.entries,
            lambda entry, part: part.upper() in (entry.name.upper(), _short_text(entry.short_name)),
        )

    def pieces(self, entry: Entry, block: int = 4 << 20) -> Iterator[bytes]:
        """Yield a file's bytes in pieces of up to `block`; fewer than its size when its chain is too short."""
        left = entry.size
        for run in entry.runs:
            offset, length = self.cluster_offset(run.first), min(run.count * self.cluster_size, left)
            for start in range(0, length, block):
                yield self._drive.read_at(offset + start, min(block, length - start))
            left -= length

    def readable_size(self, entry: Entry) -> int:
        """Bytes of a file that can be read: fewer than its size where its chain is too short."""
        return min(entry.size, entry.runs_clusters() * self.cluster_size)

    def read_at_of(self, entry: Entry, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a file from `offset`, following its runs."""
        end = min(offset + size, entry.size)
        result: list[bytes] = []
        start = 0
        for run in entry.runs:
            first, last = max(offset, start), min(end, start + run.count * self.cluster_size)
            if first < last:
                result.append(self._drive.read_at(self.cluster_offset(run.first) + first - start, last - first))
            start += run.count * self.cluster_size
        return b"".join(result)


class Fat32Volume(FatVolume):
    """A FAT32 volume, which may reach to `offset + size` bytes of the drive."""

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        super().__init__(drive, offset, size)
        self.boot = boot = BootSector.unpack(self.boot_sector)
        # fatgen103, "Boot Sector and BPB Structure"
        require = self.requirement(BootSector, boot, "FAT32")
        self.take_measures(boot, require)
        require(boot.BPB_RootEntCnt == 0, "BPB_RootEntCnt")
        require(boot.BPB_FATSz16 == 0 and boot.BPB_TotSec16 == 0, "BPB_FATSz16")
        require(boot.BPB_FATSz32 > 0, "BPB_FATSz32")
        require(0 < boot.BPB_TotSec32 * boot.BPB_BytsPerSec <= self.size, "BPB_TotSec32")
        self.first_data = boot.BPB_RsvdSecCnt + boot.BPB_NumFATs * boot.BPB_FATSz32
        self.cluster_count = (boot.BPB_TotSec32 - self.first_data) // boot.BPB_SecPerClus
        require(FEWEST_CLUSTERS <= self.cluster_count <= MOST_CLUSTERS, "BPB_TotSec32")
        require(boot.BPB_FATSz32 * self.sector_size // 4 >= self.cluster_count + FIRST_CLUSTER, "BPB_FATSz32")
        require(self.is_cluster(boot.BPB_RootClus), "BPB_RootClus")
        fat = self.fat_offset()
        self._chains = Chains(
            lambda offset, size: drive.read_at(fat + offset, size),
            self.cluster_count,
            mask=ENTRY_MASK,
            end_from=END_OF_CHAIN_FROM,
        )

    def boot_label(self) -> bytes:
        return self.boot.BS_VolLab

    def root(self) -> Entry:
        """The root folder as an entry."""
        runs, fault = self.chain(self.boot.BPB_RootClus)
        return Entry("", "", b"", True, 0, self.boot.BPB_RootClus, runs, None, faults=[fault] if fault else [])

    def part_at(self, inside: int) -> str:
        """Name the volume's own structure that holds its byte `inside`, '' for none of those a start reads."""
        reserved = self.boot.BPB_RsvdSecCnt * self.sector_size
        if inside < reserved:
            return "further boot code in the reserved sectors"
        fats = self.boot.BPB_NumFATs * self.boot.BPB_FATSz32 * self.sector_size
        return "the FAT, to follow a cluster chain" if inside < reserved + fats else ""

    def fs_info(self) -> FsInfo | None:
        """The FSInfo sector, None when it lies outside the reserved sectors or its signatures are wrong."""
        if not 0 < self.boot.BPB_FSInfo < self.boot.BPB_RsvdSecCnt:
            return None
        info = FsInfo.unpack(self.sector(self.boot.BPB_FSInfo))
        signatures = (info.FSI_LeadSig, info.FSI_StrucSig, info.FSI_TrailSig)
        return info if signatures == (0x41615252, 0x61417272, 0xAA550000) else None

    # -- the FAT -------------------------------------------------------------------------------------------------

    def fat_offset(self, copy: int = 0) -> int:
        """Offset of a FAT copy on the drive, in bytes."""
        return self.offset + (self.boot.BPB_RsvdSecCnt + copy * self.boot.BPB_FATSz32) * self.sector_size

    def fat_windows(self, copy: int = 0) -> Iterator[tuple[int, np.ndarray[Any, Any]]]:
        """Yield (first entry, entries) over a FAT, as far as the volume has clusters."""
        return self._chains.windows(lambda offset, size: self._drive.read_at(self.fat_offset(copy) + offset, size))

    def chain(self, cluster: int) -> tuple[tuple[Run, ...], str]:
        return self._chains.follow(cluster)


def _short_name(record: DirEntry) -> str:
    stored = record.DIR_Name
    if stored[0] == 0x05:  # fatgen103, "DIR_Name[0]": stands for E5h, which marks deleted entries
        stored = b"\xe5" + stored[1:]
    base, extension = stored[:8].decode("cp437").rstrip(), stored[8:].decode("cp437").rstrip()
    # Bits 3 and 4 of the reserved byte: hosts store all-lower-case names this way instead of a long entry.
    if record.DIR_NTRes & 0x08:
        base = base.lower()
    if record.DIR_NTRes & 0x10:
        extension = extension.lower()
    return f"{base}.{extension}" if extension else base


def _short_text(stored: bytes) -> str:
    base, extension = stored[:8].decode("cp437").rstrip(), stored[8:].decode("cp437").rstrip()
    return f"{base}.{extension}" if extension else base


def _long_name(pending: list[LongEntry], short: bytes) -> str | None:
    """Put a long name together, None when its entries are not in order or not this short name's."""
    count = len(pending)
    if not count:
        return None
    checksum = short_name_checksum(short)
    units = b""
    for index, entry in enumerate(pending):
        wanted = (count - index) | (LAST_LONG_ENTRY if index == 0 else 0)
        if entry.LDIR_Ord != wanted or entry.LDIR_Chksum != checksum:
            return None
        units = entry.LDIR_Name1 + entry.LDIR_Name2 + entry.LDIR_Name3 + units
    for end in range(0, len(units), 2):
        if units[end : end + 2] == b"\0\0":
            units = units[:end]
            break
    return units.decode("utf-16-le", "replace")
