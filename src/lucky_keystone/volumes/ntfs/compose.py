"""Composes an NTFS volume from a layout: pure, metadata only, every byte written once and in rising order."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby
from operator import itemgetter

from ...common.collecting import without_collections
from ...content.contents import Content, Generated, Literal, Zeros
from ...content.extents import Extent
from ...content.regions import Region, RegionKind, region
from ..placing import file_regions
from ..volume import stored_hidden
from .geometry import shift_or_count
from .layout import Layout, PlacedIndex
from .mft import Records
from .records import (
    BITMAP,
    BITMAP_FILE,
    BOOT,
    BOOT_FILE_SIZE,
    DATA,
    FIRST_FREE,
    INDEX_ALLOCATION,
    INDEX_BLOCK_SIZE,
    LOG_FILE,
    MFT,
    MFT_MIRROR,
    QUOTA,
    BootSector,
)
from .system import bitmap, clean_log

_KINDS = {
    BOOT: RegionKind.BOOT,
    MFT: RegionKind.MFT,
    MFT_MIRROR: RegionKind.MFT,
    LOG_FILE: RegionKind.LOG,
    BITMAP_FILE: RegionKind.BITMAP,
}
_RECORDS_AT_ONCE = 256


@without_collections()
def compose(layout: Layout, *, serial: int, boot_sector: bytes, further_code: bytes) -> list[Region]:
    """Return the volume's regions at their offsets on the drive.

    Boot, mft, log, bitmap, folders, files, and the boot sector's copy.

    `boot_sector` gives jump and code (its BPB is replaced), `further_code` goes behind it in $Boot.
    """
    geometry = layout.geometry
    start = geometry.hidden * geometry.sector_size
    records = Records(layout)
    boot = boot_sector_of(layout, serial, boot_sector)
    if len(boot) + len(further_code) > BOOT_FILE_SIZE:
        raise ValueError(f"{len(further_code)} bytes of boot code do not fit $Boot")
    extents: list[tuple[RegionKind, Extent]] = []
    for placed in layout.indexes:
        kind = _KINDS.get(placed.node.number, RegionKind.FOLDERS)
        offset = start + geometry.cluster_offset(placed.cluster)
        content = _content(layout, records, placed, boot + further_code)
        slack = placed.count * geometry.cluster_size - content.size
        extents += [(kind, Extent(offset, content)), (kind, Extent(offset + content.size, Zeros(slack)))]
    regions = [region(kind, (extent for _, extent in group)) for kind, group in groupby(extents, itemgetter(0))]
    size = geometry.cluster_size
    files = sorted(layout.files, key=lambda placed: placed.cluster)
    regions += file_regions((start + placed.cluster * size, placed.count * size, placed.content) for placed in files)
    last = start + (geometry.total - 1) * geometry.sector_size
    regions.append(region(RegionKind.BOOTCOPY, [Extent(last, Literal(boot.ljust(geometry.sector_size, b"\0")))]))
    return regions


def boot_sector_of(layout: Layout, serial: int, code: bytes) -> bytes:
    """Return the volume's boot sector, 512 bytes, with jump and code of `code`."""
    geometry, given = layout.geometry, BootSector.unpack(code)
    cluster_of = {placed.node.number: placed.cluster for placed in layout.indexes if placed.attribute.kind == DATA}
    return BootSector(
        jump=given.jump,
        bytes_per_sector=geometry.sector_size,
        sectors_per_cluster=geometry.sectors_per_cluster,
        hidden_sectors=stored_hidden(geometry.hidden),
        total_sectors=geometry.total - 1,
        mft_cluster=cluster_of[MFT],
        mft_mirror_cluster=cluster_of[MFT_MIRROR],
        clusters_per_record=shift_or_count(geometry.record_size, geometry.cluster_size),
        clusters_per_index_block=shift_or_count(INDEX_BLOCK_SIZE, geometry.cluster_size),
        serial=serial,
        code=given.code,
    ).pack()


def _content(layout: Layout, records: Records, placed: PlacedIndex, boot: bytes) -> Content:
    """Return the bytes of one of the volume's own streams or of an index."""
    number, attribute = placed.node.number, placed.attribute
    geometry = layout.geometry
    size = attribute.size
    if attribute.kind == INDEX_ALLOCATION:
        return Generated(size, lambda: records.blocks(placed.node, attribute))
    if number == MFT and attribute.kind == BITMAP:
        return bitmap(layout.record_count, [(0, FIRST_FREE), (QUOTA, layout.catalogue.next_number)])
    if number == MFT:
        return Generated(size, lambda: _records(records, layout.record_count))
    if number == MFT_MIRROR:
        return Generated(size, lambda: _records(records, geometry.mirrored_records))
    if number == LOG_FILE:
        return clean_log(size)
    if number == BITMAP_FILE:
        return bitmap(geometry.cluster_count, layout.used())
    if number == BOOT:
        return Literal(boot.ljust(size, b"\0"))
    assert attribute.content is not None
    return attribute.content


def _records(records: Records, count: int) -> Iterator[bytes]:
    for first in range(0, count, _RECORDS_AT_ONCE):
        yield b"".join([records.record(number) for number in range(first, min(first + _RECORDS_AT_ONCE, count))])
