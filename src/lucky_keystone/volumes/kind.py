"""What a kind of volume answers for itself.

Planning, building and checking ask these questions of every volume and hold nothing of their own about any file system.
A further kind is one more folder beside this file, and a line in `kinds.KINDS`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, ClassVar, Protocol
from uuid import UUID

from msgspec import Struct

from ..boot.records import BootRecord
from ..content.contents import Readable
from ..content.regions import Region
from ..content.tree import Folder
from ..drawing.areas import Area
from ..tables.partition import Use
from .volume import Volume


class Budget(Struct, frozen=True):
    """What a volume asks of the manifest's room, at most. Bytes."""

    hashed: int
    """Bytes of the volume that are hashed."""
    text: int
    """Bytes of text about single folders or files."""


class StandingVolume(Struct, frozen=True):
    """A volume of a drive that is to be updated."""

    kind: ComposedKind
    geometry: Any
    """The kind's own dimensions of it."""
    cluster_size: int
    places: Mapping[str, tuple[int, int]]
    """Path in upper case to first cluster and size in bytes, of every file that lies in one piece."""


class PlannedVolume(Protocol):
    """A volume as it will be, with its place on the drive. Offsets and sizes in bytes."""

    @property
    def kind(self) -> ComposedKind: ...

    @property
    def tree(self) -> Folder:
        """What is on it."""

    @property
    def label(self) -> str: ...

    @property
    def start(self) -> int: ...

    @property
    def size(self) -> int:
        """Of its partition."""

    @property
    def end(self) -> int: ...

    @property
    def used_end(self) -> int:
        """First byte behind everything that is on it."""

    @property
    def free(self) -> int: ...

    @property
    def cluster_size(self) -> int: ...

    @property
    def scattered(self) -> int:
        """Holes that end a run of files; an update may leave some, and each takes room in the manifest."""

    def budget(self) -> Budget:
        """Return what it asks of the manifest."""

    def areas(self) -> list[Area]:
        """Return its parts, the free space among them."""

    def regions(self, serial: int) -> list[Region]:
        """Return everything that is written of it, at offsets of the drive, with our boot record."""

    def note(self, serial: int) -> dict[str, Any]:
        """Return what the manifest keeps of it: what must be known to tell a host's changes from damage."""


class Draft(Protocol):
    """A volume that has no place yet."""

    def smallest_end(self, start: int) -> int:
        """Return the byte, a whole MiB, where the smallest such volume ends that starts at byte `start`."""

    def settle(self, start: int, end: int) -> PlannedVolume:
        """Return the volume from byte `start` to `end`. Raises UsageError or SourceError when it cannot be that."""

    def budget(self, size: int | None) -> Budget:
        """Return what a volume of `size` bytes (its smallest if None) asks of the manifest."""


class VolumeKind(Protocol):
    """A file system that is read."""

    name: ClassVar[str]
    """In choices and manifests."""
    shown: ClassVar[str]
    firmware_reads: ClassVar[bool]
    """True when all UEFI firmware reads it (UEFI 2.10, 13.3)."""
    names_loaders: ClassVar[bool]
    """True when a volume itself names the loader that firmware starts, as Macs want it."""
    partition_types: ClassVar[frozenset[int | UUID]]
    """Types of partitions, in an MBR or a GPT, that stand for it."""
    boot_record: ClassVar[BootRecord | None]
    """Ours for it; None where none is written."""
    checked_with: ClassVar[str]
    """What checks and repairs such a volume beside this program, completing 'Run …'."""

    def recognises(self, drive: Readable, offset: int, size: int) -> bool:
        """Tell whether such a volume starts at byte `offset`, by its first sector."""

    head: ClassVar[tuple[int, str]]
    """Byte of the volume at which the structure lies that says what it is, and its name."""

    def head_copy(self, drive: Readable, offset: int, size: int) -> int | None:
        """Return the byte of a sound copy of the head of the volume at byte `offset`, which has `size` bytes.

        None where there is none.
        """

    def fitted(self, drive: Readable, offset: int, size: int) -> Sequence[tuple[int, bytes]]:
        """Return what makes the volume at byte `offset` end with its partition of `size` bytes: place, bytes.

        Nothing where it does not reach beyond, and of kinds that are not mended so.
        """

    def sector_size_at(self, drive: Readable, offset: int) -> int:
        """Return the bytes of a sector by the head of the volume at byte `offset`; 0 where it does not say them."""

    def own_span(self, volume: Any) -> tuple[int, int]:
        """Return the first sector of the partition that a volume says it lies in, and its sectors.

        (0, 0) of a kind that does not say it.
        """

    def open(self, drive: Readable, offset: int, size: int) -> Volume:
        """Open the volume at byte `offset`, which may have `size` bytes. Raises VolumeError naming what is wrong."""


class ComposedKind(VolumeKind, Protocol):
    """A file system that is composed as well."""

    serial_size: ClassVar[int]
    """Bytes of a serial number."""
    use: ClassVar[Use]
    """What the partition of an ordinary volume is for."""
    label_rule: ClassVar[str]
    """What a label may be, for people."""
    for_storage: ClassVar[bool]
    """True when a drive may become ordinary storage with it."""

    def label_fault(self, label: str) -> str:
        """Return what is wrong with a label, '' when it can be stored."""

    def stored_label(self, label: str) -> str:
        """Return a label as it is stored: in upper case, say."""

    def usual_cluster(self, volume_size: int, sector_size: int) -> int:
        """Return the cluster size in bytes that is usual for a volume of `volume_size` bytes."""

    def check_cluster(self, size: int, sector_size: int) -> None:
        """Raise UsageError for a cluster size that it does not have."""

    def reach(self, sectors: int) -> int:
        """Return up to which sector of a drive of `sectors` such a volume can lie."""

    def obstacle(self, tree: Folder) -> str:
        """Return why it cannot hold the names and files of `tree`, '' when it can."""

    def draft(self, tree: Folder, label: str, cluster: int, sector_size: int) -> Draft:
        """Draft a volume. Raises SourceError for what it cannot hold, UsageError for its cluster size."""

    def again(self, tree: Folder, label: str, standing: StandingVolume) -> PlannedVolume:
        """Lay a tree out on a volume that is there already. Raises SourceError where it does not fit."""

    def geometry_of(self, volume: Any) -> Any:
        """Return the dimensions of a volume that was opened, to lay a tree out on it again."""

    def partition_end(self, regions: Sequence[tuple[str, int, int]], limit: int) -> int:
        """Return where a volume's partition ends by its regions (kind, offset, size), which lie before `limit`."""
