"""What lies inside an image: volumes behind a table of any kind, or one that begins with the image."""

from __future__ import annotations

from msgspec import Struct

from ..common.units import SECTOR_SIZES
from ..content.contents import SizedReadable
from ..tables.apm import read_apm
from ..tables.table import read_table
from ..volumes.apfs.container import container_size
from ..volumes.kinds import kind_at
from ..volumes.known import KnownVolume, known_volume

APFS = "apfs"
_SMALLEST = 4096
"""Bytes of a volume."""


class InsideVolume(Struct, frozen=True):
    """A volume in an image. Bytes."""

    kind: str
    """The name of a kind of volume that is read, or APFS; '' of one that is not."""
    offset: int
    size: int
    known: KnownVolume | None = None
    """What it is when it is not read."""


def volumes_in(image: SizedReadable) -> tuple[InsideVolume, ...]:
    """Return the volumes of an image, in their order. Raises a KeystoneError where it cannot be read."""
    if (whole := _volume(image, 0, image.size)) is not None:
        return (whole,)
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
        if offset > 0 and room > 0 and (volume := _volume(image, offset, room)) is not None:
            found.append(volume)
    return tuple(found)


def _volume(image: SizedReadable, offset: int, size: int) -> InsideVolume | None:
    if size < _SMALLEST:
        return None
    if (kind := kind_at(image, offset, size)) is not None:
        return InsideVolume(kind.name, offset, size)
    if container_size(image, offset, size):
        return InsideVolume(APFS, offset, size)
    known = known_volume(image, offset, size)
    return InsideVolume("", offset, size, known) if known is not None and known.instead else None
