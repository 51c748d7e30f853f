"""Which of two states of a volume is the better one, by walking its folders; and whether a change harms any file."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

from ..checking.found import FoundVolume
from ..common.errors import KeystoneError
from ..common.units import counted
from ..content.contents import SizedReadable
from ..volumes.kind import VolumeKind
from ..volumes.volume import Entry
from .remedy import Change

Span = tuple[int, int]
"""First byte on the drive, and the one behind the last."""


class Walked(Struct, frozen=True):
    """What a walk through all folders of a volume found."""

    faults: int
    """Entries that are faulty or share clusters; a volume that cannot be opened has more than any other."""
    entries: int

    @property
    def badness(self) -> tuple[int, int]:
        """Less is better: fewer faults, then more entries."""
        return self.faults, -self.entries

    def __str__(self) -> str:
        if self.faults == _CANNOT.faults:
            return "no volume can be opened"
        return f"{counted(self.entries, 'entry', 'entries')}, {counted(self.faults, 'fault')}"


_CANNOT = Walked(1 << 40, 0)


def walk(kind: VolumeKind, drive: SizedReadable, offset: int, size: int) -> Walked:
    """Walk through a volume at byte `offset`, as far as it can be walked."""
    entries = []
    try:
        volume = kind.open(drive, offset, size)
        entries = list(volume.walk())
    except KeystoneError:
        return _CANNOT if not entries else Walked(_CANNOT.faults - 1, len(entries))
    crossed = _crossed(entries)
    return Walked(sum(bool(entry.faults) or number in crossed for number, entry in enumerate(entries)), len(entries))


def _crossed(entries: Sequence[Entry]) -> set[int]:
    """Return the places in `entries` of all that share clusters with others. Links of one file count once."""
    runs = sorted(
        {
            (run.first, run.first + run.count, getattr(entry, "number", number)): number
            for number, entry in enumerate(entries)
            for run in entry.runs
            if not run.is_hole
        }.items()
    )
    found: set[int] = set()
    end, owner, bearer = -1, None, -1
    for (first, last, identity), number in runs:
        if first < end and identity != owner:
            found |= {number, bearer}
        if last > end:
            end, owner, bearer = last, identity, number
    return found


class Held(Struct, frozen=True):
    """A file that can be read: how large it is and where its bytes lie."""

    size: int
    spans: tuple[Span, ...]


Files = Mapping[tuple[int, str], Held]
"""By number of the partition and path in upper case."""


def readable_files(volumes: Iterable[FoundVolume]) -> Files:
    """Return every file whose bytes can be read."""
    found = {}
    for each in volumes:
        volume, crossed = each.volume, _crossed(each.entries)
        for number, entry in enumerate(each.entries):
            if entry.is_folder or entry.faults or number in crossed:
                continue
            spans = []
            left = entry.size
            for run in entry.runs:
                size = min(run.count * volume.cluster_size, left)
                left -= size
                if not run.is_hole and size > 0:
                    start = volume.cluster_offset(run.first)
                    spans.append((start, start + size))
            found[each.partition.number, entry.path.upper()] = Held(entry.size, tuple(spans))
    return found


def harm(before: Files, after: Files, changes: Iterable[Change], replaced: Iterable[tuple[int, str]]) -> str:
    """Say which file would be lost, '' when none would: all that could be read lie where they were, untouched."""
    meant = set(replaced)
    for key, held in before.items():
        if key not in meant and after.get(key) != held:
            return f"{key[1]} could not be read as before"
    spans = sorted((start, end, key) for key, held in before.items() if key not in meant for start, end in held.spans)
    for change in changes:
        # Files share no bytes, so only the last one that begins before the change's end can reach into it.
        number = bisect_left(spans, change.end, key=lambda span: span[0]) - 1
        if number >= 0 and spans[number][1] > change.offset:
            return f"bytes of {spans[number][2][1]} would be written over"
    return ""
