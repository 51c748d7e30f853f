"""Every error a user can meet, each with the exit code it ends the program with.

    KeystoneError
    ├── UsageError      2    the caller asked for something invalid
    │   └── NotYet      2    a reasonable request that this version does not support
    ├── ProtectError    3    refused, so that data on a drive stays unharmed
    │   └── NoRights    3    the system does not let this user do it
    ├── SourceError     4    what was given to build from cannot be used
    │   ├── TooFarInside 4   what was asked for is too far inside a compressed image
    │   ├── NoRoom      4    a volume has too little free space
    │   ├── DoesNotFit  4    the drive is too small; with what each part of it takes
    │   ├── UnreadableSource 4  a file of the source cannot be read any more (source_file)
    │   ├── LinkExpired 4    a server does not know the link any more (fetching)
    │   ├── VolumeError 4    not a volume, or a damaged one (volumes)
    │   │   └── UnreadVolume 4  it is sound, and has something that is not supported: encryption, say
    │   ├── HiveError   4    a hive is damaged, or has not what is looked for (hive)
    │   └── ChunkError  4    compressed bytes that cannot be decoded (chunks)
    ├── DriveError      5    the drive or image file failed while it was read or written
    │   ├── DriveGone   5    it is no longer there
    │   └── Transient   5    it may work when it is tried again
    ├── RecordError    70    bytes that do not make a record; the reader says which (record)
    ├── ManifestError  70    what should be a manifest is damaged; a check notes it (manifest)
    │   └── EarlierManifest 70  it is of an earlier version
    └── Interrupted   130    stopped by the user

One that nobody has named better ends with 70, as internal errors do: 1 means that a check has found something.

A message says what happened, where (file, offset, tag), and what to do next.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple


class KeystoneError(Exception):
    """Base of all errors that are shown to a user as one message."""

    exit_code = 70

    def __init__(self, message: str, *, advice: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.advice = advice

    def __str__(self) -> str:
        return f"{self.message} {self.advice}".rstrip()


class UsageError(KeystoneError):
    """An invalid choice, argument or plan file."""

    exit_code = 2


class NotYet(UsageError):
    """A sensible choice that this version does not build."""


class ProtectError(KeystoneError):
    """Refused, because continuing could destroy something."""

    exit_code = 3


class NoRights(ProtectError):
    """The system does not let this user open or change the drive; the advice says how to get permission."""


class SourceError(KeystoneError):
    """The source is damaged, truncated, of an unknown kind, or does not fit."""

    exit_code = 4


class TooFarInside(SourceError):
    """What was asked for lies too far inside a compressed image to be looked at; nothing is wrong with it."""


class NoRoom(SourceError):
    """A volume has too little free space for what is to be added."""


class Share(NamedTuple):
    """What a part of a drive takes, and what leaves it out."""

    source: str
    edition: str
    """'' of a source as a whole."""
    size: int
    """Bytes that are free when it is left out."""


class DoesNotFit(SourceError):
    """The drive is too small for everything that is to go onto it."""

    def __init__(self, message: str, *, advice: str = "", lacking: int, shares: Sequence[Share] = ()) -> None:
        super().__init__(message, advice=advice)
        self.lacking = lacking
        """Bytes."""
        self.shares = shares


class DriveError(KeystoneError):
    """A drive or image file could not be read or written."""

    exit_code = 5


class DriveGone(DriveError):
    """The drive was unplugged, or the system lost it."""


class Transient(DriveError):
    """One read or write failed in a way that may pass."""


class Interrupted(KeystoneError):
    """The user stopped the work."""

    exit_code = 130


@contextmanager
def naming(place: str, kind: type[KeystoneError], *, advice: str = "") -> Iterator[None]:
    """Turn an operating-system error met inside the block into ours, saying at which place it was."""
    try:
        yield
    except OSError as error:
        raise kind(f"{place}: {error.strerror or error}.", advice=advice) from error
