"""Discs in optical drives: whether one is there, and waiting for a drive that spins up."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from enum import Enum
from pathlib import Path

from ..common.errors import SourceError

# <linux/cdrom.h>
_SELECT_SPEED, _DRIVE_STATUS = 0x5322, 0x5326
_NO_DISC, _TRAY_OPEN, _NOT_READY, _DISC_OK = 1, 2, 3, 4
_SPIN_UP = 15.0
"""Seconds that a drive may take to be ready."""
_GENTLE = 4
"""Speed (times that of a CD) at which a scratched disc is read."""


class DiscState(Enum):
    """What an optical drive says of its disc, in words."""

    DISC = "a disc"
    NONE = "no disc"
    OPEN = "tray open"
    BUSY = "not ready"
    UNKNOWN = "not known"


_STATES = {
    _NO_DISC: DiscState.NONE,
    _TRAY_OPEN: DiscState.OPEN,
    _NOT_READY: DiscState.BUSY,
    _DISC_OK: DiscState.DISC,
}


def disc_state(path: Path) -> DiscState:
    """Return what the optical drive at a device says; UNKNOWN for any other device, and where it cannot be asked."""
    return _STATES.get(_ask(path, _DRIVE_STATUS, 0), DiscState.UNKNOWN)


def read_gently(path: Path) -> None:
    """Have an optical drive turn slower, where it can."""
    _ask(path, _SELECT_SPEED, _GENTLE)


def wait_for_disc(
    path: Path,
    state: Callable[[Path], DiscState] = disc_state,
    clock: Callable[[], float] = time.monotonic,
    sleep: Callable[[float], None] = time.sleep,
) -> None:
    """Return when the disc in an optical drive can be read; at once for any other device.

    Raises SourceError where there is none, or the drive does not become ready.
    """
    until = clock() + _SPIN_UP
    while True:
        found = state(path)
        if found is DiscState.NONE:
            raise no_disc(path)
        if found is DiscState.OPEN:
            raise SourceError(f"The tray of {path} is open.", advice="Close it, and run the command again.")
        if found is not DiscState.BUSY:
            return
        if clock() >= until:
            raise SourceError(
                f"The drive {path} is not ready after {_SPIN_UP:.0f} seconds.",
                advice="Take the disc out, look whether it is clean, put it in again, and run the command again.",
            )
        sleep(1.0)


def no_disc(path: Path) -> SourceError:
    """Return the error for a drive with nothing in it."""
    return SourceError(f"There is no disc in {path}.", advice="Put the disc in, and run the command again.")


def _ask(path: Path, request: int, argument: int) -> int:
    """Ask a device without waiting for its disc; -1 where it has no answer."""
    if not sys.platform.startswith("linux"):
        return -1
    import fcntl

    with suppress(OSError):
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        try:
            return fcntl.ioctl(descriptor, request, argument)
        finally:
            os.close(descriptor)
    return -1
