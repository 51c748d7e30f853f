"""The boot records as assembled from `firmware/`, ready to be composed into a drive."""

from __future__ import annotations

from functools import cache
from importlib.resources import files

from msgspec import Struct

_BIOS_SECTOR = 512  # boot code counts in these, whatever the drive's sectors


@cache
def _asset(name: str) -> bytes:
    return (files(__package__) / "assets" / name).read_bytes()


class BootRecord(Struct, frozen=True):
    """Our boot record for one file system: a first sector, and further code that it loads."""

    name: str
    code_from: int
    """Byte of the first sector where code begins, behind jump and BPB."""
    further_sector: int
    """Sector of 512 bytes, from the volume's start, where the further code lies."""
    mark: bytes
    """First bytes of the further code."""

    @property
    def first_sector(self) -> bytes:
        """512 bytes; the BPB is empty."""
        return _asset(f"{self.name}.bin")[:_BIOS_SECTOR]

    @property
    def further_code(self) -> bytes:
        """Whole sectors of 512 bytes."""
        return _asset(f"{self.name}.bin")[_BIOS_SECTOR:]

    @property
    def further_offset(self) -> int:
        """Bytes from the volume's start to the further code."""
        return self.further_sector * _BIOS_SECTOR

    def code_of(self, sector: bytes) -> bytes:
        """Return the code within a boot sector of this file system, whoever wrote it."""
        return sector[self.code_from : 510]

    def is_ours(self, sector: bytes) -> bool:
        """True for a boot sector with our code, whatever its BPB says."""
        return self.code_of(sector) == self.code_of(self.first_sector)


FAT32_RECORD = BootRecord("fat32", 90, 12, b"LKF1")
NTFS_RECORD = BootRecord("ntfs", 0x54, 1, b"LKN1")


def mbr_code() -> bytes:
    """The MBR record's code: up to 440 bytes."""
    return _asset("mbr.bin")


def crossing(architecture: str) -> bytes:
    """Our UEFI helper for 'x64', 'x86' or 'arm64'."""
    return _asset(f"crossing-{architecture}.efi")
