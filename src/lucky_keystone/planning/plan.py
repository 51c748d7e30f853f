"""The plan: what is decided and why, where everything will lie, and on which firmware the drive will start."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:  # checking shows an Outlook and needs nothing of what a plan is made from
    from ..families.choices import Choices
    from ..sources.source import Source
    from ..tree import Folder
    from .volumes import PlannedVolume


@dataclass(frozen=True)
class DriveShape:
    """What planning needs to know of the drive."""

    name: str
    """Tag or file name; the identity word unless one is chosen."""
    size: int | None
    """Bytes; None when an image file is to be made as large as needed."""
    sector_size: int = 512


@dataclass(frozen=True)
class Decision:
    """One decision with its reason."""

    topic: str
    value: str
    reason: str
    chosen: bool
    """True when the technician chose it, False when the tool did."""


@dataclass(frozen=True)
class Area:
    """A stretch of the drive, for people: offset and size in bytes."""

    name: str
    offset: int
    size: int
    note: str = ""


Verdict = Literal["starts", "will not start", "not known"]


@dataclass(frozen=True)
class Outlook:
    """One row of the forecast."""

    firmware: str
    verdict: Verdict
    reason: str


def without_repeats(rows: Sequence[Outlook]) -> list[Outlook]:
    """Return the rows for people: one that says no more than the row it refines (the same with Secure Boot on) is left out."""
    pairs = zip([None, *rows], rows, strict=False)
    return [
        row
        for before, row in pairs
        if before is None
        or not row.firmware.startswith(before.firmware)
        or (row.verdict, row.reason) != (before.verdict, before.reason)
    ]


@dataclass(frozen=True)
class SplitImage:
    """An install image that goes onto the drive in parts."""

    path: str
    size: int
    parts: tuple[tuple[str, int], ...]
    """Name and size in bytes of each part."""


@dataclass(frozen=True)
class Plan:
    """Everything that a drive is made from, decided."""

    source: Source
    choices: Choices
    """Settled: every choice has a value."""
    drive: DriveShape
    """With its final size."""
    decisions: tuple[Decision, ...]
    areas: tuple[Area, ...]
    needed: int
    """Bytes a drive must have for this source and these choices."""
    unused: int
    """Bytes of the drive that no partition reaches."""
    free: int
    """Bytes left free in the first volume."""
    forecast: tuple[Outlook, ...]
    splits: tuple[SplitImage, ...]
    volumes: tuple[PlannedVolume, ...]
    """In the order they lie on the drive; the first one holds everything the source has."""
    manifest_room: int
    """Bytes kept for the manifest."""

    @property
    def tree(self) -> Folder:
        """Everything the source has, as it will be on the drive."""
        return self.volumes[0].tree

    @property
    def identity(self) -> str:
        """The identity word that serial numbers and signatures are derived from."""
        assert self.choices.identity is not None
        return self.choices.identity
