"""What lies inside an image: volumes behind a table of any kind, or one that begins with the image."""

from __future__ import annotations

from dataclasses import dataclass

from ..common.units import SECTOR_SIZES
from ..content.contents import SizedReadable
from ..tables.apm import read_apm
from ..tables.table import read_table
from ..volumes.kinds import kind_at

_APFS_MAGIC = b"NXSB"
_APFS_MAGIC_AT = 32


@dataclass(frozen=True)
class InsideVolume:
    """A volume in an image. Bytes."""

    kind: str
    """The name of a kind of volume, 'apfs', or '' of what is not known."""
    offset: int
    size: int


def volumes_in(image: SizedReadable) -> tuple[InsideVolume, ...]:
    """Return the volumes of an image, in their order. Raises a KeystoneError where it cannot be read."""
    if kind := _kind(image, 0, image.size):
        return (InsideVolume(kind, 0, image.size),)
    places = [(partition.offset, partition.size) for partition in read_apm(image)]
    for sector in SECTOR_SIZES if not places else ():
        table = read_table(image, sector, primary_only=True)
        if table is not None and table.partitions:
            places = [(p.first_lba * sector, p.sector_count * sector) for p in table.partitions if not p.protective]
        if places:
            break
    found: list[InsideVolume] = []
    for offset, size in places:
        room = min(size, image.size - offset)
        if offset > 0 and room > 0 and (kind := _kind(image, offset, room)):
            found.append(InsideVolume(kind, offset, room))
    return tuple(found)


def _kind(image: SizedReadable, offset: int, size: int) -> str:
    if size < 4096:
        return ""
    if image.read_at(offset + _APFS_MAGIC_AT, 4) == _APFS_MAGIC:
        return "apfs"
    kind = kind_at(image, offset, size)
    return kind.name if kind is not None else ""
