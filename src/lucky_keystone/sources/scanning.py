"""A whole disc read once: every place that cannot be read, and the files it spoils, in one go."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

from msgspec import Struct

from ..common.errors import SourceError
from ..common.progress import Progress
from ..content.contents import BLOCK
from ..content.ranges import ranges_in
from ..content.source_file import PATIENT_READ, SourceFile, UnreadableSource
from .source import Source

_PATIENT_PLACES = 32
"""Bad places in a row from which on steps grow: a disc that cannot be read at all ends soon."""
_LARGEST_STEP = 1 << 20
_LISTED = 20


class _Spot(Struct, frozen=True):
    """A file's bytes on a disc. Bytes."""

    start: int
    end: int
    path: str
    inside: int
    """Where in the file they are."""


def scan(source: Source, progress: Progress) -> None:
    """Read all of a disc. Raises SourceError that lists every file which cannot be read as a whole."""
    file = source_device(source)
    assert file is not None
    end = min(file.size, source.volume_size or file.size)
    bad: list[int] = []
    buffer = memoryview(bytearray(BLOCK))
    descriptor = file.acquire()
    try:
        at, step = 0, PATIENT_READ
        while at < end:
            size = min(BLOCK - at % BLOCK, end - at)
            try:
                file.readinto_at(descriptor, at, buffer[:size])
            except UnreadableSource as error:
                place = error.offset - error.offset % PATIENT_READ
                in_a_row = len(bad) >= _PATIENT_PLACES and place - bad[-_PATIENT_PLACES] <= _LARGEST_STEP * len(bad)
                bad.append(place)
                step = min(2 * step, _LARGEST_STEP) if in_a_row else PATIENT_READ
                at = place + step
            else:
                at += size
            progress("reading the disc", min(at, end - 1), end)
    finally:
        file.release(descriptor)
    progress("reading the disc", end, end)
    if bad:
        raise _told(source, file, bad)


def source_device(source: Source) -> SourceFile | None:
    """Return the drive that a source is the disc of; None for any other source."""
    return next((file for file in source.files if file.is_device and file.path == source.path), None)


def doubtful(source: Source) -> list[str]:
    """Say of each file which sectors of it came only at the second try or later."""
    found: list[str] = []
    for file in source.files:
        if not file.late:
            continue
        spots = _spots(source, file)
        by_path: dict[str, list[int]] = {}
        for at, number in sorted(file.late.items()):
            spot = _at(spots, at)
            by_path.setdefault(spot.path if spot else "", []).append(number)
        for path, tries in by_path.items():
            when = f"{min(tries)}" if min(tries) == max(tries) else f"{min(tries)} to {max(tries)}"
            sectors = "1 doubtful sector" if len(tries) == 1 else f"{len(tries)} doubtful sectors"
            found.append(f"{sectors}, which came at try {when}, in {path or 'no file'}")
    return found


def _told(source: Source, file: SourceFile, bad: Sequence[int]) -> SourceError:
    spots = _spots(source, file)
    hit: dict[str, tuple[int, int]] = {}
    outside = 0
    for at in bad:
        spot = _at(spots, at)
        if spot is None:
            outside += 1
            continue
        count, first = hit.get(spot.path, (0, spot.inside + at - spot.start))
        hit[spot.path] = count + 1, first
    named = [
        f"{path} ({_places(count)}, the first at its byte {max(first, 0):,})"
        for path, (count, first) in sorted(hit.items())
    ]
    more = f" and {len(named) - _LISTED} more files" if len(named) > _LISTED else ""
    files = f"Cannot be read as a whole: {', '.join(named[:_LISTED])}{more}." if named else ""
    others = f"{_places(outside)} in no file cannot be read." if outside else ""
    advice = (
        "Clean the disc and try again; or get these files from elsewhere, put them into a folder of their own under "
        "their paths, and use --add FOLDER: the bad places are not read then."
    )
    return SourceError(
        f"{file.path}: {len(bad):,} bad places. {' '.join(filter(None, (files, others)))}",
        advice=advice if named else "No file is hit: a drive can be built from it.",
    )


def _places(count: int) -> str:
    return "1 place" if count == 1 else f"{count:,} places"


def _spots(source: Source, file: SourceFile) -> list[_Spot]:
    """Return where the files of a source lie on a disc, in order."""
    found = [
        _Spot(part.offset, part.offset + part.size, path, inside)
        for path, entry in source.root.files()
        for inside, part in ranges_in(entry.content)
        if part.file is file
    ]
    return sorted(found, key=lambda spot: spot.start)


def _at(spots: Sequence[_Spot], at: int) -> _Spot | None:
    """Return the file that a sector belongs to."""
    number = bisect_right(spots, at + PATIENT_READ - 1, key=lambda spot: spot.start) - 1
    return spots[number] if number >= 0 and at < spots[number].end else None
