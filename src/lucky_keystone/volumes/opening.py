"""Opens whichever volume starts at a place of a drive."""

from __future__ import annotations

from .fat32.read import Fat32Volume
from .ntfs.read import NtfsVolume
from .volume import Readable

AnyVolume = Fat32Volume | NtfsVolume


def open_volume(drive: Readable, offset: int, size: int) -> AnyVolume:
    """Return the volume at byte `offset`, which may have `size` bytes.

    Raises VolumeError when none can be read there.
    """
    if size >= 512 and drive.read_at(offset + 3, 8) == b"NTFS    ":
        return NtfsVolume(drive, offset, size)
    return Fat32Volume(drive, offset, size)
