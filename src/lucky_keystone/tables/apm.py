"""The old big-endian partition map of Macs, which disk images still carry ("Inside Macintosh: Devices", 3)."""

from __future__ import annotations

from msgspec import Struct

from ..common.record import Record, raw, record, u16, u32
from ..content.contents import SizedReadable

_DRIVER_MAGIC, _ENTRY_MAGIC = b"ER", b"PM"
_MOST_ENTRIES = 128


@record(size=8, big_endian=True)
class DriverDescriptor(Record):
    """The front of block 0."""

    sbSig: bytes = raw(0, 2, "'ER'")
    sbBlkSize: int = u16(2, "bytes of a block")
    sbBlkCount: int = u32(4, "blocks of the device")


@record(size=80, big_endian=True)
class MapEntry(Record):
    """The front of a block of the map."""

    pmSig: bytes = raw(0, 2, "'PM'")
    pmSigPad: int = u16(2, "", default=0)
    pmMapBlkCnt: int = u32(4, "blocks of the map")
    pmPyPartStart: int = u32(8, "block")
    pmPartBlkCnt: int = u32(12, "blocks")
    pmPartName: bytes = raw(16, 32, "filled up with zeros")
    pmParType: bytes = raw(48, 32, "filled up with zeros")


class MapPartition(Struct, frozen=True):
    """A partition of the map. Bytes."""

    type: str
    name: str
    offset: int
    size: int


def read_apm(image: SizedReadable) -> tuple[MapPartition, ...]:
    """Return the partitions of a map, without the map itself and free space; none where there is no map."""
    if image.size < 1024 or image.read_at(0, 2) != _DRIVER_MAGIC:
        return ()
    block = DriverDescriptor.unpack(image.read_at(0, DriverDescriptor.SIZE)).sbBlkSize
    if block not in (512, 1024, 2048, 4096):
        block = 512
    found: list[MapPartition] = []
    count = 1
    number = 1
    while number <= min(count, _MOST_ENTRIES) and (number + 1) * block <= image.size:
        entry = MapEntry.unpack(image.read_at(number * block, MapEntry.SIZE))
        if entry.pmSig != _ENTRY_MAGIC:
            break
        count = entry.pmMapBlkCnt
        kind, name = (field.split(b"\0")[0].decode("ascii", "replace") for field in (entry.pmParType, entry.pmPartName))
        if kind not in ("Apple_partition_map", "Apple_Free", "Apple_Void"):
            found.append(MapPartition(kind, name, entry.pmPyPartStart * block, entry.pmPartBlkCnt * block))
        number += 1
    return tuple(found)
