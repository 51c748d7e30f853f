"""What a remedy is: bytes that take the place of others, in an order that never leaves less than there was."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from enum import IntEnum
from functools import cached_property

from msgspec import Struct

from ..checking.check import Examined
from ..checking.codes import Code
from ..checking.found import FoundVolume
from ..checking.report import Finding
from ..content.contents import Content, SizedReadable
from ..sources.source import Source
from ..tables.table import Partition


class Order(IntEnum):
    """When something is written; the drive is flushed between two of these."""

    CONTENTS = 0
    """Bytes of files, in clusters that are free until then."""
    COPIES = 1
    """What readers fall back upon: the second FAT, copies of boot sectors, the GPT at the end."""
    FIRSTS = 2
    """What they read first."""
    NAMES = 3
    """Folder entries, which lead to new contents."""
    FREED_COPIES = 4
    """Clusters of what no entry leads to any more."""
    FREED = 5
    SECTOR_0 = 6


class Change(Struct, frozen=True):
    """Bytes that are to be at a place of the drive."""

    offset: int
    """Byte of the drive."""
    data: bytes | Content
    """Content for the bytes of whole files."""
    order: Order
    what: str
    """What they are: 'active mark of partition 1'."""

    @property
    def size(self) -> int:
        return len(self.data) if isinstance(self.data, bytes) else self.data.size

    @property
    def end(self) -> int:
        return self.offset + self.size


class Remedy(Struct, frozen=True):
    """What is done about a finding."""

    finding: Finding
    what: str
    """In words, as a sentence: what will be written."""
    why: str
    """The evidence, as it follows 'Evidence: '; '' where the finding says it."""
    changes: tuple[Change, ...]
    replaces: frozenset[tuple[int, str]] = frozenset()
    """Files whose bytes change on purpose: number of the partition, path in upper case."""

    @property
    def code(self) -> Code:
        return self.finding.code


class NotMended(Struct, frozen=True):
    """A finding that stays, and why."""

    finding: Finding
    why: str
    """Completes 'not mended: …'."""
    advice: str
    lacks_room: bool = False
    """True where the volume has too little free space."""

    @property
    def code(self) -> Code:
        return self.finding.code


Outcome = Remedy | NotMended
FIRST_THE_BOOT_SECTOR = "which of the two boot sectors is right has to be decided first"
FILE_SYSTEM_CHECK = "its file system has to be repaired first, which is a file-system checker's work"


class Wishes(Struct, frozen=True):
    """What was asked for."""

    replace_code: bool = False
    """Put our boot code in the place of somebody else's even where nothing shows that it does not work."""
    source: Source | None = None
    """What files are taken from that the drive itself does not have."""


class Case(Struct, frozen=True, dict=True):
    """A drive with what was found wrong with it."""

    drive: SizedReadable
    examined: Examined
    wishes: Wishes

    @property
    def sector_size(self) -> int:
        return self.examined.sector_size

    def partition(self, number: int | None) -> Partition | None:
        return next((each for each in self.examined.partitions if each.number == number), None)

    def volume(self, number: int | None) -> FoundVolume | None:
        """Return the volume that was found in a partition."""
        return next((each for each in self.examined.volumes if each.partition.number == number), None)

    def has(self, code: Code, number: int | None) -> bool:
        """Tell whether a partition has another finding, which is decided first."""
        return any(each.code is code and each.place.volume == number for each in self.examined.report.findings)

    @cached_property
    def bearers(self) -> Sequence[FoundVolume]:
        """Volumes with BOOTMGR in their root folder."""
        return [each for each in self.examined.volumes if each.has("bootmgr")]


Rule = Callable[[Case, Finding], Outcome]
Rules = Mapping[Code, Rule]
