"""A volume as a check found it."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ..common.errors import KeystoneError
from ..tables.table import Partition
from ..volumes.kind import VolumeKind
from ..volumes.volume import Entry, Volume


class FoundVolume(Struct, frozen=True):
    """A volume that could be read, the partition it is in, and everything on it, the root first."""

    partition: Partition
    kind: VolumeKind
    volume: Volume
    entries: Sequence[Entry]
    firmware_sees_it: bool = True
    """False where its boot sector is lost, or no table that counts names it."""

    def has(self, path: str) -> bool:
        """Tell whether a file or folder is there, as far as the folders on the way can be read."""
        return has_entry(self.volume, path)


def has_entry(volume: Volume, path: str, *, unread: bool = False) -> bool:
    """Tell the same of a volume alone. `unread` is the answer where folders on the way cannot be read."""
    try:
        return volume.find(path) is not None
    except KeystoneError:
        return unread
