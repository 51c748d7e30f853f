"""Reads the ISO 9660 side of a disc image (ECMA-119), with Joliet or Rock Ridge names where it has them."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from msgspec import Struct

from ..common.errors import SourceError
from ..common.record import RecordError
from ..content.contents import Content, Joined
from ..content.ranges import FileRange, RangedFile
from ..content.tree import EPOCH, MOST_DEPTH, File, Folder
from .iso_records import (
    FLAG_ASSOCIATED,
    FLAG_FOLDER,
    FLAG_GOES_ON,
    IDENTIFIER,
    PRIMARY,
    SECTOR,
    SUPPLEMENTARY,
    TERMINATOR,
    DirectoryRecord,
    VolumeDescriptor,
)

_ADVICE = "The disc image is damaged or incomplete: compare its checksum, or download it again."
_MOST_ENTRIES = 1_000_000
_MOST_FOLDER_BYTES = 64 << 20


class _Found(Struct):
    name: str
    record: DirectoryRecord
    relocated: int = 0  # Rock Ridge CL: block of a folder that was moved up to keep the depth of ECMA-119 6.8.2.1


def has_iso9660(image: RangedFile) -> bool:
    """Tell whether the image has a volume descriptor in sector 16 (ECMA-119 8.1.2)."""
    if image.size < 17 * SECTOR:
        return False
    return VolumeDescriptor.unpack(FileRange(image, 16 * SECTOR, SECTOR).read_at(0, SECTOR)).identifier == IDENTIFIER


def iso9660_size(image: RangedFile) -> int:
    """Return the bytes up to the end of the volume in sector 16 (ECMA-119 8.4.8); 0 when there is none.

    A disc with a UDF side says here how long all of it is.
    """
    if not has_iso9660(image):
        return 0
    found = VolumeDescriptor.unpack(FileRange(image, 16 * SECTOR, SECTOR).read_at(0, SECTOR))
    return found.sectors * SECTOR if found.type == PRIMARY and found.block_size == SECTOR else 0


class Iso9660Reader:
    """One ISO 9660 volume. `names` says which naming is used: 'Joliet', 'Rock Ridge' or 'plain'."""

    def __init__(self, image: RangedFile) -> None:
        self._file = image
        self._image = FileRange(image, 0, image.size)
        self._entries = 0
        self._susp_skip = 0
        primary, joliet = self._descriptors()
        self.names = "plain"
        self._joliet = False
        root = DirectoryRecord.unpack(primary.root)
        self.label = primary.volume.decode("ascii", "replace").strip()
        if self._finds_rock_ridge(root):
            self.names = "Rock Ridge"
        elif joliet is not None:
            self.names, self._joliet = "Joliet", True
            root = DirectoryRecord.unpack(joliet.root)
            self.label = joliet.volume.decode("utf-16-be", "replace").strip(" \0")
        self._root = root
        self.volume_size = primary.sectors * SECTOR
        """Bytes from the disc's start to the volume's end (ECMA-119 8.4.8)."""

    def _descriptors(self) -> tuple[VolumeDescriptor, VolumeDescriptor | None]:
        primary: VolumeDescriptor | None = None
        joliet: VolumeDescriptor | None = None
        for sector in range(16, 80):
            if (sector + 1) * SECTOR > self._image.size:
                break
            found = VolumeDescriptor.unpack(self._image.read_at(sector * SECTOR, SECTOR))
            # ECMA-119 8.1.2: the identifier of every volume descriptor is CD001.
            if found.identifier != IDENTIFIER or found.type == TERMINATOR:
                break
            if found.type == PRIMARY and primary is None:
                primary = found
            if found.type == SUPPLEMENTARY and found.escapes[:3] in (b"%/@", b"%/C", b"%/E"):  # Joliet's
                joliet = found
        if primary is None:
            raise SourceError(
                f"{self._file.path} is neither a disc image nor anything else that can be read.",
                advice="Use a disc image (.iso) or a folder with the installer's files.",
            )
        if primary.block_size != SECTOR:
            raise SourceError(f"{self._file.path}: ISO 9660 blocks are not of {SECTOR} bytes.", advice=_ADVICE)
        return primary, joliet

    def _finds_rock_ridge(self, root: DirectoryRecord) -> bool:
        """Look for SUSP's SP entry (SUSP 5.3) in the root's own record."""
        data = self._data(root)
        if len(data) < 34 or data[0] < 34 or data[0] > len(data):
            return False
        area = data[34 : data[0]]
        if area[:2] == b"SP" and len(area) >= 7 and area[4:6] == b"\xbe\xef":
            self._susp_skip = area[6]
            return True
        return False

    def root(self) -> Folder:
        """Read all folders; contents stay where they are. Raises SourceError."""
        top = Folder("", _time(self._root.recorded))
        seen: set[int] = set()  # a folder has one parent: met twice, the image leads in a loop
        waiting = [(top, self._root, 0)]
        while waiting:
            folder, place, depth = waiting.pop()
            if place.extent in seen or depth > MOST_DEPTH:
                raise SourceError(
                    f"{self._file.path}: folder '{folder.name}' appears twice, or is nested too deeply.", advice=_ADVICE
                )
            seen.add(place.extent)
            parts: list[Content] = []
            open_name = ""  # of a file whose next extent has to follow
            for found in self._records(place):
                if open_name and (found.name != open_name or found.record.flags & FLAG_FOLDER):
                    raise self._doubtful(folder, f"'{open_name}' continues in what is not its next extent")
                if found.name in folder.entries:
                    raise self._doubtful(folder, f"'{found.name}' appears twice")
                if found.relocated:
                    found.record = self._relocated(found.relocated)
                if found.record.flags & FLAG_FOLDER:
                    child = Folder(found.name, _time(found.record.recorded))
                    folder.entries[found.name] = child
                    waiting.append((child, found.record, depth + 1))
                    continue
                parts.append(self._range(found.record))
                if found.record.flags & FLAG_GOES_ON:  # ECMA-119 6.5.1: a file of several extents
                    open_name = found.name
                    continue
                open_name = ""
                content = parts[0] if len(parts) == 1 else Joined(parts)
                folder.entries[found.name] = File(found.name, content, _time(found.record.recorded))
                parts = []
            if open_name:
                raise self._doubtful(folder, f"'{open_name}' has no last extent")
        if self.names == "Rock Ridge":
            top.entries.pop("rr_moved", None)
            top.entries.pop("RR_MOVED", None)
        return top

    def _doubtful(self, folder: Folder, what: str) -> SourceError:
        where = f"folder '{folder.name}'" if folder.name else "the root folder"
        return SourceError(f"{self._file.path}, ISO 9660: in {where} {what}.", advice=_ADVICE)

    def _records(self, place: DirectoryRecord) -> Iterator[_Found]:
        data = self._data(place)
        offset = 0
        while offset < len(data):
            if data[offset] == 0:  # ECMA-119 6.8.1.1: records do not cross sectors, the rest of one is zero
                offset = (offset // SECTOR + 1) * SECTOR
                continue
            try:
                entry = DirectoryRecord.unpack(data, offset)
            except RecordError as error:
                raise self._damaged(place) from error
            if entry.length < 33 + entry.name_length or offset + entry.length > len(data):
                raise self._damaged(place)
            body = data[offset : offset + entry.length]
            offset += entry.length
            if body[33 : 33 + entry.name_length] in (b"\0", b"\1") or entry.flags & FLAG_ASSOCIATED:
                continue
            self._entries += 1
            if self._entries > _MOST_ENTRIES:
                raise SourceError(f"{self._file.path}: more than {_MOST_ENTRIES:,} entries.", advice=_ADVICE)
            found = self._named(entry, body)
            if found is not None:
                if not found.name or "/" in found.name or "\0" in found.name or found.name in (".", ".."):
                    raise self._damaged(place)
                yield found

    def _named(self, entry: DirectoryRecord, body: bytes) -> _Found | None:
        stored = body[33 : 33 + entry.name_length]
        if self._joliet:
            return _Found(_without_version(stored.decode("utf-16-be", "replace")), entry)
        name = _without_version(stored.decode("latin-1"))
        if self.names != "Rock Ridge":
            return _Found(name.rstrip("."), entry)
        start = 33 + entry.name_length + (1 - entry.name_length % 2) + self._susp_skip
        pieces = b""
        relocated = 0
        for signature, payload in self._susp(body[start:]):
            if signature == b"NM" and len(payload) >= 1:  # Rock Ridge 4.1.4
                pieces += payload[1:]
            elif signature == b"CL" and len(payload) >= 4:  # 4.1.5.1: the folder lives elsewhere
                relocated = int.from_bytes(payload[:4], "little")
            elif signature in (b"RE", b"SL"):  # a moved folder seen at its stand-in place; a symbolic link
                return None
        return _Found(pieces.decode("utf-8", "replace") or name, entry, relocated)

    def _susp(self, area: bytes) -> Iterator[tuple[bytes, bytes]]:
        """Yield the system-use entries of a record; continuation areas (SUSP 5.1) are followed at most 16 times."""
        for _ in range(16):
            following: tuple[int, int, int] | None = None
            offset = 0
            while offset + 4 <= len(area):
                length = area[offset + 2]
                if length < 4 or offset + length > len(area):
                    break
                signature, payload = area[offset : offset + 2], area[offset + 4 : offset + length]
                offset += length
                if signature == b"CE" and len(payload) >= 24:
                    following = tuple(int.from_bytes(payload[at : at + 4], "little") for at in (0, 8, 16))  # type: ignore[assignment]
                elif signature == b"ST":
                    break
                else:
                    yield signature, payload
            if following is None:
                return
            block, start, size = following
            if size > SECTOR or block * SECTOR + start + size > self._image.size:
                return
            area = self._image.read_at(block * SECTOR + start, size)

    def _relocated(self, block: int) -> DirectoryRecord:
        if (block + 1) * SECTOR > self._image.size:
            raise SourceError(f"{self._file.path}: a moved folder is after the end of the image.", advice=_ADVICE)
        return DirectoryRecord.unpack(self._image.read_at(block * SECTOR, SECTOR))

    def _range(self, entry: DirectoryRecord) -> FileRange:
        offset = (entry.extent + entry.attribute_length) * SECTOR
        if entry.size == 0:
            return FileRange(self._file, 0, 0)
        if offset + entry.size > self._image.size or entry.unit_size or entry.gap:
            raise self._damaged(entry)
        return FileRange(self._file, offset, entry.size)

    def _data(self, entry: DirectoryRecord) -> bytes:
        if entry.size > _MOST_FOLDER_BYTES:
            raise self._damaged(entry)
        whole = self._range(entry)
        return whole.read_at(0, whole.size)

    def _damaged(self, entry: DirectoryRecord) -> SourceError:
        offset = entry.extent * SECTOR
        return SourceError(
            f"{self._file.path}: ISO 9660 entry of {entry.size} bytes at block {entry.extent} (offset {offset}) "
            f"is damaged or reaches beyond the image's {self._image.size} bytes.",
            advice=_ADVICE,
        )


def _without_version(name: str) -> str:
    """Cut the version that ECMA-119 7.5.1 puts behind a semicolon."""
    base, mark, version = name.rpartition(";")
    return base if mark and version.isdigit() else name


def _time(stamp: bytes) -> datetime:
    try:
        return datetime(1900 + stamp[0], *stamp[1:6])
    except ValueError:
        return EPOCH
