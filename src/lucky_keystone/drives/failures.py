"""Turns what an operating system says of a failing drive into one of our errors, in one place.

DriveGone    it is no longer there: plug it in, and the same command continues
Transient    it may work when tried again: `retrying` does so
DriveError   trying again would not help
ProtectError, NoRights are raised where a drive is opened
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from ..common.errors import DriveError, DriveGone, Transient
from ..common.os_errors import Trouble, trouble

_KINDS = {Trouble.GONE: DriveGone, Trouble.NO_MEDIUM: DriveGone, Trouble.PASSING: Transient}

_ADVICE = {
    DriveGone: "Plug it in again.",
    Transient: "Try another port or cable; if it fails again at the same place, the drive is worn out.",
}


def failure(error: OSError, place: str, *, advice: str = "") -> DriveError:
    """Return the error of ours for what the system said about `place` (which names drive, action and offset)."""
    kind = _KINDS.get(trouble(error), DriveError)
    return kind(f"{place}: {error.strerror or error}.", advice=_ADVICE.get(kind, advice))


@contextmanager
def doing(place: str, *, advice: str = "") -> Iterator[None]:
    """Turn an operating-system error met inside the block into ours."""
    try:
        yield
    except OSError as error:
        raise failure(error, place, advice=advice) from error
