"""Unfinished files that other programs left: how much of one is here, and taking it over."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from blake3 import blake3

from ..errors import DriveError, ProtectError, SourceError, UsageError, naming
from ..progress import Progress
from ..shell import quoted
from .part import BLOCK, ENDING, Journal, keep_journal

_MIB = 1 << 20


def refuse_foreign_part(path: Path) -> None:
    """Raise SourceError for a file that another program has not finished, with how much is here and what to do."""
    size, here = path.stat().st_size, believed_length(path)
    part = f"{here / size:.0%} of it is here" if here < size else f"{here:,} bytes are here"
    raise SourceError(
        f"{path} is an unfinished download of another program: {part}.",
        advice="Let that program finish it; or continue it with: "
        f"lucky-keystone fetch LINK --sha256 SUM --adopt {quoted(str(path))}",
    )


def believed_length(path: Path) -> int:
    """Return how many bytes from the front may have been written: up to the first hole, and to the last that is not 0.

    Some programs reserve the whole room first. What really is there shows when it is compared with the server.
    """
    with path.open("rb") as stream:
        end = stream.seek(0, os.SEEK_END)
        if hasattr(os, "SEEK_HOLE"):
            with suppress(OSError):
                end = min(end, os.lseek(stream.fileno(), 0, os.SEEK_HOLE))
        while end:
            start = max(end - _MIB, 0)
            stream.seek(start)
            data = stream.read(end - start).rstrip(b"\0")
            if data:
                return start + len(data)
            end = start
    return 0


def adopt(path: Path, into: Path, progress: Progress) -> None:
    """Make another program's unfinished file the part of `into`; all of it is compared and summed before it is used.

    Raises UsageError where it is no such file, ProtectError where `into` has a part already, DriveError where it cannot
    be moved.
    """
    if not path.exists() or not stat.S_ISREG(path.lstat().st_mode):
        raise UsageError(f"{path} is not a file.", advice="Name the unfinished file.")
    unfinished = into.with_name(into.name + ENDING)
    if os.path.lexists(into) or os.path.lexists(unfinished):
        raise ProtectError(f"{into} or a part of it exists already.", advice="Name another place with --into.")
    with naming(str(path), DriveError):
        length = max(believed_length(path) - _MIB, 0)  # what was written last may be incomplete
        length -= length % BLOCK
        blocks = list(_sums(path, length, progress))
        try:
            path.rename(unfinished)
        except OSError as error:
            raise DriveError(
                f"{path} cannot be moved to {unfinished}: {error.strerror or error}.",
                advice="Both have to lie on the same disk: name a place beside it with --into.",
            ) from error
        journal = Journal(length=length, blocks=blocks, tail=blake3().hexdigest())
        keep_journal(unfinished.with_name(unfinished.name + ".json"), journal)


def _sums(path: Path, length: int, progress: Progress) -> Iterator[str]:
    """Yield the BLAKE3 of each whole block among the first `length` bytes."""
    with path.open("rb") as stream:
        for at in range(0, length, BLOCK):
            yield blake3(stream.read(BLOCK)).hexdigest()
            progress("examining what is there", at + BLOCK, length)
