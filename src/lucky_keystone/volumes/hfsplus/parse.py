"""Takes records of an HFS Plus volume's trees apart, comparing every length with what it lies in."""

from __future__ import annotations

from msgspec import Struct

from ...common.record import RecordError
from ..volume import Run, VolumeError
from .records import (
    EXTENTS_IN_FORK,
    FILE_RECORD,
    FILE_THREAD,
    FOLDER_RECORD,
    FOLDER_THREAD,
    NAME_MOST,
    AttributeKey,
    CatalogFile,
    CatalogFolder,
    CatalogThread,
    ExtentDescriptor,
    ExtentKey,
    ForkData,
)

_EVEN = 2


class CatalogItem(Struct, frozen=True):
    """A record of the catalog with its key."""

    parent: int
    name: bytes
    """UTF-16 units; b"" of a thread."""
    folder: CatalogFolder | None = None
    file: CatalogFile | None = None
    thread: CatalogThread | None = None
    thread_name: bytes = b""


def catalog_key(record: bytes) -> tuple[int, bytes]:
    """Return (parent's number, name's units) of a record of the catalog. Raises VolumeError."""
    length = int.from_bytes(record[:2], "big")
    if length < 6 or 2 + length > len(record):
        raise VolumeError("The catalog: a key reaches beyond its record.")
    units = int.from_bytes(record[6:8], "big")
    if units > NAME_MOST or 6 + _EVEN * units > length:
        raise VolumeError(f"The catalog: a name of {units} characters does not fit its key.")
    return int.from_bytes(record[2:6], "big"), record[8 : 8 + _EVEN * units]


def parse_catalog(record: bytes) -> CatalogItem:
    """Take a record of the catalog apart. Raises VolumeError."""
    parent, name = catalog_key(record)
    at = 2 + int.from_bytes(record[:2], "big")
    at += at % _EVEN
    kind = int.from_bytes(record[at : at + 2], "big")
    try:
        if kind == FOLDER_RECORD:
            return CatalogItem(parent, name, folder=CatalogFolder.unpack(record, at))
        if kind == FILE_RECORD:
            return CatalogItem(parent, name, file=CatalogFile.unpack(record, at))
        if kind in (FOLDER_THREAD, FILE_THREAD):
            thread = CatalogThread.unpack(record, at)
            at += CatalogThread.SIZE
            units = int.from_bytes(record[at : at + 2], "big")
            if units > NAME_MOST or at + 2 + _EVEN * units > len(record):
                raise VolumeError(f"The catalog: the thread of number {parent} has a name that does not fit it.")
            return CatalogItem(parent, name, thread=thread, thread_name=record[at + 2 : at + 2 + _EVEN * units])
    except RecordError as error:
        raise VolumeError(f"The catalog: {error.message}.") from error
    raise VolumeError(f"The catalog: a record of the unknown kind {kind} in folder {parent}.")


class Fork(Struct, frozen=True):
    """Where a fork's bytes lie, as far as its own record says."""

    size: int
    """Bytes."""
    block_count: int
    runs: tuple[Run, ...]


NO_FORK = Fork(0, 0, ())


def parse_fork(data: bytes, blocks: int, what: str) -> Fork:
    """Take a ForkData apart, for a volume of `blocks`. Raises VolumeError for blocks outside of the volume."""
    fork = ForkData.unpack(data)
    return Fork(fork.logicalSize, fork.totalBlocks, parse_extents(fork.extents, blocks, what))


def parse_extents(data: bytes, blocks: int, what: str) -> tuple[Run, ...]:
    """Take eight extents apart; an empty one ends them. Raises VolumeError for blocks outside of the volume."""
    runs: list[Run] = []
    for number in range(EXTENTS_IN_FORK):
        extent = ExtentDescriptor.unpack(data, number * ExtentDescriptor.SIZE)
        if not extent.blockCount:
            break
        if extent.startBlock + extent.blockCount > blocks:
            raise VolumeError(
                f"{what}: {extent.blockCount:,} blocks from {extent.startBlock:,} on "
                f"lie outside of the volume, which has {blocks:,}."
            )
        runs.append(Run(extent.startBlock, extent.blockCount))
    return tuple(runs)


def extent_key(record: bytes) -> tuple[int, int, int]:
    """Return (file, kind of fork, first block of the fork) of a record of the extents overflow file."""
    try:
        key = ExtentKey.unpack(record)
    except RecordError as error:
        raise VolumeError(f"The extents overflow file: {error.message}.") from error
    return key.fileID, key.forkType, key.startBlock


def attribute_key(record: bytes) -> tuple[int, bytes, int]:
    """Return (file, name's units, first block) of a record of the attributes file. Raises VolumeError."""
    try:
        key = AttributeKey.unpack(record)
    except RecordError as error:
        raise VolumeError(f"The attributes file: {error.message}.") from error
    end = AttributeKey.SIZE + _EVEN * key.attrNameLen
    if end > 2 + key.keyLength or end > len(record):
        raise VolumeError(f"The attributes file: a name of {key.attrNameLen} characters does not fit its key.")
    return key.fileID, record[AttributeKey.SIZE : end], key.startBlock
