"""The kinds of volume there are, and which one a place of a drive holds."""

from __future__ import annotations

from collections.abc import Mapping

from ..content.contents import Readable
from .exfat.kind import EXFAT
from .fat16.kind import FAT16
from .fat32.kind import FAT32
from .hfsplus.kind import HFSPLUS
from .kind import ComposedKind, VolumeKind
from .ntfs.kind import NTFS
from .volume import Volume

_COMPOSED: tuple[ComposedKind, ...] = (FAT32, NTFS, HFSPLUS, EXFAT)
_KINDS: tuple[VolumeKind, ...] = (*_COMPOSED, FAT16)
KINDS: Mapping[str, VolumeKind] = {kind.name: kind for kind in _KINDS}
"""All that are read; the first that recognises a volume opens it."""
COMPOSED: Mapping[str, ComposedKind] = {kind.name: kind for kind in _COMPOSED}
FOR_STORAGE: Mapping[str, ComposedKind] = {kind.name: kind for kind in _COMPOSED if kind.for_storage}


def kind_at(drive: Readable, offset: int, size: int) -> VolumeKind | None:
    """Return the kind of volume that starts at byte `offset`, None when no kind that is read recognises it."""
    return next((kind for kind in KINDS.values() if kind.recognises(drive, offset, size)), None)


def open_volume(drive: Readable, offset: int, size: int) -> tuple[VolumeKind, Volume]:
    """Open whichever volume starts at byte `offset`, which may have `size` bytes.

    Raises VolumeError naming the field of a boot sector that is invalid.
    """
    kind = kind_at(drive, offset, size) or FAT32
    return kind, kind.open(drive, offset, size)
