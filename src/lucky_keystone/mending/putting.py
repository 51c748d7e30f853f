"""Files that are put onto a volume of the drive, or get their bytes back in place.

New files, and files of another size, are written on FAT32 only; elsewhere a file of the very same size may get its
bytes back in the clusters that it has.
"""

from __future__ import annotations

from collections.abc import Mapping

from ..checking.codes import Code
from ..checking.found import FoundVolume
from ..checking.report import Finding
from ..common.errors import KeystoneError, NoRoom
from ..content.contents import stream
from ..content.ranges import piece_of
from ..content.tree import File
from .remedy import FILE_SYSTEM_CHECK, Case, Change, NotMended, Order, Outcome, Remedy
from .volumes.writers import WRITERS

_BLOCKING = (
    *(Code.VOLUME_ENTRIES, Code.FOLDERS_UNREADABLE, Code.FAT_COPIES_DIFFER, Code.VOLUME_BOOT_SECTOR),
    *(Code.FAT32_BOOT_COPY, Code.FAT32_FSINFO, Code.VOLUME_BEYOND_PARTITION),
)
"""With these a volume takes no files: what is free on it is not certain."""
_IN_MEMORY = 16 << 20
"""Bytes of a file whose bytes are put back in place, at most: a loader."""


def put(
    case: Case, finding: Finding, found: FoundVolume, files: Mapping[str, File], old: list[str] | tuple[()], what: str
) -> Outcome:
    """Return the remedy that puts files, by path, onto a volume and takes `old` ones off it; else why there is none."""
    number = found.partition.number
    blocking = [
        each for each in case.examined.report.findings if each.code in _BLOCKING and each.place.volume == number
    ]
    if blocking:
        return NotMended(finding, FILE_SYSTEM_CHECK, blocking[0].advice)
    try:
        changes = WRITERS[found.kind.name](case, found, files, old) if found.kind.name in WRITERS else None
        changes = changes if changes is not None else _in_place(found, files, old)
    except KeystoneError as error:
        return NotMended(finding, error.message.rstrip("."), error.advice, isinstance(error, NoRoom))
    if changes is None:
        names = ", ".join(files)
        why = f"{found.kind.shown} is not written to by this program, beyond a file of the very same size"
        return NotMended(finding, why, f"Copy {names} to partition {number} by a system's own means, then mend again.")
    replaces = frozenset((number, path.upper()) for path in (*files, *old))
    return Remedy(finding, f"{what}.", "", tuple(changes), replaces)


def _in_place(found: FoundVolume, files: Mapping[str, File], old: list[str] | tuple[()]) -> list[Change] | None:
    """Return bytes of files in the clusters that they have already; None where they do not fit exactly."""
    changes: list[Change] = []
    for path, file in files.items():
        entry = found.volume.find(path)
        if (
            old
            or file.size > _IN_MEMORY
            or entry is None
            or entry.is_folder
            or entry.faults
            or entry.size != file.size
            or not entry.runs
        ):
            return None
        at = 0
        for run in entry.runs:
            size = min(run.count * found.volume.cluster_size, file.size - at)
            if run.is_hole or size <= 0:
                return None
            start = found.volume.cluster_offset(run.first)
            data = b"".join(bytes(piece) for piece in stream(piece_of(file.content, at, size)))
            changes.append(Change(start, data, Order.FIRSTS, f"bytes of {path}"))
            at += size
        if at != file.size:
            return None
    return changes
