"""What a start looks at on a drive: the one view that the rules have of planned drives and of drives that were found.

`PlannedDrive` is made of trees that will be on volumes, `ReadDrive` of volumes that were read. The same rule over both
makes the forecast and what a check says one thing.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from functools import cached_property
from typing import Literal, Protocol

from msgspec import Struct

from ..boot.records import mbr_code
from ..common.errors import KeystoneError, TooFarInside
from ..content.contents import NO_BYTES, SizedReadable, seekable
from ..content.tree import File, Folder
from ..tables.table import Partition, Table
from ..volumes.kind import VolumeKind
from ..volumes.volume import Entry, FileOnVolume, Volume
from .boot_store import PartitionName
from .foreign import OURS, Does, Judged, judge_record, judge_volume_code

_CODE_FROM = 0x3E
"""Byte of a boot sector where code may begin, of kinds without a record of ours (fatgen103, FAT12 and FAT16)."""

What = Literal["file", "folder", "link"]
Code = Literal["ours", "other", "none", "damaged"]
"""Boot code: ours, somebody else's, no code at all, or ours with its further part missing or damaged."""


class BootFile(Struct, frozen=True):
    """A file that firmware or boot code reads."""

    path: str
    content: SizedReadable
    size: int
    """Bytes it says it has."""
    faults: Sequence[str] = ()
    """Why its bytes cannot be read, if they cannot."""
    unseen: str = ""
    """Why it was not examined; '' when it was."""
    is_packed: bool = False
    """True where only a system's driver decodes its bytes: its data fork is empty for firmware."""


class BootVolume(Protocol):
    """A volume as firmware and boot code see it."""

    @property
    def kind(self) -> VolumeKind: ...

    @property
    def active(self) -> bool: ...

    @property
    def marked(self) -> bool:
        """True where firmware looks that goes by marks: the active partition, in a GPT one with the attribute."""

    @property
    def has_system_type(self) -> bool:
        """True for the type of an MBR that stands for a UEFI system partition."""

    @property
    def boot_code(self) -> Code: ...

    @property
    def code(self) -> Judged:
        """What its boot code does, if it has any."""

    @property
    def names_loader(self) -> str:
        """The path of the loader that the volume itself names to firmware, as HFS+ does; '' where it names none."""

    @property
    def certified_until(self) -> date | None:
        """The day on which the certificates of an installer's packages end; None where there are none."""

    def find(self, path: str) -> BootFile | None:
        """Return the file at `path`, case ignored."""

    def listing(self, path: str) -> Mapping[str, What]:
        """Return what is in the folder at `path`, by name; nothing where there is no such folder."""


class Bootable(Protocol):
    """A drive as firmware sees it."""

    @property
    def table(self) -> Literal["mbr", "gpt", "none"]:
        """none: a volume begins in sector 0."""

    @property
    def sector_size(self) -> int: ...

    @property
    def record(self) -> Code:
        """The code in sector 0."""

    @property
    def record_code(self) -> Judged:
        """What the code in sector 0 does, with the volume that BIOS machines would start."""

    @property
    def active_count(self) -> int:
        """Partitions that are marked active."""

    @property
    def volumes(self) -> Sequence[BootVolume]: ...

    @property
    def partition_names(self) -> Sequence[PartitionName | None]:
        """How boot stores name the partition of each volume; None where that is not known yet, or it has none."""

    @property
    def looked_at(self) -> str:
        """What the view shows, in words: 'the source', 'the drive'."""

    @property
    def unseen(self) -> str:
        """Why some of its volumes were not looked at, '' when all were."""


# -- planned ---------------------------------------------------------------------------------------------------------


class PlannedBootVolume(Struct, frozen=True):
    """A volume that will hold `tree`."""

    kind: VolumeKind
    tree: Folder
    marked: bool
    """Active in an MBR."""
    table: str = "mbr"
    has_system_type: bool = False
    code: Judged = OURS
    certified_until: date | None = None
    named: PartitionName | None = None
    """How boot stores name its partition; None as long as it has no place."""

    @property
    def active(self) -> bool:
        return self.marked and self.table == "mbr"

    @property
    def boot_code(self) -> Code:
        return "ours" if self.kind.boot_record is not None else "none"

    @property
    def names_loader(self) -> str:
        return self.tree.special.unix.starts_with

    def find(self, path: str) -> BootFile | None:
        file = self.tree.find_file(path)
        if file is None:
            return None
        return BootFile(path, seekable(file.content), file.size, is_packed=file.special.unix.is_packed)

    def listing(self, path: str) -> Mapping[str, What]:
        folder = self.tree.find_folder(path) if path else self.tree
        return {name: _what(entry) for name, entry in folder.entries.items()} if folder is not None else {}


def _what(entry: File | Folder) -> What:
    return "folder" if isinstance(entry, Folder) else "link" if entry.special.unix.is_link else "file"


class PlannedDrive(Struct, frozen=True):
    """A drive that will hold these volumes, with our code in sector 0."""

    table: Literal["mbr", "gpt", "none"]
    sector_size: int
    volumes: Sequence[PlannedBootVolume]
    record: Code = "ours"
    looked_at: str = "the source"
    unseen: str = ""
    record_code: Judged = OURS

    @property
    def active_count(self) -> int:
        return sum(volume.active for volume in self.volumes)

    @property
    def partition_names(self) -> Sequence[PartitionName | None]:
        return [volume.named for volume in self.volumes]


class JoinedDrive(Struct, frozen=True):
    """A planned drive with the volumes of several sources."""

    first: Bootable
    """What the first source sees of it: its table and the code in sector 0."""
    volumes: Sequence[BootVolume]

    @property
    def table(self) -> Literal["mbr", "gpt", "none"]:
        return self.first.table

    @property
    def sector_size(self) -> int:
        return self.first.sector_size

    @property
    def record(self) -> Code:
        return self.first.record

    @property
    def record_code(self) -> Judged:
        return self.first.record_code

    @property
    def active_count(self) -> int:
        return sum(volume.active for volume in self.volumes)

    @property
    def partition_names(self) -> Sequence[PartitionName | None]:
        return [None for _ in self.volumes]

    @property
    def looked_at(self) -> str:
        return self.first.looked_at

    @property
    def unseen(self) -> str:
        return self.first.unseen


# -- found -----------------------------------------------------------------------------------------------------------


class ReadBootVolume(Struct, frozen=True, dict=True):
    """A volume that was read, in its partition."""

    kind: VolumeKind
    volume: Volume
    partition: Partition
    drive: SizedReadable
    """What it lies on."""
    certified_until: date | None = None

    @property
    def active(self) -> bool:
        return self.partition.active

    @property
    def marked(self) -> bool:
        return self.partition.marked

    @property
    def has_system_type(self) -> bool:
        return self.partition.has_system_type

    @cached_property
    def boot_code(self) -> Code:
        first, record = self.volume.boot_sector, self.kind.boot_record
        if record is None or not record.is_ours(first):
            begin = record.code_from if record is not None else _CODE_FROM
            return "other" if any(first[begin:510]) else "none"
        try:
            return "ours" if self.further_code == record.further_code else "damaged"
        except TooFarInside:
            return "other"

    @cached_property
    def further_code(self) -> bytes:
        """What is where the further code of our boot record belongs; b"" where the drive ends before."""
        assert self.kind.boot_record is not None
        try:
            return self.volume.bytes_at(self.further_place, len(self.kind.boot_record.further_code))
        except TooFarInside:
            raise
        except KeystoneError:
            return b""

    @cached_property
    def code(self) -> Judged:
        if self.boot_code != "other":
            return OURS
        return judge_volume_code(self.drive, self.volume, self.partition, self.geometry)

    @property
    def geometry(self) -> tuple[int, int]:
        """Heads and sectors a track by the boot sector; at the same place in all FAT and NTFS (fatgen103, BPB)."""
        first = self.volume.boot_sector
        return int.from_bytes(first[26:28], "little"), int.from_bytes(first[24:26], "little")

    @property
    def further_place(self) -> int:
        """Byte of the drive where the further code of our boot record lies."""
        assert self.kind.boot_record is not None
        return self.volume.offset + self.kind.boot_record.further_offset

    @property
    def names_loader(self) -> str:
        return self.volume.names_loader()

    def find(self, path: str) -> BootFile | None:
        try:
            entry = self.volume.find(path)
        except TooFarInside as error:
            return BootFile(path, NO_BYTES, 0, unseen=error.message)
        except KeystoneError as error:
            return BootFile(path, NO_BYTES, 0, (error.message.rstrip("."),))
        if entry is None or entry.is_folder:
            return None
        is_packed = getattr(entry, "packed", None) is not None
        content = FileOnVolume(self.volume, entry)
        return BootFile(path, content, entry.size, tuple(entry.faults), is_packed=is_packed)

    def listing(self, path: str) -> Mapping[str, What]:
        try:
            folder = self.volume.find(path) if path else self.volume.root()
            if folder is None or not folder.is_folder:
                return {}
            entries = list(self.volume.entries(folder))
        except KeystoneError:
            return {}
        return {entry.name: "folder" if entry.is_folder else _linked(entry) for entry in entries}


def _linked(entry: Entry) -> What:
    return "link" if getattr(entry, "is_symlink", False) else "file"


class ReadDrive(Struct, frozen=True, dict=True):
    """A drive whose table and volumes were read."""

    found_table: Table | None
    sector_size: int
    volumes: Sequence[ReadBootVolume]
    looked_at: str = "the drive"
    unseen: str = ""

    @property
    def table(self) -> Literal["mbr", "gpt", "none"]:
        style = self.found_table.style if self.found_table else ""
        return style or "none"

    @property
    def record(self) -> Code:
        code = self.found_table.mbr.code if self.found_table else b""
        if code[: len(mbr_code())] == mbr_code():
            return "ours"
        return "other" if any(code) else "none"

    @cached_property
    def record_code(self) -> Judged:
        if self.record != "other":
            return OURS
        volumes = sorted(self.volumes, key=lambda each: (not each.active, each.find("bootmgr") is None))
        if not volumes:
            return Judged(Does.NOT_KNOWN, "no volume is there that it could start")
        return judge_record(volumes[0].drive, volumes[0].partition, volumes[0].geometry)

    @property
    def active_count(self) -> int:
        return sum(partition.active for partition in self.found_table.partitions) if self.found_table else 0

    @property
    def partition_names(self) -> Sequence[PartitionName | None]:
        return [self._name(volume.partition) for volume in self.volumes]

    def _name(self, partition: Partition) -> PartitionName | None:
        table = self.found_table
        if table is None:
            return None
        if table.gpt is not None:
            return PartitionName(disk=table.gpt.disk, partition=partition.unique)
        first = partition.first_lba * self.sector_size
        return PartitionName(signature=table.mbr.disk_signature, first_byte=first)
