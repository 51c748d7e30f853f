"""The words for what differs, the same for every kind of volume."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..content.regions import TRAITS, RegionKind
from ..volumes.volume import Volume, VolumeError
from .codes import Code
from .found import FoundVolume
from .report import Place, Report

LISTED = 8
"""Things named of many."""
REBUILD = "Build the drive again; if it happens again, the drive itself is failing."
_BY_HAND = "Something was removed or replaced by hand, or the drive lost data: build the drive again."


def listed(names: Sequence[str], most: int = LISTED) -> str:
    """Return the first names, and how many more there are."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def report_lines(lines: Sequence[str], code: Code, area: str, report: Report, number: int) -> None:
    """Add a fault for each of the first lines, and one for all the others."""
    for line in lines[:LISTED]:
        advice = "Copy what you need off the drive, then build it again."
        report.fault(code, area, line.rstrip(".") + ".", advice, Place(volume=number))
    if len(lines) > LISTED:
        report.fault(code, area, f"{len(lines) - LISTED} more are faulty.", REBUILD, Place(volume=number))


def report_damage(
    damaged: Mapping[RegionKind, Sequence[tuple[int, int]]], found: FoundVolume | None, report: Report
) -> None:
    """Add faults for regions that have changed since the build. `damaged` has (offset, size) of blocks."""
    number = found.partition.number if found else None
    for kind, places in damaged.items():
        if kind in (RegionKind.FILES, RegionKind.OWN_FILES):
            _report_files(places, found, report)
            continue
        where = ", ".join(f"{offset}-{offset + size - 1}" for offset, size in places[:3])
        traits, (offset, size) = TRAITS[kind], places[0]
        what = f"{traits.subject} changed since the build (bytes {where})."
        report.fault(Code.CONTENT_CHANGED, traits.area, what, _BY_HAND, Place(number, offset, size))


def report_hidden(name: str, stored: int, wanted: int, volume: Volume, number: int, report: Report) -> None:
    """Report a boot sector that names another place than the table. BOOTMGR and its boot code alone go by it."""
    what = f"{name} is {stored}, the partition starts at sector {wanted}."
    place = Place(number, volume.offset, 512)
    try:
        is_started = volume.find("bootmgr") is not None
    except VolumeError:
        is_started = True
    if is_started:
        advice = "BIOS loaders will not find the volume: build the drive again."
        report.fault(Code.VOLUME_HIDDEN_SECTORS, "boot sectors", what, advice, place)
    else:
        report.note(Code.VOLUME_HIDDEN_SECTORS, "boot sectors", what, place)


def report_use(
    areas: set[str], added: Sequence[str], report: Report, *, rest_is_whole: bool, number: int | None
) -> None:
    """Say what a computer changed by using the drive, and which files are new on it."""
    whole = "; everything that was built is unchanged." if rest_is_whole else "."
    new = f" New on it: {listed(added)}." if added else ""
    what = f"changed by a computer that used the drive{whole}{new}"
    report.used(", ".join(sorted(areas)), what, Place(volume=number))


def _report_files(places: Sequence[tuple[int, int]], found: FoundVolume | None, report: Report) -> None:
    number = found.partition.number if found else None
    for offset, size in places[:LISTED]:
        inside = files_at(found, offset, size) if found else []
        names = ", ".join(inside[:3]) + (f" or {len(inside) - 3} more" if len(inside) > 3 else "")
        what = f"bytes {offset} to {offset + size - 1} have changed since the build: {names or 'no file is there now'}."
        place = Place(number, offset, size, inside[0] if len(inside) == 1 else "")
        advice = "The file was changed or the drive lost data: build the drive again."
        report.fault(Code.CONTENT_FILE, "files", what, advice, place)
    if len(places) > LISTED:
        what = f"{len(places) - LISTED} more blocks have changed since the build."
        report.fault(Code.CONTENT_FILE, "files", what, "Build the drive again, or on another drive.", Place(number))


def files_at(found: FoundVolume, offset: int, size: int) -> list[str]:
    """Return the paths of files that have clusters in a stretch of the drive."""
    first, last = found.volume.cluster_at(offset), found.volume.cluster_at(offset + size - 1)
    return [
        entry.path
        for entry in found.entries
        if not entry.is_folder and any(run.first <= last and run.first + run.count > first for run in entry.runs)
    ]
