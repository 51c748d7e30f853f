"""Writes a repair: the journal first, then step by step, flushed between; and reads it back."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..checking.check import examine_drive
from ..common.errors import DriveError, UsageError
from ..common.progress import Progress
from ..drives.medium import Medium
from .journal import JournalText, MendJournal, keep
from .make import Mending
from .steps import Step

_AGAIN = "Run 'lucky-keystone mend' on the drive again: it puts back what was written, and begins from there."


def write_steps(
    steps: Sequence[Step], medium: Medium, path: Path, text: JournalText, sector_size: int, progress: Progress
) -> tuple[int, list[str]]:
    """Write `steps` onto the drive, with the journal at `path`; return how many bytes were written, and what to say.

    Raises DriveError when the journal cannot be kept (nothing is written then), or when the drive does not take what is
    written; the journal brings everything back.
    """
    medium.forget_cache()
    keep(path, text, medium, sector_size, steps, progress)
    total, done = sum(step.size for step in steps), 0
    before = None
    for step in steps:
        if before is not None and step.order is not before:
            medium.flush()
        before = step.order
        for offset, data in step.pieces():
            medium.write_at(offset, memoryview(data))
            done += len(data)
            progress("writing", done, total)
    medium.flush()
    medium.forget_cache()
    _read_back(steps, medium, sector_size, progress)
    try:
        MendJournal(path).mark("written")
    except (DriveError, UsageError) as error:  # the drive is as it is to be: the next mending finds that
        return done, [f"Its completion could not be recorded: {error.message}"]
    return done, []


def check_again(mending: Mending, medium: Medium, *, kept: bytes | None) -> None:
    """Examine the drive as it is now. Raises DriveError when that is not what was decided."""
    now = examine_drive(medium, mending.after.sector_size, kept=kept, firmware=mending.firmware).report
    meant = mending.after.report
    if [row.verdict for row in now.starts] != [row.verdict for row in meant.starts] or len(now.findings) != len(
        meant.findings
    ):
        raise DriveError("Verification failed: the drive does not match the planned result.", advice=_AGAIN)


def _read_back(steps: Sequence[Step], medium: Medium, sector: int, progress: Progress) -> None:
    """Compare every sector with what was written last."""
    last: dict[int, bytes] = {}
    for step in steps:
        if isinstance(step.data, bytes):
            for at in range(0, step.size, sector):
                last[step.offset + at] = step.data[at : at + sector]
    total, done = sum(step.size for step in steps), 0
    for step in steps:
        for offset, data in step.pieces():
            there = medium.read_at(offset, len(data))
            for at in range(0, len(data), sector):
                wanted = last.get(offset + at, data[at : at + sector])
                if there[at : at + sector] != wanted:
                    place = offset + at
                    raise DriveError(f"Byte {place:,} and what follows do not hold what was written.", advice=_AGAIN)
            done += len(data)
            progress("reading back", done, total)
