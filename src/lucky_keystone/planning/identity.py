"""Serial numbers and signatures: derived, never random, so that a build can be repeated and compared."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any
from uuid import UUID

import msgspec

from .. import __version__
from ..families.choices import Choices
from ..families.family import DriveNames, DriveShape, PartitionPlace
from ..sources.source import Source
from .plan import FittedVolume


class DerivedNumbers:
    """The numbers of one drive, all derived from what makes it."""

    def __init__(self, *basis: Any) -> None:
        self._basis = msgspec.json.encode(["lucky-keystone", __version__, *basis], order="sorted")

    def derive(self, purpose: str, size: int) -> bytes:
        """Return `size` bytes (up to 32) for `purpose`. Never all zero."""
        for attempt in range(256):
            value = hashlib.sha256(self._basis + msgspec.json.encode(purpose) + bytes((attempt,))).digest()[:size]
            if any(value):
                return value
        raise AssertionError("a hash of zeros 256 times over")

    def number(self, purpose: str, size: int = 4) -> int:
        """Return a number of `size` bytes for `purpose`, never 0."""
        return int.from_bytes(self.derive(purpose, size), "little")

    def guid(self, purpose: str) -> UUID:
        """Return a GUID for `purpose`."""
        return UUID(bytes=self.derive(purpose, 16), version=4)


def numbers_of(source: Source, settled: Choices, drive: DriveShape) -> DerivedNumbers:
    """Return the numbers of a drive: everything that decides about it makes them, its identity word among it."""
    return DerivedNumbers(source.fingerprint, msgspec.to_builtins(settled), drive.size, drive.sector_size)


_FIRST_GUIDS = {1: "partition GUID", 2: "second partition GUID"}


def names_of(numbers: DerivedNumbers, volumes: Sequence[FittedVolume], style: str) -> DriveNames:
    """Return how a drive and its partitions are named."""
    partitions = {
        volume.wish.name: PartitionPlace(
            volume.planned.start, numbers.guid(_FIRST_GUIDS.get(number, f"{volume.wish.name} partition GUID"))
        )
        for number, volume in enumerate(volumes, 1)
    }
    return DriveNames(style, numbers.number("disk signature"), numbers.guid("disk GUID"), partitions, numbers.guid)
