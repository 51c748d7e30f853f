"""What a manifest keeps of a volume: what must be known to tell a host's changes from damage.

Each kind has a note of its own, told apart by the text's `file_system`. Numbers are held to what they can be: a
manifest may be forged, hashes and all.
"""

from __future__ import annotations

from typing import Annotated

import msgspec

U32 = Annotated[int, msgspec.Meta(ge=0, lt=1 << 32)]
U63 = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]
U64 = Annotated[int, msgspec.Meta(ge=0)]
_BEYOND_ANY_VOLUME = 1 << 32  # clusters


class VolumeNote(msgspec.Struct, frozen=True, tag_field="file_system"):
    """What is kept of a volume of any kind."""

    offset: U63
    """First byte on the drive."""
    label: str
    serial: U64
    next_free_cluster: U32
    free_clusters: U32
    holes: list[tuple[U32, U32]] = []
    """First cluster and count of free clusters below `next_free_cluster`, as an update leaves them."""

    @property
    def file_system(self) -> str:
        return str(self.__struct_config__.tag)

    def free_runs(self) -> list[tuple[int, int]]:
        """Return (first cluster, count) of what was free when the drive was built.

        The last run goes beyond the volume.
        """
        return [*self.holes, (self.next_free_cluster, _BEYOND_ANY_VOLUME)]

    def was_free(self, cluster: int) -> bool:
        """True for a cluster that nothing was in when the drive was built."""
        return any(first <= cluster < first + count for first, count in self.free_runs())


class Fat32Note(VolumeNote, frozen=True, tag="fat32"):
    """Of a FAT32 volume."""

    folders: list[tuple[U32, U32]] = []
    """First cluster and bytes of entries of each folder, in the order they lie on the volume."""


class NtfsNote(VolumeNote, frozen=True, tag="ntfs"):
    """Of an NTFS volume."""

    records: bytes = b""
    """Four bytes for each file record (base64 in the text); see volumes/ntfs/essence.py."""
    runs: bool = False
    """True of a volume that a system runs from, so that what it changes is not damage."""


class HfsPlusNote(VolumeNote, frozen=True, tag="hfsplus"):
    """Of an HFS+ volume."""

    header: bytes = b""
    """The volume header (base64 in the text)."""
    records: bytes = b""
    """Four bytes for each catalog ID (base64 in the text); see volumes/hfsplus/essence.py."""


AnyNote = Fat32Note | NtfsNote | HfsPlusNote
