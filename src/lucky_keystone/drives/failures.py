"""Turns what an operating system says of a failing drive into one of our errors, in one place.

DriveGone    it is no longer there: plug it in, and the same command continues
Transient    it may work when tried again: `retrying` does so
DriveError   trying again would not help
ProtectError, NoRights are raised where a drive is opened
"""

from __future__ import annotations

import errno
from collections.abc import Iterator
from contextlib import contextmanager

from ..errors import DriveError, DriveGone, Transient

_GONE = {errno.ENODEV, errno.ENXIO, errno.ESHUTDOWN, getattr(errno, "ENOMEDIUM", -1), errno.EBADF}
_PASSING = {
    errno.EIO,
    errno.EAGAIN,
    errno.ETIMEDOUT,
    errno.EINTR,
    errno.EBUSY,
    getattr(errno, "EREMOTEIO", -1),
    getattr(errno, "EILSEQ", -1),
}
# Windows: not ready, device not connected, no such device, no media; CRC, sector not found, I/O device error, semaphore
# timeout
_GONE_ON_WINDOWS = {21, 1167, 433, 1112, 55}
_PASSING_ON_WINDOWS = {23, 27, 1117, 121, 170}

_ADVICE = {
    DriveGone: "Plug it in again.",
    Transient: "Try another port or cable; if it fails again at the same place, the drive is worn out.",
}


def failure(error: OSError, place: str, *, advice: str = "") -> DriveError:
    """Return the error of ours for what the system said about `place` (which names drive, action and offset)."""
    number = getattr(error, "winerror", None)
    if number is not None:
        kind = DriveGone if number in _GONE_ON_WINDOWS else Transient if number in _PASSING_ON_WINDOWS else DriveError
    else:
        kind = DriveGone if error.errno in _GONE else Transient if error.errno in _PASSING else DriveError
    return kind(f"{place}: {error.strerror or error}.", advice=_ADVICE.get(kind, advice))


@contextmanager
def doing(place: str, *, advice: str = "") -> Iterator[None]:
    """Turn an operating-system error met inside the block into ours."""
    try:
        yield
    except OSError as error:
        raise failure(error, place, advice=advice) from error
