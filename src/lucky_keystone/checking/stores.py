"""Boot stores that changed since the build: whether a system wrote them, as it does at every start."""

from __future__ import annotations

from collections.abc import Sequence

from ..common.errors import KeystoneError
from ..hive.read import Hive
from ..volumes.volume import FileOnVolume
from .found import FoundVolume
from .telling import files_at

_BUILT = 1
"""Sequence number of a hive as it is built; whatever writes to it raises that."""
_LARGEST = 16 << 20


def rewritten_by_a_system(found: FoundVolume, places: Sequence[tuple[int, int]]) -> bool:
    """Tell whether the stores in stretches of the drive (offset, size) are sound hives, and one was written since.

    A start writes the store of its own firmware; both may lie in one stretch.
    """
    names = {name for offset, size in places for name in files_at(found, offset, size)}
    try:
        written = [_sequence(found, name) for name in names]
    except KeystoneError:
        return False
    return max(written, default=0) > _BUILT


def _sequence(found: FoundVolume, name: str) -> int:
    """Return how often a hive was written. Raises HiveError where it is damaged."""
    store = FileOnVolume(found.volume, found.volume.find(name))
    hive = Hive(store.read_at(0, min(store.size, _LARGEST)), name)
    for _, key in hive.walk():
        list(key.values())
    return hive.base.sequence_1
