"""Writes a disc image with a UDF side (ECMA-167, UDF 1.02) and an ISO 9660 side that holds one read-me only.

Composed like a drive: extents, streamed once by the same writer.
"""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from msgspec import Struct

from ..building.stream import stream_regions
from ..common.progress import Progress
from ..content.contents import Literal, Zeros
from ..content.extents import Extent, align_up
from ..content.regions import Region, RegionKind, region
from ..content.tree import File, Folder
from ..drives.image_file import ImageFile
from ..sources import udf_records as udf
from ..sources.iso_records import FLAG_FOLDER, SECTOR, TERMINATOR, DirectoryRecord, VolumeDescriptor

_PARTITION = 257  # first sector of the UDF partition, right behind the anchor
_LONGEST_EXTENT = (1 << 30) - SECTOR  # ECMA-167 4/14.14.1.1: 30 bits of length, whole sectors
_README = b"The files of this disc are on its UDF side. This system can only read the ISO 9660 side.\r\n"
_ENTITY = b"\0*Lucky Keystone".ljust(32, b"\0")
_DOMAIN = (b"\0*OSTA UDF Compliant".ljust(24, b"\0") + b"\x02\x01\x03").ljust(32, b"\0")
_CHARSET = b"\0OSTA Compressed Unicode".ljust(64, b"\0")


def write_disc(path: Path, root: Folder, label: str, moment: datetime, progress: Progress) -> None:
    """Write the disc image of `root` to the new file `path`. Zeros stay unstored, so a sparse source costs little."""
    regions, size = _compose(root, label, moment)
    with ImageFile.make(path, size) as target:
        stream_regions(regions, target, progress, "making the disc")


class _Node(Struct):
    entry: File | Folder
    block: int  # of its file entry
    data_block: int = 0
    data: bytes = b""  # a folder's identifiers


def _compose(root: Folder, label: str, moment: datetime) -> tuple[list[Region], int]:
    entries: list[File | Folder] = [root, *(entry for _, entry in root.walk())]
    nodes = {id(entry): _Node(entry, 2 + number) for number, entry in enumerate(entries)}
    parents = {
        id(child): id(entry) for entry in entries if isinstance(entry, Folder) for child in entry.entries.values()
    }
    block = 2 + len(entries)
    for node in nodes.values():
        if isinstance(node.entry, Folder):
            node.data_block = block
            node.data = _identifiers(node.entry, nodes, nodes[parents.get(id(node.entry), id(root))].block, block)
            block += -(-len(node.data) // SECTOR)
    for node in nodes.values():
        if isinstance(node.entry, File):
            node.data_block = block
            block += -(-node.entry.size // SECTOR)
    sectors = align_up(_PARTITION + block + 1, 16)
    head = _descriptors(label, moment, nodes[id(root)].block, block, sectors)
    metadata = b"".join(_file_entry(node, moment) for node in nodes.values())
    folders = [node.data.ljust(align_up(len(node.data), SECTOR), b"\0") for node in nodes.values() if node.data]
    extents = [Extent(0, Literal(head + metadata + b"".join(folders)))]
    for node in nodes.values():
        if isinstance(node.entry, File) and node.entry.size:
            offset = (_PARTITION + node.data_block) * SECTOR
            slack = -node.entry.size % SECTOR
            extents += [Extent(offset, node.entry.content), Extent(offset + node.entry.size, Zeros(slack))]
    end = (_PARTITION + block) * SECTOR
    extents.append(Extent(end, Zeros((sectors - 1) * SECTOR - end)))
    extents.append(Extent((sectors - 1) * SECTOR, Literal(_anchor(sectors - 1))))
    return [region(RegionKind.FILES, extents)], sectors * SECTOR


# -- UDF -------------------------------------------------------------------------------------------------------------


def _descriptors(label: str, moment: datetime, root_block: int, blocks: int, sectors: int) -> bytes:
    """Return everything up to the file entries: sectors 0 to 256 of the disc and blocks 0 and 1 of the partition."""
    image = bytearray((_PARTITION + 2) * SECTOR)

    def place(sector: int, data: bytes) -> None:
        image[sector * SECTOR : sector * SECTOR + len(data)] = data

    for sector, data in enumerate(_iso_side(label, moment, sectors), 16):
        place(sector, data)
    for sector, name in ((18, b"BEA01"), (19, b"NSR02"), (20, b"TEA01")):  # ECMA-167 2/9.1, 3/9.1
        place(sector, b"\0" + name + b"\x01")
    for first in (32, 48):
        for number, data in enumerate(_volume_sequence(first, label, moment, blocks)):
            place(first + number, data)
    place(64, _integrity(moment, blocks))
    place(256, _anchor(256))
    place(_PARTITION, _file_set(label, moment, root_block))
    place(_PARTITION + 1, udf.with_tag(udf.TERMINATING, 1, bytes(512)))
    return bytes(image)


def _dstring(text: str, size: int) -> bytes:
    data = udf.compressed(text)
    return data.ljust(size - 1, b"\0") + bytes((len(data),))


def _volume_sequence(first: int, label: str, moment: datetime, blocks: int) -> list[bytes]:
    primary = bytearray(512)  # ECMA-167 3/10.1
    primary[24:56] = _dstring(label, 32)
    primary[56:64] = b"\x01\0\x01\0\x02\0\x02\0"
    primary[64:72] = b"\x01\0\0\0\x01\0\0\0"
    primary[72:200] = _dstring(f"{moment:%Y%m%d%H%M%S}00 {label}", 128)
    primary[200:264] = primary[264:328] = _CHARSET
    primary[376:388] = udf.timestamp(moment)
    primary[388:420] = _ENTITY
    implementation = bytearray(512)  # ECMA-167 3/10.4, UDF 2.2.7
    implementation[16:20] = (1).to_bytes(4, "little")
    implementation[20:52] = (b"\0*UDF LV Info".ljust(24, b"\0") + b"\x02\x01").ljust(32, b"\0")
    implementation[52:116] = _CHARSET
    implementation[116:244] = _dstring(label, 128)
    implementation[352:384] = _ENTITY
    partition = udf.PartitionDescriptor(
        tag=bytes(16),
        sequence=2,
        contents=b"\x02+NSR02".ljust(32, b"\0"),
        first_sector=_PARTITION,
        sector_count=blocks,
        implementation=_ENTITY,
    ).pack()
    volume = (
        udf.LogicalVolumeDescriptor(
            tag=bytes(16),
            sequence=3,
            charset=_CHARSET,
            identifier=_dstring(label, 128),
            domain=_DOMAIN,
            file_set=udf.LongAd(length=SECTOR, block=0).pack(),
            map_table_length=6,
            map_count=1,
            implementation=_ENTITY,
            integrity=udf.ShortAd(length=SECTOR, block=64).pack(),
        ).pack()
        + b"\x01\x06\x01\0\0\0"
    )
    unallocated = bytes(16) + (4).to_bytes(4, "little") + bytes(4)
    pieces = (
        (udf.PRIMARY, bytes(primary)),
        (udf.IMPLEMENTATION, bytes(implementation)),
        (udf.PARTITION, partition),
        (udf.LOGICAL_VOLUME, volume),
        (udf.UNALLOCATED, unallocated),
        (udf.TERMINATING, bytes(512)),
    )
    return [udf.with_tag(kind, first + number, data) for number, (kind, data) in enumerate(pieces)]


def _integrity(moment: datetime, blocks: int) -> bytes:
    """Logical volume integrity descriptor, ECMA-167 3/10.10: closed, nothing free."""
    body = udf.timestamp(moment) + (1).to_bytes(4, "little") + bytes(8) + (1 << 20).to_bytes(8, "little") + bytes(24)
    body += (1).to_bytes(4, "little") + (46).to_bytes(4, "little") + bytes(4) + blocks.to_bytes(4, "little")
    body += _ENTITY + bytes(8) + b"\x02\x01\x02\x01\x02\x01"
    return udf.with_tag(udf.INTEGRITY, 64, bytes(16) + body)


def _anchor(sector: int) -> bytes:
    extents = udf.ShortAd(length=16 * SECTOR, block=32).pack() + udf.ShortAd(length=16 * SECTOR, block=48).pack()
    return udf.with_tag(udf.ANCHOR, sector, (bytes(16) + extents).ljust(512, b"\0")).ljust(SECTOR, b"\0")


def _file_set(label: str, moment: datetime, root_block: int) -> bytes:
    return udf.with_tag(
        udf.FILE_SET,
        0,
        udf.FileSetDescriptor(
            tag=bytes(16),
            recorded=udf.timestamp(moment),
            volume_charset=_CHARSET,
            volume_identifier=_dstring(label, 128),
            charset=_CHARSET,
            identifier=_dstring(label, 32),
            root=udf.LongAd(length=SECTOR, block=root_block).pack(),
            domain=_DOMAIN,
        ).pack(),
    )


def _identifiers(folder: Folder, nodes: dict[int, _Node], parent_block: int, data_block: int) -> bytes:
    result = b""
    first = (b"", udf.FID_FOLDER | udf.FID_PARENT, parent_block)
    others = [
        (udf.compressed(name), udf.FID_FOLDER if isinstance(entry, Folder) else 0, nodes[id(entry)].block)
        for name, entry in folder.entries.items()
    ]
    for name, characteristics, block in [first, *others]:
        data = (
            udf.FileIdentifier(
                tag=bytes(16),
                characteristics=characteristics,
                name_length=len(name),
                icb=udf.LongAd(length=SECTOR, block=block).pack(),
            ).pack()
            + name
        )
        data = data.ljust(align_up(len(data), 4), b"\0")
        result += udf.with_tag(udf.FILE_IDENTIFIER, data_block + len(result) // SECTOR, data)
    return result


def _file_entry(node: _Node, moment: datetime) -> bytes:
    entry = node.entry
    size = len(node.data) if isinstance(entry, Folder) else entry.size
    descriptors = b"".join(
        udf.ShortAd(length=min(_LONGEST_EXTENT, size - start), block=node.data_block + start // SECTOR).pack()
        for start in range(0, size, _LONGEST_EXTENT)
    )
    stamp = udf.timestamp(entry.modified if isinstance(entry, File) else moment)
    data = (
        udf.FileEntry(
            tag=bytes(16),
            icb=udf.IcbTag(file_type=udf.TYPE_FOLDER if isinstance(entry, Folder) else udf.TYPE_FILE).pack(),
            length=size,
            blocks=-(-size // SECTOR),
            accessed=stamp,
            modified=stamp,
            changed=stamp,
            implementation=_ENTITY,
            unique_id=node.block + 14,
            descriptors_length=len(descriptors),
        ).pack()
        + descriptors
    )
    return udf.with_tag(udf.FILE_ENTRY, node.block, data).ljust(SECTOR, b"\0")


# -- ISO 9660 --------------------------------------------------------------------------------------------------------


def _iso_side(label: str, moment: datetime, sectors: int) -> list[bytes]:
    """Return sectors 16 and 17; the one folder, its path tables and the read-me lie in sectors 24 to 27."""
    stamp = bytes((moment.year - 1900, moment.month, moment.day, moment.hour, moment.minute, moment.second, 0))

    def entry(extent: int, size: int, flags: int, name: bytes) -> bytes:
        length = align_up(33 + len(name), 2)
        return DirectoryRecord(
            length=length,
            extent=extent,
            extent_be=extent,
            size=size,
            size_be=size,
            recorded=stamp,
            flags=flags,
            name_length=len(name),
        ).pack() + name.ljust(length - 33, b"\0")

    root = entry(24, SECTOR, FLAG_FOLDER, b"\0")
    folder = root + entry(24, SECTOR, FLAG_FOLDER, b"\1") + entry(27, len(_README), 0, b"README.TXT;1")
    primary = VolumeDescriptor(
        type=1,
        volume=label.upper().encode("ascii", "replace")[:32].ljust(32),
        sectors=sectors,
        sectors_be=sectors,
        path_table_size=10,
        path_table_size_be=10,
        path_table=25,
        path_table_be=26,
        root=root,
    ).pack()
    terminator = bytes((TERMINATOR,)) + b"CD001\x01"
    tables = [b"\x01\0" + (24).to_bytes(4, order) + (1).to_bytes(2, order) + b"\0\0" for order in ("little", "big")]
    blank = [b""] * 6
    return [primary, terminator, *blank, folder, *tables, _README]
