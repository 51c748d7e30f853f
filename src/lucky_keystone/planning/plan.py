"""The plan: what is decided and why, where everything will lie, and on which firmware the drive will start."""

from __future__ import annotations

from msgspec import Struct

from ..content.tree import Folder
from ..drawing.areas import Area
from ..families.choices import Choices
from ..families.family import Decision, DriveBytes, DriveShape, SplitImage, VolumeWish
from ..sources.source import Source
from ..starting.bootable import Bootable
from ..starting.outlook import Outlook
from ..volumes.kind import PlannedVolume


class FittedVolume(Struct, frozen=True):
    """A volume that was wished for, with its place."""

    wish: VolumeWish
    planned: PlannedVolume


class Plan(Struct, frozen=True):
    """Everything that a drive is made from, decided. Sizes in bytes."""

    source: Source
    choices: Choices
    """Settled: every choice that the source's family has, has a value."""
    identity: str
    """The word that serial numbers and signatures are derived from."""
    drive: DriveShape
    """With its final size."""
    table: str
    """mbr, gpt, or none where an image brings its own."""
    decisions: tuple[Decision, ...]
    areas: tuple[Area, ...]
    needed: int
    """What a drive must have for this source and these choices."""
    unused: int
    """What no partition reaches."""
    forecast: tuple[Outlook, ...]
    bootable: Bootable
    """What firmware will see of it."""
    splits: tuple[SplitImage, ...]
    volumes: tuple[FittedVolume, ...]
    """In the order they lie on the drive."""
    image: DriveBytes | None
    """What makes the drive as it is, instead of volumes."""
    manifest_offset: int | None
    """Where the manifest begins; None when the drive has no room for it, and it is kept on this computer."""
    manifest_room: int
    laid_over: tuple[str, ...] = ()
    """Paths of files, and of folders with a '/' behind, that the source itself does not have, or has otherwise."""
    damage: tuple[str, ...] = ()
    """What is known to be wrong with the source, when it is built although it is incomplete."""

    @property
    def main(self) -> FittedVolume | None:
        """The volume that takes what the others leave: the one with everything the source has."""
        return next((volume for volume in self.volumes if volume.wish.takes_rest), None)

    @property
    def tree(self) -> Folder:
        """Everything the source has, as it will be on the drive."""
        return self.main.wish.tree if self.main else self.source.root

    @property
    def free(self) -> int:
        """What is left free in the main volume."""
        return self.main.planned.free if self.main else 0
