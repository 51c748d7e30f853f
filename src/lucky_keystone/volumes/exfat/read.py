"""Reads an exFAT volume from the bytes on a drive. Takes nothing from the composer but the record declarations.

Everything here expects hostile bytes: no size or cluster is believed before it is compared with the volume. What is
wrong is collected in words, not raised, where the rest can still be read.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from functools import cached_property

from msgspec import Struct, field

from ...content.contents import Readable
from ..chains import FIRST_CLUSTER, Chains
from ..fat_times import moment_of
from ..volume import Run, VolumeError, find_below, walk_below
from .names import folded, read_table
from .records import (
    ALLOCATION_POSSIBLE,
    BENIGN,
    BITMAP,
    BOOT_SECTORS,
    CHECKSUM_SECTOR,
    DIRECTORY,
    END_OF_CHAIN_FROM,
    END_OF_FOLDER,
    ENTRY_SIZE,
    FILE,
    IN_USE,
    LABEL,
    LARGEST_FOLDER,
    MOST_CLUSTERS,
    NAME,
    NO_FAT_CHAIN,
    SECONDARY,
    STREAM,
    UPCASE,
    BitmapEntry,
    BootSector,
    FileEntry,
    LabelEntry,
    NameEntry,
    StreamEntry,
    UpcaseEntry,
    VolumeTable,
    boot_checksum,
    name_hash,
    set_checksum,
    table_checksum,
)

_LARGEST_CLUSTER_SHIFT = 25  # 3.1.15: 32 MiB
_PIECE = 1 << 16
"""Bytes of a folder read at once."""
_LARGEST_TABLE = 128 << 10
_OF_ROOT = (BITMAP, UPCASE, LABEL)
_NO_NAME = frozenset('"*/:<>?\\|') | {chr(code) for code in range(0x20)}  # 7.7.3, table 35


class Entry(Struct):
    """A file or folder found on the volume."""

    path: str
    name: str
    is_folder: bool
    size: int
    """Bytes; of the root: its clusters."""
    valid: int
    """Bytes that were written; the others read as zeros."""
    first_cluster: int
    runs: tuple[Run, ...]
    record: FileEntry | None = None
    faults: list[str] = field(default_factory=list)

    @property
    def modified(self) -> datetime | None:
        """Local time of whoever wrote it (7.4.8)."""
        if self.record is None:
            return None
        stamp = self.record.LastModifiedTimestamp
        return moment_of(stamp >> 16, stamp & 0xFFFF)

    @property
    def room(self) -> int:
        """Clusters that it has."""
        return sum(run.count for run in self.runs)


class ExfatVolume:
    """A volume that starts at byte `offset` of `drive` and may reach to `offset + size`."""

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        """Raises VolumeError naming the field of the boot sector that is invalid."""
        self._drive, self.offset, self.size = drive, offset, size
        if size < BootSector.SIZE:
            raise VolumeError(f"The partition at byte {offset} has {size} bytes: no volume fits.")
        self.boot_sector = drive.read_at(offset, BootSector.SIZE)
        self.boot = boot = BootSector.unpack(self.boot_sector)
        require = self._require
        require(boot.FileSystemName == b"EXFAT   ", "FileSystemName")
        require(boot.BootSignature == 0xAA55, "BootSignature")
        require(boot.FileSystemRevision >> 8 == 1, "FileSystemRevision")
        require(9 <= boot.BytesPerSectorShift <= 12, "BytesPerSectorShift")
        shift = boot.BytesPerSectorShift + boot.SectorsPerClusterShift
        require(shift <= _LARGEST_CLUSTER_SHIFT, "SectorsPerClusterShift")
        self.sector_size, self.cluster_size = 1 << boot.BytesPerSectorShift, 1 << shift
        require(boot.NumberOfFats in (1, 2), "NumberOfFats")
        require(0 < boot.VolumeLength << boot.BytesPerSectorShift <= size, "VolumeLength")
        require(boot.FatOffset >= 2 * BOOT_SECTORS, "FatOffset")
        fats_end = boot.FatOffset + boot.FatLength * boot.NumberOfFats
        require(fats_end <= boot.ClusterHeapOffset < boot.VolumeLength, "ClusterHeapOffset")
        in_heap = (boot.VolumeLength - boot.ClusterHeapOffset) >> boot.SectorsPerClusterShift
        require(0 < boot.ClusterCount <= min(in_heap, MOST_CLUSTERS), "ClusterCount")
        self.cluster_count = boot.ClusterCount
        require(boot.FatLength << boot.BytesPerSectorShift >= 4 * (boot.ClusterCount + FIRST_CLUSTER), "FatLength")
        is_second = boot.NumberOfFats == 2 and boot.VolumeFlags & 1  # 3.1.13.1
        fat = offset + (boot.FatOffset + (boot.FatLength if is_second else 0)) * self.sector_size
        self.chains = Chains(
            lambda at, size: drive.read_at(fat + at, size),
            boot.ClusterCount,
            mask=0xFFFF_FFFF,
            end_from=END_OF_CHAIN_FROM,
        )
        require(self.chains.is_cluster(boot.FirstClusterOfRootDirectory), "FirstClusterOfRootDirectory")

    def _require(self, holds: bool, name: str) -> None:
        if not holds:
            at, value = self.offset + BootSector.offset_of(name), getattr(self.boot, name)
            raise VolumeError(f"Boot sector, {name} (byte {at}): {value!r} is invalid on exFAT.")

    # -- where things are ----------------------------------------------------------------------------------------

    def cluster_offset(self, cluster: int) -> int:
        heap = self.offset + self.boot.ClusterHeapOffset * self.sector_size
        return heap + (cluster - FIRST_CLUSTER) * self.cluster_size

    def cluster_at(self, offset: int) -> int:
        return (offset - self.cluster_offset(FIRST_CLUSTER)) // self.cluster_size + FIRST_CLUSTER

    def bytes_at(self, offset: int, size: int) -> bytes:
        return self._drive.read_at(offset, size)

    def part_at(self, inside: int) -> str:
        if inside < 2 * BOOT_SECTORS * self.sector_size:
            return "the boot region"
        heap = self.boot.ClusterHeapOffset * self.sector_size
        return "the FAT, to follow a cluster chain" if inside < heap else ""

    def boot_region(self, copy: int) -> bytes:
        """Return the twelve sectors of the main boot region (0), or of the backup one (1)."""
        size = BOOT_SECTORS * self.sector_size
        return self._drive.read_at(self.offset + copy * size, size)

    # -- what the root names -------------------------------------------------------------------------------------

    @cached_property
    def _named(self) -> dict[int, bytes]:
        """The first entry of the root of each of its own types."""
        found: dict[int, bytes] = {}
        for data in self.raw_entries(self.root()):
            if data[0] in _OF_ROOT:
                found.setdefault(data[0], data)
        return found

    @cached_property
    def bitmap(self) -> Entry | None:
        """The allocation bitmap; None where the root names none."""
        data = self._named.get(BITMAP)
        if data is None:
            return None
        record = BitmapEntry.unpack(data)
        return self._own("allocation bitmap", record.FirstCluster, record.DataLength)

    @cached_property
    def upcase(self) -> Entry | None:
        """The up-case table; None where the root names none."""
        data = self._named.get(UPCASE)
        if data is None:
            return None
        record = UpcaseEntry.unpack(data)
        entry = self._own("up-case table", record.FirstCluster, record.DataLength)
        if not entry.faults and not 0 < entry.size <= _LARGEST_TABLE:
            entry.faults.append(f"has {entry.size:,} bytes")
        if not entry.faults and table_checksum(self.read_at_of(entry, 0, entry.size)) != record.TableChecksum:
            entry.faults.append("does not have the sum that the root names")
        return entry

    @cached_property
    def table(self) -> VolumeTable | None:
        """What the up-case table changes; None where it cannot be used."""
        entry = self.upcase
        return read_table(self.read_at_of(entry, 0, entry.size)) if entry is not None and not entry.faults else None

    def _own(self, name: str, first: int, size: int) -> Entry:
        runs, fault = self.chains.follow(first)
        entry = Entry(name, name, False, size, size, first, runs, faults=[f"its chain {fault}"] if fault else [])
        if not fault and entry.room != -(-size // self.cluster_size):
            entry.faults.append(f"{size:,} bytes do not fit the {entry.room:,} clusters of its chain")
        return entry

    def label(self) -> str:
        data = self._named.get(LABEL)
        if data is None:
            return ""
        record = LabelEntry.unpack(data)
        return record.VolumeLabel[: 2 * min(record.CharacterCount, 11)].decode("utf-16-le", "replace")

    def names_loader(self) -> str:
        return ""

    # -- folders -------------------------------------------------------------------------------------------------

    def root(self) -> Entry:
        first = self.boot.FirstClusterOfRootDirectory
        runs, fault = self.chains.follow(first)
        size = sum(run.count for run in runs) * self.cluster_size
        return Entry("", "", True, size, size, first, runs, faults=[f"its chain {fault}"] if fault else [])

    def raw_entries(self, folder: Entry) -> Iterator[bytes]:
        """Yield the 32 bytes of each entry of a folder, up to its end."""
        left = min(folder.size, folder.room * self.cluster_size, LARGEST_FOLDER)
        for run in folder.runs:
            start, length = self.cluster_offset(run.first), run.count * self.cluster_size
            for at in range(0, length, _PIECE):
                data = self._drive.read_at(start + at, min(_PIECE, length - at, left))
                for place in range(0, len(data) - ENTRY_SIZE + 1, ENTRY_SIZE):
                    if data[place] == END_OF_FOLDER:
                        return
                    yield data[place : place + ENTRY_SIZE]
                left -= len(data)
                if left < ENTRY_SIZE:
                    return

    def entries(self, folder: Entry) -> Iterator[Entry]:
        """Yield the contents of `folder`; a bad entry carries its faults."""
        waiting = self.raw_entries(folder)
        is_passed = False  # secondary entries of a kind that may be passed over
        for data in waiting:
            kind = data[0]
            if not kind & IN_USE or (kind & SECONDARY and is_passed):
                continue
            if kind & SECONDARY:
                folder.faults.append("an entry in it belongs to none in front of it")
                is_passed = True  # said once
                continue
            is_passed = True
            if kind == FILE:
                yield self._entry(folder, data, waiting)
            elif not kind & BENIGN and (folder.path or kind not in _OF_ROOT):
                folder.faults.append(f"an entry of the unknown type {kind:#04x}")

    def _entry(self, folder: Entry, first: bytes, waiting: Iterator[bytes]) -> Entry:
        record = FileEntry.unpack(first)
        rest = [data for _, data in zip(range(record.SecondaryCount), waiting, strict=False)]
        whole, faults = b"".join((first, *rest)), list[str]()
        is_set = len(rest) == record.SecondaryCount >= 2 and all(
            data[0] & (IN_USE | SECONDARY) == 0xC0 for data in rest
        )
        if not is_set or rest[0][0] != STREAM:
            faults.append("its entries are not a set")
            return Entry(_below(folder, "?"), "?", False, 0, 0, 0, (), record, faults)
        stream = StreamEntry.unpack(rest[0])
        name, units = _name(rest[1:], stream.NameLength)
        if set_checksum(whole) != record.SetChecksum:
            faults.append("its entries do not have the sum that they name")
        if units != stream.NameLength or not name or not _NO_NAME.isdisjoint(name):
            faults.append("a name that exFAT does not allow")
        elif self.table is not None and name_hash(folded(name, self.table)) != stream.NameHash:
            faults.append("its name does not have the hash that it names")
        is_folder = bool(record.FileAttributes & DIRECTORY)
        runs, wrong = self._runs(stream)
        faults += [wrong] if wrong else []
        if stream.ValidDataLength > stream.DataLength:
            faults.append(f"{stream.ValidDataLength:,} bytes of {stream.DataLength:,} are valid")
        if is_folder and not wrong and (not stream.DataLength or stream.DataLength % self.cluster_size):
            faults.append(f"a folder of {stream.DataLength:,} bytes")
        return Entry(
            _below(folder, name),
            name,
            is_folder,
            stream.DataLength,
            min(stream.ValidDataLength, stream.DataLength),
            stream.FirstCluster,
            runs,
            record,
            faults,
        )

    def _runs(self, stream: StreamEntry) -> tuple[tuple[Run, ...], str]:
        """Return where the bytes of a file lie, and what is wrong with that or ''."""
        if not stream.GeneralSecondaryFlags & ALLOCATION_POSSIBLE:
            return (), "its clusters are not said"
        if not stream.FirstCluster and not stream.DataLength:
            return (), ""
        wanted = -(-stream.DataLength // self.cluster_size)
        if not stream.GeneralSecondaryFlags & NO_FAT_CHAIN:
            runs, fault = self.chains.follow(stream.FirstCluster)
            room = sum(run.count for run in runs)
            if fault:
                return runs, f"its chain {fault}"
            return runs, "" if room == wanted else f"{stream.DataLength:,} bytes need {wanted} clusters, it has {room}"
        last = stream.FirstCluster + wanted - 1
        if not wanted or not (self.chains.is_cluster(stream.FirstCluster) and self.chains.is_cluster(last)):
            return (), f"clusters {stream.FirstCluster} to {last} are not all on the volume"
        return (Run(stream.FirstCluster, wanted),), ""

    def walk(self) -> Iterator[Entry]:
        return walk_below(self.root(), self.entries, lambda entry: entry.first_cluster, 2_000_000)

    def find(self, path: str) -> Entry | None:
        return find_below(self.root(), path, self.entries, lambda entry, part: part.upper() == entry.name.upper())

    # -- contents ------------------------------------------------------------------------------------------------

    def readable_size(self, entry: Entry) -> int:
        return min(entry.size, entry.room * self.cluster_size)

    def pieces(self, entry: Entry, block: int = 4 << 20) -> Iterator[bytes]:
        """Yield a file's bytes in pieces of up to `block`."""
        for start in range(0, self.readable_size(entry), block):
            yield self.read_at_of(entry, start, block)

    def read_at_of(self, entry: Entry, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a file from `offset`; what was never written is zero."""
        end = min(offset + size, self.readable_size(entry))
        result: list[bytes] = []
        start = 0
        for run in entry.runs:
            first, last = max(offset, start), min(end, entry.valid, start + run.count * self.cluster_size)
            if first < last:
                result.append(self._drive.read_at(self.cluster_offset(run.first) + first - start, last - first))
            start += run.count * self.cluster_size
        return b"".join(result).ljust(max(end - offset, 0), b"\0")


def is_sound_region(region: bytes, sector_size: int) -> bool:
    """Tell whether a boot region of twelve sectors has the sum in its last one (3.4)."""
    if len(region) < BOOT_SECTORS * sector_size:
        return False
    stored = region[CHECKSUM_SECTOR * sector_size : BOOT_SECTORS * sector_size]
    return stored == boot_checksum(region, sector_size).to_bytes(4, "little") * (sector_size // 4)


def _name(entries: list[bytes], length: int) -> tuple[str, int]:
    """Return the name in a set, and how many of its units there are."""
    units = b"".join(NameEntry.unpack(data).FileName for data in entries if data[0] == NAME)[: 2 * length]
    return units.decode("utf-16-le", "replace"), len(units) // 2


def _below(folder: Entry, name: str) -> str:
    return f"{folder.path}/{name}" if folder.path else name
