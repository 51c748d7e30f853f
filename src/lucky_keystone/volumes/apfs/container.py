"""An APFS container: the newest checkpoint that is whole, the object map, the volumes."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from functools import cached_property

from msgspec import Struct

from ...common.record import RecordError
from ...content.contents import Readable
from ..volume import UnreadVolume, VolumeError
from .records import (
    BLOCK,
    CHECKPOINT_MAP,
    CONTAINER,
    DELETED,
    ENCRYPTED,
    EPHEMERAL,
    FUSION,
    HEADLESS,
    HOW_MASK,
    KIND_MASK,
    MOST_VOLUMES,
    NODE,
    NOT_CONTIGUOUS,
    OBJECT_MAP,
    TREE,
    VERSION_2,
    VOLUME,
    CheckpointMapHead,
    CheckpointMapping,
    ContainerSuperblock,
    NodeHead,
    ObjectHead,
    ObjectMap,
    VolumeSuperblock,
    checksum,
)
from .tree import Tree

MAGIC, _VOLUME_MAGIC = b"NXSB", b"APSB"
_MOST_DESCRIPTORS = 1 << 16
_LARGEST_EPHEMERAL = 64 << 20
_KEPT = 256
_ONE_DEVICE = bytes(16)


class Mapped(Struct, frozen=True):
    """What an object map says of an object."""

    block: int
    headless: bool
    """It has no head of its own, and no checksum."""


class Container:
    """A container that starts at byte `offset` of `drive` and may reach to `offset + size`."""

    def __init__(self, drive: Readable, offset: int, size: int) -> None:
        """Raises VolumeError for what is not a readable container."""
        self._drive, self.offset, self.size = drive, offset, size
        self._kept: OrderedDict[int, bytes] = OrderedDict()
        if size < BLOCK:
            raise VolumeError(f"The place at byte {offset:,} has {size:,} bytes: no container of APFS fits.")
        first = ContainerSuperblock.unpack(drive.read_at(offset, BLOCK))
        if first.nx_magic != MAGIC:
            raise VolumeError(f"Byte {offset + 32:,}: no container of APFS begins here.")
        _refuse_what_is_not_read(first)
        self.block_count = min(first.nx_block_count, size // BLOCK)
        self.superblock = self._newest(first)
        _refuse_what_is_not_read(self.superblock)
        self.xid = ObjectHead.unpack(self.superblock.head).o_xid

    # -- blocks ------------------------------------------------------------------------------------------------------

    def block_offset(self, block: int) -> int:
        """Byte of the drive at which a block lies."""
        return self.offset + block * BLOCK

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive."""
        return self._drive.read_at(offset, size)

    def block(self, number: int) -> bytes:
        """Return a block. Raises VolumeError for one outside of the container."""
        if not 0 <= number < self.block_count:
            raise VolumeError(f"Block {number:,} is outside of the container, which has {self.block_count:,}.")
        kept = self._kept.get(number)
        if kept is None:
            kept = self._drive.read_at(self.block_offset(number), BLOCK)
            self._kept[number] = kept
            if len(self._kept) > _KEPT:
                self._kept.popitem(last=False)
        return kept

    def object_at(self, number: int, kinds: tuple[int, ...], what: str, oid: int | None = None) -> bytes:
        """Return the object in a block, its checksum, kind and number compared. Raises VolumeError."""
        block = self.block(number)
        head = ObjectHead.unpack(block)
        if head.o_cksum != checksum(block):
            raise VolumeError(f"{what}, block {number:,}: it does not match its checksum.")
        if head.o_type & KIND_MASK not in kinds:
            raise VolumeError(f"{what}, block {number:,}: there is an object of kind {head.o_type & KIND_MASK:X}h.")
        if oid is not None and head.o_oid != oid:
            raise VolumeError(f"{what}, block {number:,}: there is object {head.o_oid:,}, not {oid:,}.")
        return block

    # -- checkpoints -------------------------------------------------------------------------------------------------

    def _newest(self, first: ContainerSuperblock) -> ContainerSuperblock:
        """Return the newest superblock whose checkpoint is whole. Block 0 says only where they are: it may be old."""
        base, count = first.nx_xp_desc_base, first.nx_xp_desc_blocks
        if count & NOT_CONTIGUOUS:
            raise UnreadVolume("Its checkpoints lie scattered (their area is a tree), which is not supported.")
        if not 0 < count <= _MOST_DESCRIPTORS or not 0 < base <= self.block_count - count:
            raise VolumeError(f"Block 0: {count:,} blocks of checkpoints from block {base:,} on are invalid.")
        found: list[tuple[int, ContainerSuperblock]] = []
        for number in range(base, base + count):
            block = self._drive.read_at(self.block_offset(number), BLOCK)
            head = ObjectHead.unpack(block)
            if head.o_type & KIND_MASK != CONTAINER or head.o_cksum != checksum(block):
                continue
            superblock = ContainerSuperblock.unpack(block)
            if superblock.nx_magic == MAGIC:
                found.append((head.o_xid, superblock))
        for _, superblock in sorted(found, key=lambda each: each[0], reverse=True):
            if self._is_whole(superblock, base, count):
                return superblock
        raise VolumeError("None of its checkpoints is whole: it was damaged, or not written to its end.")

    def _is_whole(self, superblock: ContainerSuperblock, base: int, count: int) -> bool:
        """Tell whether a checkpoint's maps, and all objects that they name, match their checksums."""
        index, length = superblock.nx_xp_desc_index, superblock.nx_xp_desc_len
        xid = ObjectHead.unpack(superblock.head).o_xid
        if not 1 < length <= count or index >= count or superblock.nx_block_size != BLOCK:
            return False
        seen_last = False
        for number in range(index, index + length):
            block = self.block(base + number % count)
            head = ObjectHead.unpack(block)
            if head.o_cksum != checksum(block) or head.o_xid != xid:
                return False
            if head.o_type & KIND_MASK == CONTAINER:
                continue
            if head.o_type & KIND_MASK != CHECKPOINT_MAP or not self._holds(block):
                return False
            seen_last |= bool(CheckpointMapHead.unpack(block, ObjectHead.SIZE).cpm_flags & 1)
        return seen_last

    def _holds(self, block: bytes) -> bool:
        """Tell whether the ephemeral objects of a checkpoint map match their checksums."""
        start = ObjectHead.SIZE + CheckpointMapHead.SIZE
        count = CheckpointMapHead.unpack(block, ObjectHead.SIZE).cpm_count
        if start + count * CheckpointMapping.SIZE > BLOCK:
            return False
        for number in range(count):
            mapping = CheckpointMapping.unpack(block, start + number * CheckpointMapping.SIZE)
            blocks = mapping.cpm_size // BLOCK
            whole = 0 < mapping.cpm_size <= _LARGEST_EPHEMERAL and mapping.cpm_size % BLOCK == 0
            if not whole or not 0 < mapping.cpm_paddr <= self.block_count - blocks:
                return False
            data = self._drive.read_at(self.block_offset(mapping.cpm_paddr), mapping.cpm_size)
            head = ObjectHead.unpack(data)
            is_it = head.o_oid == mapping.cpm_oid and head.o_type & HOW_MASK == EPHEMERAL
            if not is_it or head.o_cksum != checksum(data):
                return False
        return True

    # -- objects -----------------------------------------------------------------------------------------------------

    @cached_property
    def _map(self) -> MapOfObjects:
        return MapOfObjects(self, self.superblock.nx_omap_oid, "The container's object map")

    def volume_numbers(self) -> Iterator[int]:
        """Yield the numbers of the volumes that it has."""
        numbers = self.superblock.nx_fs_oid
        for at in range(0, 8 * min(self.superblock.nx_max_file_systems, MOST_VOLUMES), 8):
            if oid := int.from_bytes(numbers[at : at + 8], "little"):
                yield oid

    def volume(self, oid: int) -> VolumeSuperblock:
        """Return the superblock of a volume. Raises VolumeError where it is missing or damaged."""
        mapped = self._map.find(oid, self.xid)
        if mapped is None:
            raise VolumeError(f"Volume {oid:,}: the container's object map does not have it.")
        return self.volume_at(mapped.block, oid)

    def volume_at(self, block: int, oid: int | None = None) -> VolumeSuperblock:
        """Return the superblock of a volume, or of a snapshot of one."""
        superblock = VolumeSuperblock.unpack(self.object_at(block, (VOLUME,), "A volume's superblock", oid))
        if superblock.apfs_magic != _VOLUME_MAGIC:
            raise VolumeError(f"A volume's superblock, block {block:,}: it does not begin as one.")
        return superblock

    def physical_node(self, what: str, number: int) -> bytes:
        """Return a node that is known by its block."""
        block = self.block(number)
        if NodeHead.unpack(block, ObjectHead.SIZE).btn_flags & HEADLESS:
            return block
        return self.object_at(number, (TREE, NODE), what, number)


class MapOfObjects:
    """An object map ("Object Maps"): where virtual objects are, as of a transaction."""

    def __init__(self, container: Container, block: int, what: str) -> None:
        self._what = what
        head = ObjectMap.unpack(container.object_at(block, (OBJECT_MAP,), what), ObjectHead.SIZE)
        self._tree = Tree(what, head.om_tree_oid, lambda number: container.physical_node(what, number), _key)

    def find(self, oid: int, xid: int) -> Mapped | None:
        """Return where an object is as of transaction `xid`: by its newest entry up to then. None: nowhere."""
        found = self._tree.last_up_to((oid, xid))
        if found is None or found[0][0] != oid:
            return None
        value = found[1]
        if value is None or len(value) < 16:
            raise VolumeError(f"{self._what}: what it says of object {oid:,} is cut.")
        flags = int.from_bytes(value[:4], "little")
        if flags & DELETED:
            return None
        if flags & ENCRYPTED:
            raise UnreadVolume(f"Object {oid:,} is encrypted, which is not supported.")
        if int.from_bytes(value[4:8], "little") != BLOCK:
            raise VolumeError(f"{self._what}: object {oid:,} has an invalid size.")
        return Mapped(int.from_bytes(value[8:16], "little"), bool(flags & 8))


def _key(data: bytes) -> tuple[int, int]:
    return int.from_bytes(data[:8], "little"), int.from_bytes(data[8:16], "little")


def _refuse_what_is_not_read(superblock: ContainerSuperblock) -> None:
    if superblock.nx_block_size != BLOCK:
        raise UnreadVolume(
            f"Its blocks have {superblock.nx_block_size:,} bytes, which is not supported (only {BLOCK:,})."
        )
    features = superblock.nx_incompatible_features
    if features & FUSION or superblock.nx_fusion_uuid != _ONE_DEVICE:
        raise UnreadVolume("It is a part of a Fusion drive, whose other part holds what is missing here.")
    if not features & VERSION_2:
        raise UnreadVolume("It is of the first, unpublished version of APFS, which is not supported.")
    if unknown := features & ~(VERSION_2 | FUSION):
        raise UnreadVolume(f"It needs unknown features ({unknown:X}h).")


def container_size(drive: Readable, offset: int, size: int) -> int:
    """Return the bytes of the container at byte `offset`, 0 where none is. Never raises for its contents."""
    if size < BLOCK:
        return 0
    try:
        superblock = ContainerSuperblock.unpack(drive.read_at(offset, ContainerSuperblock.SIZE))
    except RecordError:
        return 0
    return superblock.nx_block_count * superblock.nx_block_size if superblock.nx_magic == MAGIC else 0
