"""Unfinished files that other programs left: how much of one is here, and taking it over."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from blake3 import blake3

from ..common import positional
from ..common.errors import DriveError, ProtectError, SourceError, UsageError, naming
from ..common.progress import Progress
from ..common.shell import quoted
from .part import BLOCK, UNFINISHED, DownloadJournal, journal_of, keep_journal

_MIB = 1 << 20
_DOUBTED = 64 << 10
"""Zeros at the end of a block, with which it may have been written in part only."""


def refuse_foreign_part(path: Path) -> None:
    """Raise SourceError for a file that another program has not finished, with how much is here and what to do."""
    size, here = path.stat().st_size, bytes_here(path)
    part = f"{here / size:.0%} of it is here" if here < size else f"{here:,} bytes are here"
    raise SourceError(
        f"{path} is an unfinished download of another program: {part}.",
        advice="Let that program finish it; or continue it with: "
        f"lucky-keystone fetch LINK --sha256 SUM --adopt {quoted(str(path))}",
    )


def bytes_here(path: Path) -> int:
    """Return how many bytes may have been written: what lies outside holes, up to the last that is not 0.

    Some programs reserve the whole room first. What really is there shows when it is compared with the server.
    """
    with path.open("rb") as stream:
        end = stream.seek(0, os.SEEK_END)
        written = sum(size for _, size in _data(stream.fileno(), end))
        if written < end:
            return written
        while end:
            start = max(end - _MIB, 0)
            stream.seek(start)
            data = stream.read(end - start).rstrip(b"\0")
            if data:
                return start + len(data)
            end = start
    return 0


@contextmanager
def adopted(path: Path, into: Path, progress: Progress) -> Iterator[None]:
    """Make another program's unfinished file the part of `into`; all of it is compared and summed before it is used.

    Where the block ends with an error and nothing was added, the file has its own name again. A part of `into` that was
    adopted from there before is left as it is: the same command continues. Raises UsageError where `path` is not such
    a file, ProtectError where `into` has a part already, DriveError where it cannot be moved.
    """
    unfinished = into.with_name(into.name + UNFINISHED)
    beside = unfinished.with_name(unfinished.name + ".json")
    if not os.path.lexists(path) and journal_of(unfinished) is not None:
        yield
        return
    if not path.exists() or not stat.S_ISREG(path.lstat().st_mode):
        raise UsageError(f"{path} is not a file.", advice="Name the unfinished file.")
    if any(os.path.lexists(name) for name in (into, unfinished)):
        raise _taken(into)
    with naming(str(path), DriveError):
        size = path.stat().st_size
        journal = _journal_of_blocks(list(_sums(path, size, progress)))
        # A journal without a part: an earlier run was stopped just before it moved this very file.
        if os.path.lexists(beside) and not _is_of(journal, unfinished):
            raise _taken(into)
        if not any(journal.blocks):
            raise UsageError(
                f"{path} has no whole block of {BLOCK >> 20} MiB: there is nothing worth taking over.",
                advice="Fetch the image without --adopt.",
            )
        keep_journal(beside, journal)
        try:
            positional.rename(path, unfinished, replace=False)
        except OSError as error:
            beside.unlink()
            raise DriveError(
                f"{path} cannot be moved to {unfinished}: {error.strerror or error}.",
                advice="Both have to lie on the same disk: name a place beside it with --into.",
            ) from error
    try:
        yield
    except BaseException:
        if _is_of(journal, unfinished):
            with suppress(OSError):
                os.truncate(unfinished, size)
                positional.rename(unfinished, path, replace=False)
                beside.unlink()
        raise


def _taken(into: Path) -> ProtectError:
    return ProtectError(f"{into} or a part of it exists already.", advice="Name another place with --into.")


def _is_of(journal: DownloadJournal, unfinished: Path) -> bool:
    """Tell whether the journal that is kept of a part claims just what this one does."""
    kept = journal_of(unfinished)
    return kept is not None and list(kept.claims()) == list(journal.claims())


def _journal_of_blocks(sums: list[str]) -> DownloadJournal:
    length = next((number for number, each in enumerate(sums) if not each), len(sums)) * BLOCK
    return DownloadJournal(length=length, blocks=sums, tail=blake3().hexdigest())


def _sums(path: Path, size: int, progress: Progress) -> Iterator[str]:
    """Yield the BLAKE3 of each whole block that may have been written whole, '' for any other."""
    with path.open("rb") as stream:
        for at in range(0, size - BLOCK + 1, BLOCK):
            data = stream.read(BLOCK)
            yield blake3(data).hexdigest() if any(data[-_DOUBTED:]) else ""
            progress("examining what is there", at + BLOCK, size)


def _data(descriptor: int, size: int) -> Iterator[tuple[int, int]]:
    """Yield start and size of what lies outside holes; all of it where the system knows no holes."""
    if not hasattr(os, "SEEK_DATA"):
        yield 0, size
        return
    at = 0
    with suppress(OSError):  # no data behind `at`
        while at < size:
            start = os.lseek(descriptor, at, os.SEEK_DATA)
            at = os.lseek(descriptor, start, os.SEEK_HOLE)
            yield start, at - start
