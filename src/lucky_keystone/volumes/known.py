"""Volumes that are known by their signatures and not read: named where they lie, and not taken for a faulty FAT32.

The description of each format is named beside it. Volumes of the system's own tools were tried for ext and swap only.
"""

from __future__ import annotations

from msgspec import Struct

from ..common.errors import KeystoneError
from ..content.contents import Readable, SizedReadable


class KnownVolume(Struct, frozen=True):
    """A kind of volume with a name and no reader."""

    shown: str
    at: int
    """Byte of the volume."""
    magic: bytes
    instead: str = ""
    """What to do with a disk image that holds one; '' where such an image is reported as holding nothing known."""


_SECTOR = 512
ON_A_MAC = "Open it on a Mac, and copy the installer app out of it onto a stick or into a zip file."
KNOWN: tuple[KnownVolume, ...] = (
    KnownVolume("BitLocker", 3, b"-FVE-FS-"),  # libbde, "Volume header"
    KnownVolume("ReFS", 3, b"ReFS\0\0\0\0"),  # libfsrefs, "Volume header"
    KnownVolume("LUKS", 0, b"LUKS\xba\xbe"),  # LUKS on-disk format specification, table 1
    KnownVolume("LVM", 512, b"LABELONE"),  # lvm2, label_header
    KnownVolume("LVM", 0, b"LABELONE"),
    KnownVolume("XFS", 0, b"XFSB"),  # XFS algorithms and data structures, "Superblocks"
    KnownVolume("squashfs", 0, b"hsqs"),  # the kernel's documentation, filesystems/squashfs
    KnownVolume(  # Apple File System Reference, nx_superblock_t
        "APFS",
        32,
        b"NXSB",
        ON_A_MAC,
    ),
    KnownVolume("Core Storage", 88, b"CS"),  # libfvde, "Volume header"
    KnownVolume("ext2, ext3 or ext4", 1024 + 56, b"\x53\xef"),  # the kernel's documentation, ext4, "Super Block"
    KnownVolume("F2FS", 1024, b"\x10\x20\xf5\xf2"),  # the kernel's documentation, filesystems/f2fs
    KnownVolume("HFS", 1024, b"BD"),  # Inside Macintosh: Files, "Master Directory Blocks"
    KnownVolume("member of a RAID", 4096, b"\xfc\x4e\x2b\xa9"),  # md(4), version 1.2
    KnownVolume("member of a RAID", 0, b"\xfc\x4e\x2b\xa9"),  # version 1.1
    KnownVolume("Linux swap", 4086, b"SWAPSPACE2"),  # mkswap(8), pages of 4 KiB
    KnownVolume("ISO 9660", 32_769, b"CD001"),  # ECMA-119, 8.1
    KnownVolume("UDF", 32_769, b"BEA01"),  # ECMA-167, 2/9.2
    KnownVolume("btrfs", 0x10000 + 64, b"_BHRfS_M"),  # the kernel's documentation, btrfs on-disk format
)
DISC = "ISO 9660"
_BLOCK, _DESCRIPTOR, _BLOCKS = 2048, 16 * 2048, 80  # ECMA-119, 8.4.8: Volume Space Size


def disc_size(drive: SizedReadable) -> int:
    """Return how many bytes of a drive are a disc image that was written as it is; 0 where there is none."""
    if known_at(drive, 0, drive.size) != DISC:
        return 0
    blocks = int.from_bytes(drive.read_at(_DESCRIPTOR + _BLOCKS, 4), "little")
    return min(blocks * _BLOCK, drive.size)


def known_at(drive: Readable, offset: int, size: int) -> str:
    """Return the name of what lies at byte `offset`, '' for anything else. Never raises."""
    found = known_volume(drive, offset, size)
    return found.shown if found is not None else ""


def known_volume(drive: Readable, offset: int, size: int) -> KnownVolume | None:
    """Return what lies at byte `offset`, None for anything else. Never raises."""
    sectors: dict[int, bytes] = {}
    for known in KNOWN:
        start = known.at // _SECTOR * _SECTOR
        if start + _SECTOR > size:
            continue
        if start not in sectors:
            try:
                sectors[start] = drive.read_at(offset + start, _SECTOR)
            except KeystoneError:
                sectors[start] = b""
        sector = sectors[start]
        if sector[known.at - start :].startswith(known.magic):
            return known
    return None
