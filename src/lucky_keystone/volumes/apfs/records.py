"""Structures of APFS as in the vendor's "Apple File System Reference", whose chapters are cited. Little-endian."""

from __future__ import annotations

from itertools import accumulate
from struct import unpack_from

from ...common.record import Record, raw, record, u16, u32, u64

BLOCK = 4096
"""Bytes: the only size that is in use."""

# "Objects": the kinds of an object, in the low half of its type; and how its number is to be read.
CONTAINER, TREE, NODE, OBJECT_MAP, CHECKPOINT_MAP, VOLUME = 0x1, 0x2, 0x3, 0xB, 0xC, 0xD
KIND_MASK, HOW_MASK = 0xFFFF, 0xC000_0000
VIRTUAL, PHYSICAL, EPHEMERAL = 0, 0x4000_0000, 0x8000_0000

# "Container": of nx_incompatible_features.
VERSION_2, FUSION = 0x2, 0x100
MOST_VOLUMES = 100
NOT_CONTIGUOUS = 1 << 31
"""In the number of blocks of a checkpoint area: its base is a tree."""

# "B-Trees": flags of a node, and of a tree.
ROOT_NODE, LEAF, FIXED, HASHED, HEADLESS = 1, 2, 4, 8, 0x10
GHOST = 0xFFFF
"""In the place of a value's offset: there is none."""

# "Object Maps": flags of a value.
DELETED, ENCRYPTED = 1, 4

# "Volumes": of apfs_incompatible_features, apfs_fs_flags.
CASE_INSENSITIVE, DATALESS_SNAPSHOTS, ROLLED, NORMALISING, SEALED = 1, 2, 4, 8, 0x20
READ_FEATURES = CASE_INSENSITIVE | DATALESS_SNAPSHOTS | ROLLED | NORMALISING | SEALED
UNENCRYPTED = 1
ROLES = {
    0: "",
    1: "system",
    2: "user",
    4: "recovery",
    8: "VM",
    0x10: "preboot",
    0x20: "installer",
    0x40: "data",
    0x80: "baseband",
    0xC0: "update",
    0x100: "xART",
    0x140: "hardware",
    0x180: "backup",
    0x240: "enterprise",
    0x2C0: "prelogin",
}

# "File-System Objects": kinds of record, in the high four bits of a key's first number.
SNAPSHOT, INODE, ATTRIBUTE, EXTENT, ENTRY = 1, 3, 4, 8, 9
NUMBER_BITS = 60
ROOT_FOLDER = 2
LENGTH_BITS = (1 << 56) - 1
IS_STREAM, IS_EMBEDDED = 1, 2
IS_FOLDER, IS_FILE, IS_LINK = 4, 8, 10
DATALESS = 0x4000_0000
"""Of the BSD flags: the contents are elsewhere."""
FIELD_STREAM = 8
"""Extended field of an inode: its size."""
LINK_TARGET, FORK, FINDER_INFO = "com.apple.fs.symlink", "com.apple.ResourceFork", "com.apple.FinderInfo"

_MODULUS = 0xFFFF_FFFF


def checksum(block: bytes) -> int:
    """Return what the first eight bytes of an object are to be ("Objects", "o_cksum": Fletcher-64)."""
    words: tuple[int, ...] = unpack_from(f"<{len(block) // 4 - 2}I", block, 8)
    first, second = sum(words), sum(accumulate(words))
    low: int = _MODULUS - (first + second) % _MODULUS
    return low | (_MODULUS - (first + low) % _MODULUS) << 32


@record(size=32)
class ObjectHead(Record):
    """obj_phys_t."""

    o_cksum: int = u64(0, "of all bytes behind it")
    o_oid: int = u64(8, "the object's number")
    o_xid: int = u64(16, "number of the transaction that wrote it")
    o_type: int = u32(24, "kind, and how its number is to be read")
    o_subtype: int = u32(28, "of trees: what they hold")


@record(size=1408)
class ContainerSuperblock(Record):
    """nx_superblock_t, up to nx_newest_mounted_version."""

    head: bytes = raw(0, 32, "obj_phys_t")
    nx_magic: bytes = raw(32, 4, "'NXSB'")
    nx_block_size: int = u32(36, "bytes")
    nx_block_count: int = u64(40, "blocks of the container")
    nx_features: int = u64(48, "")
    nx_readonly_compatible_features: int = u64(56, "")
    nx_incompatible_features: int = u64(64, "what a reader must know")
    nx_uuid: bytes = raw(72, 16, "")
    nx_next_oid: int = u64(88, "")
    nx_next_xid: int = u64(96, "")
    nx_xp_desc_blocks: int = u32(104, "blocks of the checkpoint descriptor area")
    nx_xp_data_blocks: int = u32(108, "blocks of the checkpoint data area")
    nx_xp_desc_base: int = u64(112, "first block of it")
    nx_xp_data_base: int = u64(120, "first block of it")
    nx_xp_desc_next: int = u32(128, "")
    nx_xp_data_next: int = u32(132, "")
    nx_xp_desc_index: int = u32(136, "where this checkpoint begins in its area")
    nx_xp_desc_len: int = u32(140, "blocks that it has there")
    nx_xp_data_index: int = u32(144, "")
    nx_xp_data_len: int = u32(148, "")
    nx_spaceman_oid: int = u64(152, "ephemeral")
    nx_omap_oid: int = u64(160, "block of the container's object map")
    nx_reaper_oid: int = u64(168, "ephemeral")
    nx_test_type: int = u32(176, "")
    nx_max_file_systems: int = u32(180, "volumes that it may have")
    nx_fs_oid: bytes = raw(184, 800, "100 numbers of volumes, virtual; 0 for none")
    nx_counters: bytes = raw(984, 280, "blocked-out range, evict mapping and counters between")
    nx_flags: int = u64(1264, "")
    nx_efi_jumpstart: int = u64(1272, "")
    nx_fusion_uuid: bytes = raw(1280, 16, "zeros where there is one device alone")
    nx_keylocker: bytes = raw(1296, 16, "first block, blocks")
    nx_rest: bytes = raw(1312, 96, "")


@record(size=8)
class CheckpointMapHead(Record):
    """checkpoint_map_phys_t, behind its obj_phys_t."""

    cpm_flags: int = u32(0, "1: the last of a checkpoint")
    cpm_count: int = u32(4, "mappings behind it")


@record(size=40)
class CheckpointMapping(Record):
    """checkpoint_mapping_t: an ephemeral object."""

    cpm_type: int = u32(0, "")
    cpm_subtype: int = u32(4, "")
    cpm_size: int = u32(8, "bytes")
    cpm_pad: int = u32(12, "")
    cpm_fs_oid: int = u64(16, "")
    cpm_oid: int = u64(24, "")
    cpm_paddr: int = u64(32, "block")


@record(size=56)
class ObjectMap(Record):
    """omap_phys_t, behind its obj_phys_t, up to om_most_recent_snap and what follows."""

    om_flags: int = u32(0, "")
    om_snap_count: int = u32(4, "")
    om_tree_type: int = u32(8, "")
    om_snapshot_tree_type: int = u32(12, "")
    om_tree_oid: int = u64(16, "block of its tree")
    om_snapshot_tree_oid: int = u64(24, "")
    om_most_recent_snap: int = u64(32, "")
    om_pending_revert: bytes = raw(40, 16, "")


@record(size=24)
class NodeHead(Record):
    """btree_node_phys_t, behind its obj_phys_t."""

    btn_flags: int = u16(0, "")
    btn_level: int = u16(2, "0 of leaves")
    btn_nkeys: int = u32(4, "entries")
    table_offset: int = u16(8, "of the table of contents, from the end of this")
    table_length: int = u16(10, "bytes")
    btn_free_space: int = u32(12, "")
    btn_key_free_list: int = u32(16, "")
    btn_val_free_list: int = u32(20, "")


@record(size=40)
class TreeInfo(Record):
    """btree_info_t, at the end of a root node."""

    bt_flags: int = u32(0, "")
    bt_node_size: int = u32(4, "bytes")
    bt_key_size: int = u32(8, "bytes; 0 where they differ")
    bt_val_size: int = u32(12, "bytes; 0 where they differ")
    bt_longest_key: int = u32(16, "")
    bt_longest_val: int = u32(20, "")
    bt_key_count: int = u64(24, "")
    bt_node_count: int = u64(32, "")


@record(size=1056)
class VolumeSuperblock(Record):
    """apfs_superblock_t, up to fext_tree_type and what follows."""

    head: bytes = raw(0, 32, "obj_phys_t")
    apfs_magic: bytes = raw(32, 4, "'APSB'")
    apfs_fs_index: int = u32(36, "")
    apfs_features: int = u64(40, "")
    apfs_readonly_compatible_features: int = u64(48, "")
    apfs_incompatible_features: int = u64(56, "what a reader must know")
    apfs_unmount_time: int = u64(64, "")
    apfs_blocks: bytes = raw(72, 24, "reserved, quota and allocated blocks")
    apfs_meta_crypto: bytes = raw(96, 20, "")
    apfs_root_tree_type: int = u32(116, "how the root tree's number is to be read")
    apfs_extentref_tree_type: int = u32(120, "")
    apfs_snap_meta_tree_type: int = u32(124, "")
    apfs_omap_oid: int = u64(128, "block of its object map; 0 in a snapshot's")
    apfs_root_tree_oid: int = u64(136, "")
    apfs_extentref_tree_oid: int = u64(144, "")
    apfs_snap_meta_tree_oid: int = u64(152, "block of the tree of snapshots")
    apfs_revert: bytes = raw(160, 16, "")
    apfs_next_obj_id: int = u64(176, "")
    apfs_num_files: int = u64(184, "")
    apfs_num_directories: int = u64(192, "")
    apfs_num_symlinks: int = u64(200, "")
    apfs_num_other_fsobjects: int = u64(208, "")
    apfs_num_snapshots: int = u64(216, "")
    apfs_total_blocks: bytes = raw(224, 16, "allocated and freed")
    apfs_vol_uuid: bytes = raw(240, 16, "")
    apfs_last_mod_time: int = u64(256, "")
    apfs_fs_flags: int = u64(264, "1: not encrypted")
    apfs_history: bytes = raw(272, 432, "by which program it was made and changed")
    apfs_volname: bytes = raw(704, 256, "UTF-8, ended by a zero byte")
    apfs_next_doc_id: int = u32(960, "")
    apfs_role: int = u16(964, "")
    reserved: int = u16(966, "")
    apfs_root_to_xid: int = u64(968, "snapshot that it is mounted from; 0: none")
    apfs_er_state_oid: bytes = raw(976, 32, "of encryption and of cloning")
    apfs_volume_group_id: bytes = raw(1008, 16, "")
    apfs_integrity_meta_oid: int = u64(1024, "")
    apfs_fext_tree_oid: int = u64(1032, "block of the tree of extents of a sealed volume")
    apfs_fext_tree_type: int = u32(1040, "")
    reserved_behind: bytes = raw(1044, 12, "")


@record(size=92)
class Inode(Record):
    """j_inode_val_t, up to its extended fields."""

    parent_id: int = u64(0, "")
    private_id: int = u64(8, "what its extents are filed under")
    create_time: int = u64(16, "nanoseconds since 1970, as are those that follow")
    mod_time: int = u64(24, "")
    change_time: int = u64(32, "")
    access_time: int = u64(40, "")
    internal_flags: int = u64(48, "")
    nchildren_or_nlink: int = u32(56, "entries of a folder, names of a file")
    default_protection_class: int = u32(60, "")
    write_generation_counter: int = u32(64, "")
    bsd_flags: int = u32(68, "")
    owner: int = u32(72, "")
    group: int = u32(76, "")
    mode: int = u16(80, "")
    pad1: int = u16(82, "")
    uncompressed_size: int = u64(84, "")


@record(size=40)
class Stream(Record):
    """j_dstream_t."""

    size: int = u64(0, "bytes")
    alloced_size: int = u64(8, "")
    default_crypto_id: int = u64(16, "")
    total_bytes_written: int = u64(24, "")
    total_bytes_read: int = u64(32, "")


@record(size=24)
class ExtentValue(Record):
    """j_file_extent_val_t."""

    len_and_flags: int = u64(0, "bytes, in the low 56 bits")
    phys_block_num: int = u64(8, "0: a hole")
    crypto_id: int = u64(16, "")


@record(size=18)
class EntryValue(Record):
    """j_drec_val_t, up to its extended fields."""

    file_id: int = u64(0, "")
    date_added: int = u64(8, "")
    flags: int = u16(16, "kind of what is named, in the low four bits")


@record(size=50)
class SnapshotValue(Record):
    """j_snap_metadata_val_t, up to its name."""

    extentref_tree_oid: int = u64(0, "")
    sblock_oid: int = u64(8, "block of the volume's superblock as it was")
    create_time: int = u64(16, "")
    change_time: int = u64(24, "")
    inum: int = u64(32, "")
    extentref_tree_type: int = u32(40, "")
    flags: int = u32(44, "")
    name_len: int = u16(48, "bytes, with the zero byte behind it")
