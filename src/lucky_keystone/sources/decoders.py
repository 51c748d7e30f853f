"""Compressed images: what each format says of the size, and its bytes front to back, decoded by standard packages.

A decoder ends only behind a stream that is whole: sums and trailers that a format has were checked by then, and nothing
but what the format allows follows. A further format is one more class and a line in FORMATS.
"""

from __future__ import annotations

import bz2
import io
import lzma
import re
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, BinaryIO, Protocol

from ..common.errors import SourceError, naming
from ..common.later import zstandard
from ..common.record import Record, raw, record, u32
from ..content.ranges import FileRange, RangedFile
from .as_file import AsFile

_STORED = 256 << 10  # bytes read from the file at once
_PIECE = 1 << 20  # bytes decoded at once, at most
_MOST_MEMORY = 256 << 20  # bytes a decoder may need; what common tools write needs less
_ODD = (EOFError, ValueError, LookupError, OverflowError, struct.error)
"""What packages raise besides, given bytes that nobody foresaw."""
_ADVICE = "The download is damaged or incomplete: compare its checksum, or download it again."


class Format(Protocol):
    """A way of compressing."""

    name: str

    def recognises(self, head: bytes) -> bool:
        """Tell by the first bytes of a file."""

    def stated_size(self, file: RangedFile) -> int | None:
        """Return the bytes that come out, None when only decoding shows. Raises SourceError for a broken structure."""

    def pieces(self, file: RangedFile) -> Iterator[bytes]:
        """Yield the decoded bytes in pieces of bounded size. Raises SourceError for a damaged stream."""


def damaged(file: RangedFile, format_name: str, why: object) -> SourceError:
    """Return the error for a stream that cannot be decoded to its end."""
    words = re.sub(r"\bb'([^']*)'", r"'\1'", str(why)).rstrip(".")  # packages quote bytes as Python writes them
    return SourceError(f"{file.path}: the {format_name} stream is incomplete or damaged: {words}.", advice=_ADVICE)


@contextmanager
def _told_of(file: RangedFile, format_name: str) -> Iterator[None]:
    """Turn what a decoding package raises into our own error."""
    try:
        yield
    except OSError as error:
        if error.errno is None:  # what bz2 raises for bytes that are not bzip2
            raise damaged(file, format_name, error) from error
        with naming(str(file.path), SourceError, advice="Check that the file can be read."):
            raise
    except (zlib.error, lzma.LZMAError, zstandard.ZstdError, zipfile.BadZipFile, *_ODD) as error:
        raise damaged(file, format_name, error) from error
    except (NotImplementedError, RuntimeError) as error:
        raise SourceError(f"{file.path}: {error}.", advice="Unpack it first.") from error


def _stored(file: RangedFile) -> Iterator[bytes]:
    whole = FileRange(file, 0, file.size)
    for offset in range(0, file.size, _STORED):
        yield whole.read_at(offset, min(_STORED, file.size - offset))


# -- gzip and bzip2 --------------------------------------------------------------------------------------------------


class _Members:
    """A format of streams one behind the other, none of which says how long it is."""

    def __init__(self, name: str, magic: bytes, new: Callable[[], Any]) -> None:
        self.name, self._magic, self._new = name, magic, new

    def recognises(self, head: bytes) -> bool:
        return head.startswith(self._magic)

    def stated_size(self, file: RangedFile) -> int | None:
        return None

    def pieces(self, file: RangedFile) -> Iterator[bytes]:
        with _told_of(file, self.name):
            decoder, waiting = self._new(), b""
            for stored in _stored(file):
                waiting += stored
                while waiting or _holds_more(decoder):
                    if decoder.eof:
                        waiting = waiting.lstrip(b"\0")  # gzip(1): zeros may fill a file up behind the last member
                        if len(waiting) < len(self._magic):
                            break
                        decoder = self._new()
                    data = decoder.decompress(waiting, _PIECE)
                    waiting = decoder.unused_data if decoder.eof else getattr(decoder, "unconsumed_tail", b"")
                    if data:
                        yield data
            while not decoder.eof:
                data = decoder.decompress(waiting, _PIECE)
                if not data:
                    raise damaged(file, self.name, "it ends before its end mark")
                waiting = getattr(decoder, "unconsumed_tail", b"")
                yield data
            if waiting.strip(b"\0"):
                raise damaged(file, self.name, f"{len(waiting)} unrelated bytes follow")


def _holds_more(decoder: Any) -> bool:
    """True for a decoder that still holds input of its own (zlib gives back what it did not use)."""
    return not decoder.eof and not getattr(decoder, "needs_input", True)


def _new_gzip() -> Any:
    return zlib.decompressobj(wbits=31)  # RFC 1952, with its CRC and length checked


# -- xz --------------------------------------------------------------------------------------------------------------


@record(size=12)
class XzFooter(Record):
    """The .xz file format 1.1.0, 2.1.2 "Stream Footer"."""

    crc32: int = u32(0, "of the two fields behind it")
    backward_size: int = u32(4, "of the index: in units of four bytes, less one")
    flags: bytes = raw(8, 2, "as in the stream's header")
    magic: bytes = raw(10, 2, "'YZ'")


_XZ_MAGIC = b"\xfd7zXZ\0"
_XZ_HEADER = 12
_MOST_INDEX = 64 << 20


class Xz:
    """xz: every stream ends with an index of its blocks, so the size is known from the file's end."""

    name = "xz"

    def recognises(self, head: bytes) -> bool:
        return head.startswith(_XZ_MAGIC)

    def stated_size(self, file: RangedFile) -> int | None:
        whole = FileRange(file, 0, file.size)
        end, total = file.size, 0
        while end > 0:
            end, size = self._stream_before(file, whole, end)
            total += size
        return total

    def _stream_before(self, file: RangedFile, whole: FileRange, end: int) -> tuple[int, int]:
        """Return where the stream that ends in front of byte `end` starts, and how many bytes come out of it."""
        end = _without_padding(whole, end)
        if end < _XZ_HEADER + XzFooter.SIZE:
            raise damaged(file, self.name, f"no stream ends at byte {end}")
        footer = XzFooter.unpack(whole.read_at(end - XzFooter.SIZE, XzFooter.SIZE))
        if footer.magic != b"YZ":
            raise damaged(file, self.name, f"there is no stream footer before byte {end}")
        index_size = 4 * (footer.backward_size + 1)
        start_of_index = end - XzFooter.SIZE - index_size
        if start_of_index < _XZ_HEADER or index_size > _MOST_INDEX:
            raise damaged(file, self.name, f"the footer in front of byte {end} describes an invalid index")
        index = whole.read_at(start_of_index, index_size)
        if zlib.crc32(index[:-4]) != int.from_bytes(index[-4:], "little"):
            raise damaged(file, self.name, f"the index at byte {start_of_index} does not match its sum")
        stored, size = _xz_index(index)
        start = start_of_index - stored - _XZ_HEADER
        if start < 0 or whole.read_at(start, len(_XZ_MAGIC)) != _XZ_MAGIC:
            raise damaged(file, self.name, f"there is no stream header at byte {start}, where its index says")
        return start, size

    def pieces(self, file: RangedFile) -> Iterator[bytes]:
        def new() -> Any:
            return lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY)

        return _Members(self.name, _XZ_MAGIC, new).pieces(file)


def _without_padding(whole: FileRange, end: int) -> int:
    """Return where a stream ends that zeros may follow, four by four, up to byte `end` (2.2 "Stream Padding")."""
    while end >= 4:
        start = max(end - _STORED, 0)
        piece = whole.read_at(start, end - start)
        zeros = len(piece) - len(piece.rstrip(b"\0"))
        end -= zeros // 4 * 4
        if zeros < len(piece):
            break
    return end


def _xz_index(index: bytes) -> tuple[int, int]:
    """Return the bytes that an index's blocks take in the file, and those that come out (4.3 "List of Records")."""
    position = 1

    def number() -> int:
        nonlocal position
        value = shift = 0
        while True:  # 1.2 "Multibyte Integers"
            if position >= len(index) or shift > 56:
                raise ValueError("an index holds an invalid number")
            byte = index[position]
            position += 1
            value |= (byte & 0x7F) << shift
            if not byte & 0x80:
                return value
            shift += 7

    stored = size = 0
    try:
        for _ in range(number()):
            unpadded = number()
            stored += -(-unpadded // 4) * 4
            size += number()
    except ValueError as error:
        raise SourceError(f"An xz index is damaged: {error}.", advice=_ADVICE) from error
    return stored, size


# -- zstandard -------------------------------------------------------------------------------------------------------

_ZSTD_MAGIC = 0xFD2F_B528
_SKIPPABLE = range(0x184D_2A50, 0x184D_2A60)
_MOST_FRAME_HEADER = 18


class Zstd:
    """zstd (RFC 8878): a frame may say how many bytes come out of it."""

    name = "zstd"

    def recognises(self, head: bytes) -> bool:
        magic = int.from_bytes(head[:4], "little")
        return len(head) >= 4 and (magic == _ZSTD_MAGIC or magic in _SKIPPABLE)

    def stated_size(self, file: RangedFile) -> int | None:
        total: int | None = 0
        for size in self._frames(file):
            total = None if total is None or size is None else total + size
        return total

    def _frames(self, file: RangedFile) -> Iterator[int | None]:
        """Go through the frames, block by block, up to the file's end; yield the size that each states."""
        whole = FileRange(file, 0, file.size)
        place = 0
        while place < file.size:
            head = whole.read_at(place, min(_MOST_FRAME_HEADER, file.size - place))
            magic = int.from_bytes(head[:4], "little")
            if magic in _SKIPPABLE and len(head) >= 8:
                place += 8 + int.from_bytes(head[4:8], "little")
                yield 0
            elif magic == _ZSTD_MAGIC:
                with _told_of(file, self.name):
                    frame = zstandard.get_frame_parameters(head)
                    place += zstandard.frame_header_size(head)
                place = self._behind_blocks(file, whole, place) + (4 if frame.has_checksum else 0)
                yield None if frame.content_size == zstandard.CONTENTSIZE_UNKNOWN else frame.content_size
            else:
                raise damaged(file, self.name, f"there is no frame at byte {place}")
            if place > file.size:
                raise damaged(file, self.name, "it ends within a frame")

    def _behind_blocks(self, file: RangedFile, whole: FileRange, place: int) -> int:
        """Return the byte behind a frame's blocks (RFC 8878, 3.1.1.2)."""
        while True:
            if place + 3 > file.size:
                raise damaged(file, self.name, "it ends within a frame")
            head = int.from_bytes(whole.read_at(place, 3), "little")
            is_last, kind, size = head & 1, head >> 1 & 3, head >> 3
            if kind == 3:
                raise damaged(file, self.name, f"the block at byte {place} is of an unknown kind")
            place += 3 + (1 if kind == 1 else size)  # a repeated byte is stored once
            if is_last:
                return place

    def pieces(self, file: RangedFile) -> Iterator[bytes]:
        for _ in self._frames(file):  # the package takes a cut stream for one that ended
            pass
        with _told_of(file, self.name):
            decoder = zstandard.ZstdDecompressor(max_window_size=_MOST_MEMORY)
            with decoder.stream_reader(_Stream(file), read_size=_STORED, read_across_frames=True) as stream:  # type: ignore[arg-type]
                while data := stream.read(_PIECE):
                    yield data


class _Stream:
    """A file as a package that decodes wants to read it."""

    def __init__(self, file: RangedFile) -> None:
        self._whole, self._done = FileRange(file, 0, file.size), 0

    def read(self, size: int) -> bytes:
        size = min(size, self._whole.size - self._done)
        self._done += size
        return self._whole.read_at(self._done - size, size)


# -- zip -------------------------------------------------------------------------------------------------------------

_IMAGE_ENDINGS = (".img", ".iso", ".bin", ".raw", ".dd", ".ima", ".usb")
_ENCRYPTED = 1


def _as_file(file: RangedFile) -> BinaryIO:
    return io.BufferedReader(AsFile(FileRange(file, 0, file.size)), _STORED)


class Zip:
    """zip, ZIP64 too: one image in it, whose size and sum its directory states."""

    name = "zip"

    def recognises(self, head: bytes) -> bool:
        return head.startswith((b"PK\3\4", b"PK\5\6"))

    def stated_size(self, file: RangedFile) -> int | None:
        with _told_of(file, self.name), zipfile.ZipFile(_as_file(file)) as archive:
            return self._member(file, archive).file_size

    def _member(self, file: RangedFile, archive: zipfile.ZipFile) -> zipfile.ZipInfo:
        members = [member for member in archive.infolist() if not member.filename.endswith("/")]
        images = [member for member in members if member.filename.lower().endswith(_IMAGE_ENDINGS)]
        chosen = members if len(members) == 1 else images
        if len(chosen) != 1:
            names = ", ".join(member.filename for member in (images or members)[:5]) or "nothing"
            raise SourceError(
                f"{file.path} is a zip file with {len(members)} files, not one image: {names}.",
                advice="Unpack it, and use the image or the folder with the installer's files.",
            )
        if chosen[0].flag_bits & _ENCRYPTED:
            raise SourceError(f"{file.path}: {chosen[0].filename} is encrypted.", advice="Unpack it first.")
        return chosen[0]

    def pieces(self, file: RangedFile) -> Iterator[bytes]:
        with (
            _told_of(file, self.name),
            zipfile.ZipFile(_as_file(file)) as archive,
            archive.open(self._member(file, archive)) as stream,  # its CRC is checked at the end
        ):
            while data := stream.read(_PIECE):
                yield data


FORMATS: Sequence[Format] = (
    _Members("gzip", b"\x1f\x8b", _new_gzip),
    _Members("bzip2", b"BZh", bz2.BZ2Decompressor),
    Xz(),
    Zstd(),
    Zip(),
)
