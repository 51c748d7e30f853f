"""Reads the UDF side of a disc image into a tree whose files are ranges of the image (ECMA-167, UDF 1.02 to 2.01).

Ours rather than a library's, because contents must stay ranges of the original: a large file is several allocation
descriptors (each below 1 GiB), and every size and place in them is checked against the image before it is believed.
"""

from __future__ import annotations

from datetime import datetime

from ..common.errors import SourceError
from ..common.record import RecordError
from ..content.contents import Content, Joined, Literal, Zeros, seekable
from ..content.ranges import FileRange, RangedFile
from ..content.tree import MOST_DEPTH, File, Folder
from .udf_records import (
    ALLOCATION_EXTENT,
    ANCHOR,
    BLOCK_SIZE,
    EXTENDED_FILE_ENTRY,
    FID_DELETED,
    FID_FOLDER,
    FID_PARENT,
    FILE_ENTRY,
    FILE_IDENTIFIER,
    FILE_SET,
    LOGICAL_VOLUME,
    PARTITION,
    TERMINATING,
    TYPE_FILE,
    TYPE_FOLDER,
    ExtendedFileEntry,
    FileEntry,
    FileIdentifier,
    FileSetDescriptor,
    IcbTag,
    LogicalVolumeDescriptor,
    LongAd,
    PartitionDescriptor,
    ShortAd,
    Tag,
    tag_is_good,
    text_of,
    time_of,
)

_MOST_ENTRIES = 1_000_000
_MOST_FOLDER_BYTES = 64 << 20
_ADVICE = "The disc image is damaged or incomplete: compare its checksum, or download it again."


def has_udf(image: RangedFile) -> bool:
    """Tell whether the image has a UDF anchor (ECMA-167 3/10.2) at sector 256."""
    return image.size >= 257 * BLOCK_SIZE and _looks_like_anchor(
        FileRange(image, 256 * BLOCK_SIZE, 512).read_at(0, 512)
    )


def _looks_like_anchor(data: bytes) -> bool:
    return tag_is_good(data, ANCHOR, 256)


class UdfReader:
    """One UDF volume. `label` is its name, `root()` its tree."""

    def __init__(self, image: RangedFile) -> None:
        self._image = FileRange(image, 0, image.size)
        self._file = image
        self.label = ""
        self._first = 0  # first sector of the partition
        self._blocks = 0  # its length in blocks
        self._entries = 0
        self._root_icb = self._find_root()
        self.volume_size = (self._first + self._blocks) * BLOCK_SIZE
        """Bytes from the disc's start to the partition's end."""

    # -- finding the file set ------------------------------------------------------------------------------------

    def _find_root(self) -> LongAd:
        anchor = self._sector(256, 512)
        if not _looks_like_anchor(anchor):
            raise SourceError(f"{self._file.path}: no UDF anchor at sector 256.", advice=_ADVICE)
        for place in (16, 24):  # main, then reserve descriptor sequence
            extent = ShortAd.unpack(anchor, place)
            volume = self._volume(extent)
            if volume is not None:
                return self._root_of(volume)
        raise SourceError(f"{self._file.path}: neither UDF descriptor sequence can be read.", advice=_ADVICE)

    def _volume(self, extent: ShortAd) -> LogicalVolumeDescriptor | None:
        partition: PartitionDescriptor | None = None
        volume: LogicalVolumeDescriptor | None = None
        for index in range(min(extent.length // BLOCK_SIZE, 64)):
            place = extent.block + index
            if (place + 1) * BLOCK_SIZE > self._image.size:
                return None
            data = self._sector(place, BLOCK_SIZE)
            if tag_is_good(data, TERMINATING, place):
                break
            if tag_is_good(data, PARTITION, place):
                partition = PartitionDescriptor.unpack(data)
            elif tag_is_good(data, LOGICAL_VOLUME, place):
                volume = LogicalVolumeDescriptor.unpack(data)
                # ECMA-167 3/10.7.2: a map of type 1 is plain; others (virtual, sparable, metadata) move blocks about.
                if volume.block_size != BLOCK_SIZE or volume.map_count != 1 or data[440:442] != b"\x01\x06":
                    raise SourceError(
                        f"{self._file.path}: its UDF side uses a kind of partition that is not supported.",
                        advice="Copy the disc's files into a folder and build from that folder.",
                    )
        if partition is None or volume is None:
            return None
        self._first, self._blocks = partition.first_sector, partition.sector_count
        if self._first * BLOCK_SIZE >= self._image.size:
            raise SourceError(f"{self._file.path}: its UDF partition starts after the end of the file.", advice=_ADVICE)
        return volume

    def _root_of(self, volume: LogicalVolumeDescriptor) -> LongAd:
        length = volume.identifier[127]
        self.label = text_of(volume.identifier[: min(length, 127)])
        place = LongAd.unpack(volume.file_set)
        data = self._block(place.block, 512)
        if not tag_is_good(data, FILE_SET, place.block):
            raise self._damaged("file set descriptor", place.block)
        return LongAd.unpack(FileSetDescriptor.unpack(data).root)

    # -- the tree ------------------------------------------------------------------------------------------------

    def root(self) -> Folder:
        """Read all folders and file entries; contents stay where they are. Raises SourceError."""
        top = Folder("")
        seen: set[int] = set()  # a folder has one parent: met twice, the image leads in a loop
        waiting = [(top, self._root_icb.block, 0)]
        while waiting:
            folder, block, depth = waiting.pop()
            if block in seen or depth > MOST_DEPTH:
                raise SourceError(
                    f"{self._file.path}: folder '{folder.name}' appears twice, or is nested too deeply.", advice=_ADVICE
                )
            seen.add(block)
            kind, content, folder.modified = self._entry(block)
            if kind != TYPE_FOLDER:
                raise self._damaged("folder entry", block)
            for name, icb, is_folder in self._identifiers(content, block):
                if name in folder.entries:
                    raise SourceError(f"{self._file.path}: '{name}' appears twice in one folder.", advice=_ADVICE)
                if is_folder:
                    child = Folder(name)
                    folder.entries[name] = child
                    waiting.append((child, icb.block, depth + 1))
                    continue
                kind, data, modified = self._entry(icb.block)
                if kind == TYPE_FILE:  # links and devices have no place on an installer drive
                    folder.entries[name] = File(name, data, modified)
        return top

    def _identifiers(self, content: Content, block: int) -> list[tuple[str, LongAd, bool]]:
        """Return (name, entry, is a folder) for each file identifier (ECMA-167 4/14.4) of a folder's data."""
        if content.size > min(_MOST_FOLDER_BYTES, self._image.size):
            raise self._damaged("folder size", block)
        data = seekable(content).read_at(0, content.size)
        found: list[tuple[str, LongAd, bool]] = []
        offset = 0
        while offset < len(data):
            try:
                identifier = FileIdentifier.unpack(data, offset)
            except RecordError as error:
                raise self._damaged("file identifier", block) from error
            start = offset + FileIdentifier.SIZE + identifier.use_length
            if not tag_is_good(
                data[offset : offset + 2048], FILE_IDENTIFIER, None
            ) or start + identifier.name_length > len(data):
                raise self._damaged("file identifier", block)
            name = text_of(data[start : start + identifier.name_length])
            offset = offset + (start + identifier.name_length - offset + 3) // 4 * 4
            if identifier.characteristics & (FID_DELETED | FID_PARENT):
                continue
            self._entries += 1
            if self._entries > _MOST_ENTRIES:
                raise SourceError(f"{self._file.path}: more than {_MOST_ENTRIES:,} entries.", advice=_ADVICE)
            if not name or "/" in name or "\0" in name or name in (".", ".."):
                raise self._damaged(f"file name {name!r}", block)
            found.append((name, LongAd.unpack(identifier.icb), bool(identifier.characteristics & FID_FOLDER)))
        return found

    def _entry(self, block: int) -> tuple[int, Content, datetime]:
        """Return (type, content, time) of the file entry in `block`."""
        data = self._block(block, BLOCK_SIZE)
        entry: FileEntry | ExtendedFileEntry
        if tag_is_good(data, FILE_ENTRY, block):
            entry = FileEntry.unpack(data)
        elif tag_is_good(data, EXTENDED_FILE_ENTRY, block):
            entry = ExtendedFileEntry.unpack(data)
        else:
            raise self._damaged("file entry", block)
        icb = IcbTag.unpack(entry.icb)
        start = entry.SIZE + entry.attributes_length
        descriptors = data[start : start + entry.descriptors_length]
        if len(descriptors) != entry.descriptors_length:
            raise self._damaged("allocation descriptors", block)
        form = icb.flags & 7
        if form == 3:  # the data is in the entry itself
            if entry.length > len(descriptors):
                raise self._damaged("file length", block)
            return icb.file_type, Literal(descriptors[: entry.length]), time_of(entry.modified)
        if form not in (0, 1):
            raise self._damaged(f"allocation descriptor form {form}", block)
        return icb.file_type, self._content(descriptors, form, entry.length, block), time_of(entry.modified)

    def _content(self, descriptors: bytes, form: int, length: int, block: int) -> Content:
        """Join the recorded extents of a file (ECMA-167 4/12) into a content of exactly `length` bytes."""
        parts: list[Content] = []
        left, seen = length, set[int]()
        offset, shape = 0, (ShortAd, LongAd)[form]
        while left and offset + shape.SIZE <= len(descriptors):
            ad = shape.unpack(descriptors, offset)
            offset += shape.SIZE
            kind, size = ad.length >> 30, ad.length & 0x3FFF_FFFF
            if kind == 3:  # the descriptors continue in another block (4/14.14.1.1); never follow one twice
                if ad.block in seen:
                    raise self._damaged("chain of allocation descriptors", block)
                seen.add(ad.block)
                descriptors, offset = self._more_descriptors(ad.block, size), 0
                continue
            if size == 0:
                break
            take = min(size, left)
            parts.append(self._recorded(ad.block, take, block) if kind == 0 else Zeros(take))
            left -= take
        if left:
            raise self._damaged(f"allocation descriptors ({left} bytes of {length} have no place)", block)
        return parts[0] if len(parts) == 1 else Joined(_merged(parts))

    def _more_descriptors(self, block: int, size: int) -> bytes:
        data = self._block(block, min(max(size, 24), BLOCK_SIZE))
        count = int.from_bytes(data[20:24], "little")  # allocation extent descriptor, ECMA-167 4/14.5
        if Tag.unpack(data).identifier != ALLOCATION_EXTENT or 24 + count > len(data):
            raise self._damaged("allocation extent", block)
        return data[24 : 24 + count]

    def _recorded(self, block: int, size: int, entry_block: int) -> FileRange:
        offset = (self._first + block) * BLOCK_SIZE
        if offset + size > self._image.size:
            raise SourceError(
                f"{self._file.path}: a file (entry in block {entry_block}) reaches to byte {offset + size}, "
                f"the image ends at {self._image.size}.",
                advice=_ADVICE,
            )
        return FileRange(self._file, offset, size)

    # -- bytes ---------------------------------------------------------------------------------------------------

    def _block(self, block: int, size: int) -> bytes:
        if block >= self._blocks or (self._first + block) * BLOCK_SIZE + size > self._image.size:
            raise self._damaged("reference", block)
        return self._sector(self._first + block, size)

    def _sector(self, sector: int, size: int) -> bytes:
        return self._image.read_at(sector * BLOCK_SIZE, size)

    def _damaged(self, what: str, block: int) -> SourceError:
        offset = (self._first + block) * BLOCK_SIZE
        return SourceError(
            f"{self._file.path}: UDF {what} at block {block} (offset {offset}) is damaged.", advice=_ADVICE
        )


def _merged(parts: list[Content]) -> list[Content]:
    """Join ranges that follow each other in the file: a large file's extents usually do."""
    result: list[Content] = []
    for part in parts:
        last = result[-1] if result else None
        if isinstance(part, FileRange) and isinstance(last, FileRange) and last.offset + last.size == part.offset:
            result[-1] = FileRange(last.file, last.offset, last.size + part.size)
        else:
            result.append(part)
    return result
