"""Reads an NTFS volume from the bytes on a drive. Takes nothing from the composer but the record declarations.

What is wrong with a file or folder is collected in words on its entry, where the rest can still be read. Every walk
through an index or an attribute list is bounded by what the volume can hold.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from functools import cached_property

from msgspec import Struct, field

from ...common.record import RecordError
from ...content.contents import Readable
from ..volume import Run, VolumeError, find_below, walk_below
from .file import FileRecords, Stream
from .parse import (
    IndexEntry,
    ParsedAttribute,
    ParsedRecord,
    parse_attribute_list,
    parse_file_name,
    parse_index_block,
    parse_index_root,
    parse_record,
)
from .records import (
    ATTRIBUTE_LIST,
    BITMAP,
    BITMAP_FILE,
    BOOT_FILE_SIZE,
    DATA,
    FILE_NAME,
    FIRST_USER,
    INDEX_ALLOCATION,
    INDEX_ROOT,
    MFT,
    NAME_SHORT,
    RECORD_IN_USE,
    REFERENCE_NUMBER,
    ROOT,
    VOLUME,
    VOLUME_INFORMATION,
    VOLUME_NAME,
    BootSector,
    FileName,
    VolumeInformation,
)
from .upcase import upcase

FOLDER_INDEX = "$I30"
_WINDOW = 64 << 10  # bytes of the MFT read at once
_WINDOWS_KEPT = 64
_RECORDS_KEPT = 2048
_MOST_LEVELS = 32  # of an index
_MOST_SEGMENTS = 4096  # records of one file


class Entry(Struct):
    """A file or folder found in an index. There may be a million of them."""

    path: str
    is_folder: bool
    size: int
    runs: tuple[Run, ...]
    number: int
    sequence: int
    folder: Entry | None
    written: int | None = None
    """By the index, in 100 ns since 1601; None of the root."""
    short_name: str = ""
    faults: list[str] = field(default_factory=list)

    @property
    def name(self) -> str:
        """The last part of the path."""
        return self.path.rpartition("/")[2]

    @property
    def modified(self) -> datetime | None:
        """UTC."""
        try:
            return None if self.written is None else datetime(1601, 1, 1) + timedelta(microseconds=self.written // 10)
        except OverflowError:
            return None


class NtfsVolume:
    """A volume that starts at byte `offset` of `drive` and may reach to `offset + size`."""

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        self._drive, self.offset, self.size = drive, offset, size
        if size < 512:
            raise VolumeError(f"The partition at byte {offset} has {size} bytes: no volume fits.")
        self.boot = BootSector.unpack(drive.read_at(offset, 512))
        self._validate()
        self._windows: dict[int, bytes] = {}
        self._records: dict[int, ParsedRecord] = {}
        self._mft = Stream("", self.record_size, self.record_size, (), None, True)
        self.mirror_used = False
        """True when the first record of the MFT had to be read from its mirror."""
        self._find_mft()

    def _validate(self) -> None:
        boot = self.boot

        def require(holds: bool, name: str) -> None:
            if not holds:
                at = self.offset + BootSector.offset_of(name)
                raise VolumeError(f"Boot sector, {name} (byte {at}): {getattr(boot, name)!r} is invalid on NTFS.")

        require(boot.signature == 0xAA55, "signature")
        require(boot.oem == b"NTFS    ", "oem")
        require(boot.bytes_per_sector in (512, 1024, 2048, 4096), "bytes_per_sector")
        self.sector_size = boot.bytes_per_sector
        per_cluster = (
            boot.sectors_per_cluster if boot.sectors_per_cluster <= 0x80 else 1 << (0x100 - boot.sectors_per_cluster)
        )
        require(
            per_cluster > 0 and per_cluster & (per_cluster - 1) == 0 and per_cluster <= 1 << 12, "sectors_per_cluster"
        )
        self.cluster_size = per_cluster * self.sector_size
        require(0 < boot.total_sectors <= self.size // self.sector_size, "total_sectors")
        self.cluster_count = boot.total_sectors // per_cluster
        require(0 < boot.mft_cluster < self.cluster_count, "mft_cluster")
        require(0 < boot.mft_mirror_cluster < self.cluster_count, "mft_mirror_cluster")
        self.record_size = self._stored_size(boot.clusters_per_record)
        self.index_block_size = self._stored_size(boot.clusters_per_index_block)
        require(self.record_size in (512, 1024, 2048, 4096), "clusters_per_record")
        require(512 <= self.index_block_size <= 64 << 10, "clusters_per_index_block")

    def _stored_size(self, stored: int) -> int:
        if stored < 0x80:
            return stored * self.cluster_size
        return 1 << (0x100 - stored) if stored > 0x100 - 32 else 0

    # -- clusters and the MFT --------------------------------------------------------------------------------------

    def cluster_offset(self, cluster: int) -> int:
        """Offset of a cluster on the drive, in bytes."""
        return self.offset + cluster * self.cluster_size

    def cluster_at(self, offset: int) -> int:
        """The cluster that holds byte `offset` of the drive."""
        return (offset - self.offset) // self.cluster_size

    def bytes_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive, for what lies outside all clusters."""
        return self._drive.read_at(offset, size)

    @property
    def boot_sector(self) -> bytes:
        """Its first 512 bytes."""
        return self.boot.pack()

    def part_at(self, inside: int) -> str:
        """Name the volume's own structure that holds its byte `inside`, '' for none of those a start reads."""
        if inside < BOOT_FILE_SIZE:
            return "further boot code in $Boot"
        cluster = inside // self.cluster_size
        table = any(run.first <= cluster < run.first + run.count for run in self.own_stream(MFT).runs)
        return "the MFT, to look up a file's record" if table else ""

    def _find_mft(self) -> None:
        """Read the MFT's own record, from the mirror when it is damaged; then everything else through it."""
        try:
            data = self._drive.read_at(self.cluster_offset(self.boot.mft_cluster), self.record_size)
            first = parse_record(data, MFT, self.cluster_count)
        except VolumeError:
            data = self._drive.read_at(self.cluster_offset(self.boot.mft_mirror_cluster), self.record_size)
            first = parse_record(data, MFT, self.cluster_count)
            self.mirror_used = True
        base = FileRecords(MFT, first.header.flags, first.header.sequence_number, first.attributes)
        start = next((part for part in base.of(DATA) if part.lowest_vcn == 0), None)
        if start is None or not start.runs:
            raise VolumeError("File record 0: the MFT has no clusters.")
        self._mft = Stream(
            "", min(start.size, self.cluster_count * self.cluster_size), start.valid, start.runs, None, True
        )
        self._windows.clear()
        if any(base.of(ATTRIBUTE_LIST)):
            whole = self._gather(MFT, first).stream()
            assert whole is not None
            self._mft = Stream(
                "", min(whole.size, self.cluster_count * self.cluster_size), whole.valid, whole.runs, None, True
            )
            self._windows.clear()

    @property
    def record_count(self) -> int:
        return self._mft.size // self.record_size

    def record_bytes(self, number: int) -> bytes:
        """Return a record as it is on the drive."""
        if not 0 <= number < self.record_count:
            raise VolumeError(f"File record {number}: the MFT has {self.record_count:,}.")
        if number == MFT and self.mirror_used:
            return self._drive.read_at(self.cluster_offset(self.boot.mft_mirror_cluster), self.record_size)
        per_window = _WINDOW // self.record_size
        first = number // per_window
        window = self._windows.pop(first, None)
        if window is None:
            window = self.read_stream(self._mft, first * _WINDOW, min(_WINDOW, self._mft.size - first * _WINDOW))
            if len(self._windows) >= _WINDOWS_KEPT:
                del self._windows[next(iter(self._windows))]
        self._windows[first] = window
        at = (number - first * per_window) * self.record_size
        data = window[at : at + self.record_size]
        if len(data) != self.record_size:
            raise VolumeError(f"File record {number}: the MFT's clusters end before it.")
        return data

    def record(self, number: int) -> ParsedRecord:
        """Return one record, whether it is in use or not.

        The last ones are kept: a check comes to each several times.
        """
        kept = self._records.get(number)
        if kept is None:
            kept = parse_record(self.record_bytes(number), number, self.cluster_count)
            if len(self._records) >= _RECORDS_KEPT:
                del self._records[next(iter(self._records))]
            self._records[number] = kept
        return kept

    def file(self, number: int) -> FileRecords:
        """Return a file with all its records. Raises VolumeError for a record that is free or extends another one."""
        record = self.record(number)
        if not record.header.flags & RECORD_IN_USE:
            raise VolumeError(f"File record {number} is not in use.")
        if record.header.base & REFERENCE_NUMBER:
            raise VolumeError(f"File record {number} belongs to file {record.header.base & REFERENCE_NUMBER}.")
        return self._gather(number, record)

    def _gather(self, number: int, base: ParsedRecord) -> FileRecords:
        header = base.header
        here = FileRecords(number, header.flags, header.sequence_number, base.attributes)
        if not any(here.of(ATTRIBUTE_LIST)):
            return here
        listed = here.stream("", ATTRIBUTE_LIST)
        assert listed is not None
        if listed.size > 1 << 20:
            raise VolumeError(f"File record {number}: an attribute list of {listed.size:,} bytes is invalid.")
        data = listed.value if listed.value is not None else self.read_stream(listed, 0, listed.size)
        segments: dict[int, None] = {}
        for entry, _ in parse_attribute_list(data, f"File record {number}"):
            segments[entry.segment & REFERENCE_NUMBER] = None
        if len(segments) > _MOST_SEGMENTS:
            raise VolumeError(f"File record {number}: {len(segments):,} further records are invalid.")
        attributes = list(base.attributes)
        for segment in segments:
            if segment == number:
                continue
            further = self.record(segment)
            if further.header.base & REFERENCE_NUMBER != number or not further.header.flags & RECORD_IN_USE:
                raise VolumeError(f"File record {segment} does not belong to file {number}, which lists it.")
            attributes += further.attributes
            if number == MFT:  # later parts of the MFT are found through its earlier ones
                self._mft.runs = _joined(attributes)
        return FileRecords(number, header.flags, header.sequence_number, tuple(attributes))

    # -- streams ---------------------------------------------------------------------------------------------------

    def read_stream(self, stream: Stream, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a stream from `offset`, following its runs."""
        end = min(offset + size, stream.size)
        if stream.value is not None:
            return stream.value[offset:end]
        result: list[bytes] = []
        start = 0
        for run in stream.runs:
            stop = start + run.count * self.cluster_size
            first, last = max(offset, start), min(end, stop)
            if first < last and run.is_hole:
                result.append(bytes(last - first))
            elif first < last:
                result.append(self._drive.read_at(self.cluster_offset(run.first) + first - start, last - first))
            start = stop
            if start >= end:
                break
        data = b"".join(result)
        if stream.valid < offset + len(data):  # what was never written reads as zeros, whatever is there
            data = data[: max(stream.valid - offset, 0)].ljust(len(data), b"\0")
        return data

    def pieces(self, entry: Entry, block: int = 4 << 20) -> Iterator[bytes]:
        """Yield a file's bytes in pieces of up to `block`. Raises VolumeError for a file whose bytes cannot be read."""
        stream = self._content(entry)
        for start in range(0, stream.size, block):
            yield self.read_stream(stream, start, min(block, stream.size - start))

    def readable_size(self, entry: Entry) -> int:
        """Bytes of a file that can be read: fewer than its size where it has too few clusters."""
        held = sum(run.count for run in entry.runs) * self.cluster_size
        return min(entry.size, held) if entry.runs else entry.size  # without runs it is in its record

    def read_at_of(self, entry: Entry, offset: int, size: int) -> bytes:
        """Return up to `size` bytes of a file from `offset`."""
        return self.read_stream(self._content(entry), offset, size)

    def _content(self, entry: Entry) -> Stream:
        stream = self.file(entry.number).stream()
        if stream is None:
            raise VolumeError(f"{entry.path} has no bytes of its own.")
        if not stream.is_plain:
            raise VolumeError(f"{entry.path} is compressed or encrypted, and is not supported.")
        return stream

    # -- folders ---------------------------------------------------------------------------------------------------

    def root(self) -> Entry:
        """The root folder as an entry."""
        file = self.file(ROOT)
        return Entry("", True, 0, self._index_runs(file), ROOT, file.sequence, None)

    def walk(self, budget: int = 2_000_000) -> Iterator[Entry]:
        """Yield the root and every file and folder below it, but for the volume's own; faults are noted on them."""
        return walk_below(self.root(), self.entries, lambda entry: entry.number, budget)

    def entries(self, folder: Entry) -> Iterator[Entry]:
        """Yield the contents of `folder`, each file once under its long name; a bad entry carries its faults."""
        try:
            for number, key, name in self.names(folder.number):
                if key.namespace != NAME_SHORT and number & REFERENCE_NUMBER >= FIRST_USER:
                    yield self._entry(folder, number, key, name)
        except VolumeError as error:
            folder.faults.append(error.message.rstrip("."))

    def names(self, number: int) -> Iterator[tuple[int, FileName, str]]:
        """Yield (file reference, FileName, name) of every entry of a folder, in the order of its index."""
        for entry in self.index(self.file(number), FOLDER_INDEX):
            key, name = parse_file_name(entry.key, f"File record {number}, an entry of its index")
            yield entry.file, key, name

    def index(self, file: FileRecords, name: str) -> Iterator[IndexEntry]:
        """Yield an index's entries in order, children before the entry they come before. Raises VolumeError."""
        what = f"File record {file.number}"
        value = next((attribute.value for attribute in file.of(INDEX_ROOT, name)), None)
        if value is None:
            raise VolumeError(f"{what}: has no index '{name}'.")
        root, entries = parse_index_root(value, what)
        size = root.block_size
        if size not in (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536):
            raise VolumeError(f"{what}: index blocks of {size} bytes are invalid.")
        blocks = file.stream(name, INDEX_ALLOCATION)
        step = self.cluster_size if self.cluster_size <= size else 512
        seen: set[int] = set()

        def block(vcn: int) -> list[IndexEntry]:
            if blocks is None or vcn * step + size > blocks.size:
                raise VolumeError(f"{what}: its index has no block {vcn}.")
            if vcn in seen or len(seen) * size > blocks.size:
                raise VolumeError(f"{what}: its index loops at block {vcn}.")
            seen.add(vcn)
            return parse_index_block(self.read_stream(blocks, vcn * step, size), vcn, what)

        stack = [iter(_with_children_first(entries))]
        while stack:
            item = next(stack[-1], None)
            if item is None:
                stack.pop()
            elif isinstance(item, IndexEntry):
                yield item
            elif len(stack) > _MOST_LEVELS:
                raise VolumeError(f"{what}: its index is too deep.")
            else:
                stack.append(iter(_with_children_first(block(item))))

    def _entry(self, folder: Entry, reference: int, key: FileName, name: str) -> Entry:
        number, sequence = reference & REFERENCE_NUMBER, reference >> 48
        path = f"{folder.path}/{name}" if folder.path else name
        entry = Entry(path, False, 0, (), number, sequence, folder, key.modified)
        try:
            file = self.file(number)
            entry.is_folder = file.is_folder
            if file.sequence != sequence:
                entry.faults.append(
                    f"its entry means file {number} of sequence {sequence}, the record is of {file.sequence}"
                )
            self._compare_names(file, folder, key, name, entry)
            if file.is_folder:
                entry.runs = self._index_runs(file)
            else:
                self._measure(file, entry)
        except VolumeError as error:
            entry.faults.append(error.message.rstrip("."))
        except RecordError as error:
            entry.faults.append(error.message)
        return entry

    def _measure(self, file: FileRecords, entry: Entry) -> None:
        stream = file.stream()
        if stream is None:
            return
        entry.size, entry.runs = stream.size, stream.runs
        clusters = sum(run.count for run in stream.runs)
        if stream.value is None and -(-stream.size // self.cluster_size) > clusters:
            entry.faults.append(f"{stream.size:,} bytes do not fit the {clusters:,} clusters it has")
        if stream.valid > stream.size:
            entry.faults.append(f"{stream.valid:,} bytes of {stream.size:,} are said to be written")

    def _compare_names(self, file: FileRecords, folder: Entry, key: FileName, name: str, entry: Entry) -> None:
        """The same name has to be in the file's own record."""
        names = [
            parse_file_name(attribute.value or b"", f"File record {file.number}") for attribute in file.of(FILE_NAME)
        ]
        if not any(found.parent & REFERENCE_NUMBER == folder.number and text == name for found, text in names):
            entry.faults.append(f"file record {file.number} does not know this name")
        entry.short_name = next(
            (text for found, text in names if found.namespace == NAME_SHORT and found.parent == key.parent), ""
        )

    def _index_runs(self, file: FileRecords) -> tuple[Run, ...]:
        stream = file.stream(FOLDER_INDEX, INDEX_ALLOCATION)
        return stream.runs if stream is not None else ()

    def find(self, path: str) -> Entry | None:
        """Return the entry at `path` ('/'-separated, case ignored; long or short name), or None."""
        return find_below(
            self.root(), path, self.entries, lambda entry, part: upcase(part) in (upcase(entry.name), entry.short_name)
        )

    # -- the volume's own files ------------------------------------------------------------------------------------

    def names_loader(self) -> str:
        return ""

    def label(self) -> str:
        value = next((attribute.value for attribute in self.file(VOLUME).of(VOLUME_NAME)), None) or b""
        return value.decode("utf-16-le", "replace")

    @cached_property
    def information(self) -> VolumeInformation | None:
        """Version and flags of the volume; None when they cannot be read."""
        value = next((attribute.value for attribute in self.file(VOLUME).of(VOLUME_INFORMATION)), None)
        return VolumeInformation.unpack(value) if value is not None and len(value) >= VolumeInformation.SIZE else None

    def own_stream(self, number: int, name: str = "", kind: int = DATA) -> Stream:
        """Return a stream of one of the volume's own files. Raises VolumeError when it is not there."""
        stream = self.file(number).stream(name, kind)
        if stream is None:
            raise VolumeError(f"File record {number} has no stream of the kind it must have.")
        return stream

    def bitmap(self) -> Stream:
        """Which clusters are in use, a bit each."""
        return self.own_stream(BITMAP_FILE)

    def record_bitmap(self) -> Stream:
        """Which records are in use, a bit each."""
        return self.own_stream(MFT, "", BITMAP)


def _with_children_first(entries: Sequence[IndexEntry]) -> Iterator[IndexEntry | int]:
    for entry in entries:
        if entry.child is not None:
            yield entry.child
        if not entry.is_last:
            yield entry


def _joined(attributes: Sequence[ParsedAttribute]) -> tuple[Run, ...]:
    parts = sorted((a for a in attributes if a.type == DATA and not a.name), key=lambda part: part.lowest_vcn)
    return tuple(run for part in parts for run in part.runs)
