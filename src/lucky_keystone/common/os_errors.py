"""What an error of an operating system means to whoever reads or writes, on every system.

Windows' own number is asked first: the C runtime makes EACCES of a checksum error, and EINVAL of a device that fails.
"""

from __future__ import annotations

import errno
from enum import Enum, auto

from ..winapi import errors as windows


class Trouble(Enum):
    """What an error of the system means."""

    GONE = auto()
    """The device is no longer there."""
    NO_MEDIUM = auto()
    """Nothing is in the drive, or something else than before."""
    PASSING = auto()
    """A place of the medium was not read or written: it may work when it is tried again."""
    DENIED = auto()
    """The system does not let this user do it."""
    IN_USE = auto()
    """Another program has it."""
    FULL = auto()
    """No space is left."""
    OTHER = auto()


def _numbers(*names: str) -> frozenset[int]:
    return frozenset(getattr(errno, name) for name in names if hasattr(errno, name))


_BY_ERRNO = {
    Trouble.GONE: _numbers("ENODEV", "ENXIO", "ESHUTDOWN"),
    Trouble.NO_MEDIUM: _numbers("ENOMEDIUM"),
    Trouble.PASSING: _numbers("EIO", "EAGAIN", "ETIMEDOUT", "EINTR", "EBUSY", "EREMOTEIO", "EILSEQ"),
    Trouble.DENIED: _numbers("EACCES", "EPERM"),
    Trouble.FULL: _numbers("ENOSPC", "EDQUOT", "EFBIG"),
}
_BY_WINERROR = {
    Trouble.GONE: frozenset(
        (windows.DEV_NOT_EXIST, windows.NO_SUCH_DEVICE, windows.DEVICE_NOT_CONNECTED, windows.DEVICE_REMOVED)
    ),
    Trouble.NO_MEDIUM: frozenset((windows.NOT_READY, windows.NO_MEDIA_IN_DRIVE, windows.MEDIA_CHANGED)),
    Trouble.PASSING: frozenset(
        (windows.CRC, windows.SECTOR_NOT_FOUND, windows.IO_DEVICE, windows.SEM_TIMEOUT, windows.BUSY)
    ),
    Trouble.DENIED: frozenset((windows.ACCESS_DENIED,)),
    Trouble.IN_USE: frozenset((windows.SHARING_VIOLATION, windows.LOCK_VIOLATION)),
    Trouble.FULL: frozenset((windows.DISK_FULL, windows.HANDLE_DISK_FULL)),
}


def trouble(error: OSError) -> Trouble:
    """Return what `error` means."""
    number = getattr(error, "winerror", None)
    table, key = (_BY_ERRNO, error.errno) if number is None else (_BY_WINERROR, number)
    return next((kind for kind, numbers in table.items() if key in numbers), Trouble.OTHER)
