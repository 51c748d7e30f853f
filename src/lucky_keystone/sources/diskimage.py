"""A disk image (UDIF) as the bytes that come out of it: a range that is asked for decodes only its blocks.

What lies inside (a table, a volume, a further image) is read by the same code as on a drive. Nothing is unpacked:
blocks are kept in memory, up to a limit, and those of one request are decoded side by side.
"""

from __future__ import annotations

import os
import plistlib
import threading
import xml.parsers.expat
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..common.errors import SourceError
from ..common.record import RecordError
from ..content.chunks import METHODS, ChunkError, decode_chunk
from ..content.contents import IMAGE_ORDER, SizedReadable
from .udif_records import (
    COMMENT,
    COMPRESSED,
    IGNORE,
    MAP_MAGIC,
    RAW,
    SECTOR,
    TERMINATOR,
    TRAILER_MAGIC,
    ZERO_FILL,
    Block,
    BlockMap,
    Checksum,
    Trailer,
)

_MOST_LIST = 64 << 20  # bytes of the property list: an image of 100 GB needs less than 8 MB
_MOST_BLOCKS = 4_000_000
_LARGEST_BLOCK = 32 << 20  # bytes that a compressed block may make; tools write 256 KiB to 16 MiB
_KEPT = 64 << 20  # bytes of decoded blocks
_ENCRYPTED = b"encrcdsa"
_ENCRYPTED_BEFORE = b"cdsaencr"
_ADVICE = "It is damaged or incomplete: download or copy it again."


class BlockRun(Struct, frozen=True):
    """A block, with its place in what comes out. Bytes."""

    start: int
    size: int
    kind: int
    offset: int
    """In the file."""
    length: int


class PartitionMap(Struct, frozen=True):
    """The blocks of one partition, and the sum of what comes out of them."""

    name: str
    runs: tuple[BlockRun, ...]
    checksum: Checksum


def is_disk_image(stored: SizedReadable) -> bool:
    """Tell by the trailer whether a file is a disk image."""
    return stored.size >= Trailer.SIZE and stored.read_at(stored.size - Trailer.SIZE, 4) == TRAILER_MAGIC


def refuse_encrypted(stored: SizedReadable, name: str) -> None:
    """Raise SourceError for an encrypted disk image."""
    if stored.size < Trailer.SIZE:
        return
    if stored.read_at(0, 8) == _ENCRYPTED or stored.read_at(stored.size - 8, 8) == _ENCRYPTED_BEFORE:
        raise SourceError(
            f"{name} is an encrypted disk image, which is not supported.",
            advice="Open it on a Mac with its password, and copy the installer app out of it.",
        )


class DiskImage:
    """Has what a file of a source has: see `content.RangedFile`."""

    def __init__(self, stored: SizedReadable, name: str) -> None:
        """Read trailer, property list and block maps. Raises SourceError for what is invalid in them."""
        self.path, self.underlying, self.order = Path(name), stored, IMAGE_ORDER
        self.stored = stored
        self.trailer = self._read_trailer()
        self.size = self.trailer.sector_count * SECTOR
        self.maps = tuple(self._read_maps())
        self._runs = self._in_order()
        self._starts = [run.start for run in self._runs]
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        self._kept_size = 0
        self._lock = threading.Lock()

    @property
    def methods(self) -> tuple[str, ...]:
        """How its blocks are compressed, in words; none of an image that is not."""
        kinds = dict.fromkeys(run.kind for run in self._runs if run.kind in COMPRESSED)
        return tuple(COMPRESSED[kind] for kind in kinds)

    # -- its structure -----------------------------------------------------------------------------------------------

    def _fault(self, why: str, advice: str = _ADVICE) -> SourceError:
        return SourceError(f"{self.path}, a disk image: {why}.", advice=advice)

    def _read_trailer(self) -> Trailer:
        stored = self.stored
        trailer = Trailer.unpack(stored.read_at(stored.size - Trailer.SIZE, Trailer.SIZE))
        if trailer.version != 4 or trailer.header_size != Trailer.SIZE:
            raise self._fault(f"its trailer has the unknown version {trailer.version}")
        if trailer.segment_count > 1:
            raise self._fault(
                f"it is part {trailer.segment_number} of {trailer.segment_count}",
                "Join the parts on a Mac into one image, or copy the installer app out of it.",
            )
        if trailer.data_offset + trailer.data_length > stored.size:
            raise self._fault(
                f"its blocks end at byte {trailer.data_offset + trailer.data_length:,}, the file at {stored.size:,}"
            )
        if not trailer.list_length or trailer.list_offset + trailer.list_length > stored.size:
            raise self._fault("its property list lies outside of the file")
        if trailer.list_length > _MOST_LIST:
            raise self._fault(f"its property list has an invalid size ({trailer.list_length:,} bytes)")
        return trailer

    def _read_maps(self) -> Iterator[PartitionMap]:
        data = self.stored.read_at(self.trailer.list_offset, self.trailer.list_length)
        try:
            found: Any = plistlib.loads(data)
            listed = found["resource-fork"]["blkx"]
            entries = [(str(entry.get("Name") or entry.get("CFName") or ""), entry["Data"]) for entry in listed]
        except (ValueError, LookupError, TypeError, AttributeError, OverflowError) as error:
            raise self._fault("its property list cannot be read, or has no block maps") from error
        except (plistlib.InvalidFileException, xml.parsers.expat.ExpatError, RecursionError) as error:
            raise self._fault("its property list is damaged") from error
        total = 0
        for name, packed in entries:
            if not isinstance(packed, bytes):
                raise self._fault("one of its block maps is not data")
            found_map = self._read_map(name, packed)
            total += len(found_map.runs)
            if total > _MOST_BLOCKS:
                raise self._fault(f"more than {_MOST_BLOCKS:,} blocks are invalid")
            yield found_map

    def _read_map(self, name: str, packed: bytes) -> PartitionMap:
        try:
            head = BlockMap.unpack(packed)
        except RecordError as error:
            raise self._fault("one of its block maps is too short") from error
        if head.magic != MAP_MAGIC or BlockMap.SIZE + head.block_count * Block.SIZE > len(packed):
            raise self._fault(f"the block map of '{name}' is damaged")
        base = self.trailer.data_offset + head.data_offset
        end_of_blocks = self.trailer.data_offset + self.trailer.data_length
        runs: list[BlockRun] = []
        for number in range(head.block_count):
            block = Block.unpack(packed, BlockMap.SIZE + number * Block.SIZE)
            if block.type == TERMINATOR:
                break
            if block.type == COMMENT or not block.sector_count:
                continue
            run = BlockRun(
                (head.first_sector + block.sector) * SECTOR,
                block.sector_count * SECTOR,
                block.type,
                base + block.offset,
                block.length,
            )
            self._check(run, name, head, end_of_blocks)
            runs.append(run)
        return PartitionMap(name, tuple(runs), Checksum.unpack(head.checksum))

    def _check(self, run: BlockRun, name: str, head: BlockMap, end_of_blocks: int) -> None:
        where = f"the block at sector {run.start // SECTOR:,} of '{name}'"
        if run.start + run.size > min(self.size, (head.first_sector + head.sector_count) * SECTOR):
            raise self._fault(f"{where} reaches beyond what it is a part of")
        if run.kind in (ZERO_FILL, IGNORE):
            return
        if run.kind not in COMPRESSED and run.kind != RAW:
            raise self._fault(f"{where} is stored by an unknown method ({run.kind:08X}h)")
        if run.offset + run.length > end_of_blocks:
            raise self._fault(f"{where} lies outside of the file")
        if run.kind == RAW and run.length < run.size:
            raise self._fault(f"{where} has {run.length:,} bytes stored, {run.size:,} come out of it")
        if run.kind != RAW and run.size > _LARGEST_BLOCK:
            raise self._fault(f"{where} would make {run.size:,} bytes at once, which is invalid")

    def _in_order(self) -> tuple[BlockRun, ...]:
        runs = sorted((run for found in self.maps for run in found.runs), key=lambda run: run.start)
        for before, after in zip(runs, runs[1:], strict=False):
            if before.start + before.size > after.start:
                raise self._fault(f"blocks overlap at sector {after.start // SECTOR:,}")
        return tuple(runs)

    # -- reading -----------------------------------------------------------------------------------------------------

    def acquire(self) -> int:
        """Return a descriptor for one more user: what is below opens by itself."""
        return 0

    def release(self, descriptor: int) -> None:
        """One user less."""

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`; what no block covers is zero. Raises SourceError for a damaged block."""
        if offset + len(view) > self.size:
            raise self._fault(f"{len(view):,} bytes at {offset:,} were requested, out of {self.size:,}")
        end = offset + len(view)
        number = max(bisect_right(self._starts, offset) - 1, 0)
        wanted: list[BlockRun] = []
        while number < len(self._runs) and self._runs[number].start < end:
            run = self._runs[number]
            if run.start + run.size > offset:
                wanted.append(run)
            number += 1
        waiting = self._decoding([run for run in wanted if run.kind in COMPRESSED])
        done = offset
        for run in wanted:
            first, last = max(run.start, offset), min(run.start + run.size, end)
            _clear(view[done - offset : first - offset])
            target = view[first - offset : last - offset]
            if run.kind == RAW:
                target[:] = self.stored.read_at(run.offset + first - run.start, last - first)
            elif run.kind in COMPRESSED:
                block = waiting[run.start].result()
                target[:] = memoryview(block)[first - run.start : last - run.start]
            else:
                _clear(target)
            done = last
        _clear(view[done - offset :])

    def _decoding(self, runs: Sequence[BlockRun]) -> dict[int, Future[bytes]]:
        """Return blocks by their place: kept, or being decoded side by side."""
        found: dict[int, Future[bytes]] = {}
        missing: list[BlockRun] = []
        with self._lock:
            for run in runs:
                block = self._kept.get(run.start)
                if block is None:
                    missing.append(run)
                    continue
                self._kept.move_to_end(run.start)
                found[run.start] = Future()
                found[run.start].set_result(block)
        for run in missing:
            # Nested images decode where they are asked: a worker that waited for workers could wait for itself.
            found[run.start] = _pool().submit(self._block, run) if self._may_share(missing) else _done(self._block, run)
        return found

    def _may_share(self, missing: Sequence[BlockRun]) -> bool:
        return len(missing) > 1 and not threading.current_thread().name.startswith(_WORKERS)

    def _block(self, run: BlockRun) -> bytes:
        data = self.stored.read_at(run.offset, run.length)
        try:
            block = decode_chunk(METHODS[COMPRESSED[run.kind]], data, run.size)
        except ChunkError as error:
            raise self._fault(
                f"the block at sector {run.start // SECTOR:,} cannot be decoded: {error.message.rstrip('.')}"
            ) from error
        with self._lock:
            if run.start not in self._kept:
                self._kept[run.start] = block
                self._kept_size += len(block)
            while self._kept_size > _KEPT and len(self._kept) > 1:
                self._kept_size -= len(self._kept.popitem(last=False)[1])
        return block


_ZEROS = bytes(1 << 16)


def _clear(view: memoryview) -> None:
    for start in range(0, len(view), len(_ZEROS)):
        piece = view[start : start + len(_ZEROS)]
        piece[:] = _ZEROS[: len(piece)]


_WORKERS = "decoding"


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(min(os.cpu_count() or 1, 8), _WORKERS)


def _done(work: Any, run: BlockRun) -> Future[bytes]:
    future: Future[bytes] = Future()
    try:
        future.set_result(work(run))
    except SourceError as error:
        future.set_exception(error)
    return future
