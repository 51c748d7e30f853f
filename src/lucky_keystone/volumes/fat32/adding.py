"""Adds files to a FAT32 volume that is in use, replaces and removes some, and moves nothing that is there.

Bytes of files and of new folders go into clusters that are free; a file that is replaced keeps its entry, which leads
to the new clusters from one write to the next, and its old ones are freed last. What comes out is bytes at places of
the drive, in five groups that are written one after the other: at no moment is less on the volume than before.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import chain
from typing import Any

from msgspec import Struct, field

from ...common.errors import NoRoom, SourceError
from ...common.later import np
from ...content.contents import Content, Joined, Literal, Zeros
from ...content.ranges import piece_of
from ...content.tree import EPOCH, File
from ..shortnames import ShortNames, exact_short_name, fold
from ..volume import Run
from .compose import fat_time, folder_entry
from .names import long_entries
from .read import Entry, Fat32Volume
from .records import (
    ATTR_ARCHIVE,
    ATTR_DIRECTORY,
    ATTR_LONG_NAME,
    ATTR_VOLUME_ID,
    DELETED,
    END_OF_CHAIN,
    END_OF_FOLDER,
    ENTRY_MASK,
    ENTRY_SIZE,
    FIRST_CLUSTER,
    LAST_LONG_ENTRY,
    MOST_FOLDER_ENTRIES,
    FsInfo,
)

_UNKNOWN = 0xFFFF_FFFF
_NOT_MIRRORED = 0x80
"""fatgen103, BPB_ExtFlags."""
Place = tuple[int, bytes]
"""Byte of the drive, and bytes that are to be there."""


class _NewFolder(Struct):
    """A folder that is made: its clusters, and its entries as far as there are any."""

    clusters: list[int]
    entries: bytearray = field(default_factory=bytearray)


class Addition(Struct):
    """What is to be written, each group after the ones before it. Offsets in bytes of the drive."""

    contents: list[tuple[int, Content]] = field(default_factory=list)
    taken: tuple[list[Place], list[Place]] = field(default_factory=lambda: ([], []))
    """FAT entries of clusters that are taken: of the second FAT, then of the first."""
    names: list[Place] = field(default_factory=list)
    freed: tuple[list[Place], list[Place]] = field(default_factory=lambda: ([], []))
    """FAT entries of clusters that nothing leads to any more: of the second FAT, then of the first."""
    counted: list[Place] = field(default_factory=list)
    """What FSInfo says of free clusters, last."""
    clusters: int = 0
    """Taken."""


def add_files(volume: Fat32Volume, files: Mapping[str, File], removed: Sequence[str] = ()) -> Addition:
    """Return what puts `files` (by path) onto a volume that has no faults, and takes `removed` off it.

    Missing folders are made. Raises SourceError where a name cannot be stored or there is too little room: clusters of
    what is removed or replaced do not count, since they are freed last.
    """
    if volume.boot.BPB_ExtFlags & _NOT_MIRRORED:
        raise SourceError("The volume keeps only one of its FATs up.", advice="Copy the files by a system's means.")
    return _Adding(volume).make(files, removed)


class _Adding:
    def __init__(self, volume: Fat32Volume) -> None:
        self._volume, self._cluster = volume, volume.cluster_size
        self._free = _FreeClusters(volume)
        self._chains: dict[int, tuple[int, int]] = {}
        """Clusters that are taken, by the first one: how many, and what follows the last."""
        self._grown: dict[int, list[int]] = {}
        """Clusters that folders get behind their own ones, by the folder's first."""
        self._named: dict[int, dict[str, None]] = {}
        """Names that are new, by the first cluster of their folder."""
        self._zeroed: list[Run] = []
        self._slots: dict[int, bytes] = {}
        """Folder entries of 32 bytes that change, by byte of the drive."""
        self._made: dict[str, _NewFolder] = {}
        """Folders that are new, by path in upper case."""
        self._result = Addition()

    def make(self, files: Mapping[str, File], removed: Sequence[str]) -> Addition:
        for gone in removed:
            if kept := [path for path in files if path.upper().startswith(gone.upper() + "/")]:
                raise SourceError(f"{kept[0]} is to be written, and {gone} removed.", advice="Choose one of them.")
        for path, file in files.items():
            entry = self._volume.find(path)
            if entry is not None and entry.is_folder:
                raise SourceError(f"{path} is a folder on the drive.", advice="Rename it, then mend again.")
            if entry is not None:
                self._replace(entry, file)
            else:
                self._add(path, file)
        for path in removed:
            if (entry := self._volume.find(path)) is not None:
                self._remove(entry)
        for made in self._made.values():
            for number, cluster in enumerate(made.clusters):
                data = bytes(made.entries[number * self._cluster : (number + 1) * self._cluster])
                whole = Literal(data.ljust(self._cluster, b"\0"))
                self._result.contents.append((self._volume.cluster_offset(cluster), whole))
        self._collect()
        return self._result

    # -- files ---------------------------------------------------------------------------------------------------

    def _replace(self, entry: Entry, file: File) -> None:
        record = entry.record
        assert record is not None
        first = self._store(file.content)
        date, time = fat_time(file.modified)
        changed = record.with_changes(
            DIR_FstClusHI=first >> 16,
            DIR_FstClusLO=first & 0xFFFF,
            DIR_FileSize=file.size,
            DIR_WrtDate=date,
            DIR_WrtTime=time,
        )
        *_, place = self._places_of(entry)
        self._slots[place] = changed.pack()
        self._free_chain(entry)

    def _remove(self, entry: Entry) -> None:
        for place in self._places_of(entry):
            self._slots[place] = bytes((DELETED,)) + self._volume.bytes_at(place + 1, ENTRY_SIZE - 1)
        self._free_chain(entry)

    def _free_chain(self, entry: Entry) -> None:
        """Free an entry's clusters, and all that lie below a folder."""
        self._zeroed += entry.runs
        if entry.is_folder:
            for below in self._volume.entries(entry):
                self._free_chain(below)

    def _add(self, path: str, file: File) -> None:
        parent, _, name = path.rpartition("/")
        first = self._store(file.content)
        self._name(parent, name, file, first)

    def _name(self, parent: str, name: str, file: File | None, first: int) -> None:
        """Put a name into a folder, which is made where there is none; a folder's where `file` is None."""
        made = self._made.get(parent.upper())
        above = self._volume.find(parent) if parent else self._volume.root()
        if made is None and (above is None or not above.is_folder):
            made = self._new_folder(parent)
        first_of_folder = made.clusters[0] if made is not None else above.first_cluster if above is not None else 0
        named = self._named.setdefault(first_of_folder, {})
        taken = {**named, **(self._names_in(above) if made is None and above is not None else {})}
        if fold(name) in taken:
            raise SourceError(f"{name} is in the folder '{parent}' twice.", advice="Rename one of them, mend again.")
        short = ShortNames([*taken, name]).of(name)
        slots = _entry(short, file, first)
        if exact_short_name(name) is None:
            slots = long_entries(name, short) + slots
        named |= {fold(name): None, _shown(short): None}
        if made is not None:
            self._append(made, slots)
        else:
            assert above is not None
            self._put_slots(above, slots)

    def _new_folder(self, path: str) -> _NewFolder:
        parent, _, name = path.rpartition("/")
        cluster = self._take_one()
        self._name(parent, name, None, cluster)
        above = self._made.get(parent.upper())
        entry = self._volume.find(parent) if parent else None
        parent_cluster = above.clusters[0] if above else entry.first_cluster if entry else 0
        made = self._made[path.upper()] = _NewFolder([cluster])
        for dots, first in ((".", cluster), ("..", parent_cluster)):
            self._append(made, _entry(dots.encode().ljust(11), None, first))
        return made

    def _append(self, made: _NewFolder, slots: bytes) -> None:
        made.entries += slots
        self._refuse_full(len(made.entries) // ENTRY_SIZE)
        while len(made.entries) > len(made.clusters) * self._cluster:
            made.clusters.append(self._take_one(behind=made.clusters[-1]))

    def _take_one(self, behind: int = 0) -> int:
        """Take a cluster for entries of a folder, behind another one of it."""
        cluster = self._free.take(1)[0][0]
        self._chains[cluster] = 1, END_OF_CHAIN
        if behind:
            self._chains[behind] = 1, cluster
        return cluster

    @staticmethod
    def _refuse_full(entries: int) -> None:
        if entries > MOST_FOLDER_ENTRIES:
            raise SourceError("A folder would be too full.", advice="Delete files from it that are not needed.")

    # -- bytes of files ------------------------------------------------------------------------------------------

    def _store(self, content: Content) -> int:
        """Give a file's bytes their clusters; return the first one, 0 for an empty file."""
        count = -(-content.size // self._cluster)
        if not count:
            return 0
        runs = self._free.take(count)
        at = 0
        for number, (first, length) in enumerate(runs):
            size = min(length * self._cluster, content.size - at)
            piece = content if len(runs) == 1 else piece_of(content, at, size)
            whole = Joined([piece, Zeros(length * self._cluster - size)])
            self._result.contents.append((self._volume.cluster_offset(first), whole))
            following = runs[number + 1][0] if number + 1 < len(runs) else END_OF_CHAIN
            self._chains[first] = length, following
            at += size
        self._result.clusters += count
        return runs[0][0]

    # -- entries of folders --------------------------------------------------------------------------------------

    def _slots_of(self, folder: Entry) -> Iterator[tuple[int, bytes]]:
        """Yield every slot of a folder's clusters: byte of the drive, and what is there, or will be."""
        volume, grown = self._volume, self._grown.get(folder.first_cluster, [])
        own = (cluster for run in folder.runs for cluster in range(run.first, run.first + run.count))
        for cluster in chain(own, grown):
            start = volume.cluster_offset(cluster)
            data = bytes(self._cluster) if cluster in grown else volume.bytes_at(start, self._cluster)
            for at in range(0, self._cluster, ENTRY_SIZE):
                yield start + at, self._slots.get(start + at, data[at : at + ENTRY_SIZE])

    def _places_of(self, entry: Entry) -> list[int]:
        """Return where an entry lies, with the long ones in front of it, in their order."""
        assert entry.folder is not None
        pending: list[int] = []
        for place, data in self._slots_of(entry.folder):
            if data[0] == END_OF_FOLDER:
                break
            is_long = data[11] & 0x3F == ATTR_LONG_NAME
            if data[0] == DELETED or (is_long and data[0] & LAST_LONG_ENTRY):
                pending = []
            if data[0] == DELETED:
                continue
            pending.append(place)
            if is_long:
                continue
            if data[:11] == entry.short_name and not data[11] & ATTR_VOLUME_ID:
                return pending
            pending = []
        raise SourceError(f"{entry.path}: its entry was not found again.", advice="Check the volume, then mend again.")

    def _names_in(self, folder: Entry) -> dict[str, None]:
        """Return the names in a folder as they are compared, short ones too."""
        names: dict[str, None] = {}
        for entry in self._volume.entries(folder):
            names |= {fold(entry.name): None, _shown(entry.short_name): None}
        return names

    def _put_slots(self, folder: Entry, slots: bytes) -> None:
        """Put entries that belong together into a folder: into a gap, at its end, or into a new cluster."""
        count = len(slots) // ENTRY_SIZE
        places = list(self._slots_of(folder))
        end = next((number for number, (_, data) in enumerate(places) if data[0] == END_OF_FOLDER), len(places))
        gap = _gap(places[:end], count)
        if gap is None:
            while end + count > len(places):
                self._refuse_full(len(places) + self._cluster // ENTRY_SIZE)
                places += self._further_cluster(folder)
            gap = end
            after = end + count
            if after < len(places) and places[after][1][0] != END_OF_FOLDER:
                self._slots[places[after][0]] = bytes(ENTRY_SIZE)  # behind the end there may be anything
        for number in range(count):
            self._slots[places[gap + number][0]] = slots[number * ENTRY_SIZE : (number + 1) * ENTRY_SIZE]

    def _further_cluster(self, folder: Entry) -> list[tuple[int, bytes]]:
        grown, last = self._grown.setdefault(folder.first_cluster, []), folder.runs[-1]
        cluster = self._take_one(behind=grown[-1] if grown else last.first + last.count - 1)
        grown.append(cluster)
        start = self._volume.cluster_offset(cluster)
        self._result.contents.append((start, Zeros(self._cluster)))
        return [(start + at, bytes(ENTRY_SIZE)) for at in range(0, self._cluster, ENTRY_SIZE)]

    # -- what is written -----------------------------------------------------------------------------------------

    def _collect(self) -> None:
        for copy in range(self._volume.boot.BPB_NumFATs):
            taken, freed = (groups[1 if copy == 0 else 0] for groups in (self._result.taken, self._result.freed))
            for first, (count, following) in sorted(self._chains.items()):
                values = np.arange(first + 1, first + count + 1, dtype="<u4")
                values[-1] = following
                taken.append(self._in_fat(copy, first, values))
            freed += [self._in_fat(copy, run.first, np.zeros(run.count, "<u4")) for run in self._zeroed]
        self._result.names += sorted(self._slots.items())
        self._count_free()

    def _in_fat(self, copy: int, first: int, values: np.ndarray[Any, Any]) -> Place:
        """Return neighbouring entries of a FAT; their upper four bits stay (fatgen103, "FAT[]")."""
        place = self._volume.fat_offset(copy) + 4 * first
        there = np.frombuffer(self._volume.bytes_at(place, 4 * len(values)), "<u4")
        kept = there & np.uint32(~ENTRY_MASK & 0xFFFF_FFFF)
        return place, (values & np.uint32(ENTRY_MASK) | kept).astype("<u4").tobytes()

    def _count_free(self) -> None:
        """Correct what FSInfo counts, where it counts."""
        volume, info = self._volume, self._volume.fs_info()
        if info is None or info.FSI_Free_Count == _UNKNOWN:
            return
        freed = sum(run.count for run in self._zeroed)
        place = volume.offset + volume.boot.BPB_FSInfo * volume.sector_size
        count = max(info.FSI_Free_Count - self._free.dealt + freed, 0)
        data = count.to_bytes(4, "little") + self._free.following.to_bytes(4, "little")
        self._result.counted.append((place + FsInfo.offset_of("FSI_Free_Count"), data))


def _shown(short: bytes) -> str:
    """Return a short name as names are compared."""
    base, extension = (part.decode("cp437").rstrip() for part in (short[:8], short[8:]))
    return f"{base}.{extension}" if extension else base


def _entry(short: bytes, file: File | None, first: int) -> bytes:
    """Return the entry of a file, or of a new folder."""
    if file is None:
        return folder_entry(short, ATTR_DIRECTORY, EPOCH, first, 0)
    return folder_entry(short, ATTR_ARCHIVE, file.modified, first, file.size)


def _gap(places: Sequence[tuple[int, bytes]], count: int) -> int | None:
    """Return where this many deleted entries lie behind each other, in one sector if possible; None for nowhere."""
    found = None
    for number in range(len(places) - count + 1):
        if all(data[0] == DELETED for _, data in places[number : number + count]):
            if places[number][0] // 512 == places[number + count - 1][0] // 512:
                return number
            found = number if found is None else found
    return found


class _FreeClusters:
    """Deals out clusters that are free in every FAT: in one piece where there is one, else from the first on."""

    def __init__(self, volume: Fat32Volume) -> None:
        self._runs: list[tuple[int, int]] = []
        self.dealt = 0
        """Clusters."""
        self.following = FIRST_CLUSTER
        """Where to look for a free cluster next."""
        for first, count in _free_runs(volume):
            if self._runs and sum(self._runs[-1]) == first:
                self._runs[-1] = self._runs[-1][0], self._runs[-1][1] + count
            else:
                self._runs.append((first, count))

    def take(self, count: int) -> list[tuple[int, int]]:
        """Return runs (first cluster, count) of `count` clusters together. Raises NoRoom."""
        fitting = next((number for number, run in enumerate(self._runs) if run[1] >= count), None)
        found: list[tuple[int, int]] = []
        left = count
        while left:
            number = fitting if fitting is not None else 0
            if not self._runs:
                raise NoRoom(
                    f"The drive has too little free space: {left:,} more clusters are needed.",
                    advice="Delete files from it that are not needed, or use a larger drive.",
                )
            first, length = self._runs[number]
            size = min(length, left)
            found.append((first, size))
            self._runs[number : number + 1] = [(first + size, length - size)] if length > size else []
            left -= size
            self.dealt += size
            self.following = first + size
        return found


def _free_runs(volume: Fat32Volume) -> Iterator[tuple[int, int]]:
    """Yield runs of clusters whose entries are 0 in every FAT."""
    others = volume.fat_windows(1) if volume.boot.BPB_NumFATs > 1 else volume.fat_windows(0)
    for (start, entries), (_, other) in zip(volume.fat_windows(0), others, strict=True):
        free = (entries == 0) & (other == 0)
        free[: max(FIRST_CLUSTER - start, 0)] = False
        edges = np.flatnonzero(np.diff(np.concatenate(([0], free.view(np.int8), [0]))))
        for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
            yield start + begin, end - begin
