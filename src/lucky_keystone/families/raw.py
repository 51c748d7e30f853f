"""The raw family: an image that carries its own table, or a FAT volume without one, is written byte for byte."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from msgspec import Struct

from ..common.errors import KeystoneError, UsageError
from ..common.remembering import remembered
from ..common.units import SECTOR_SIZES, exact_size, shown_size
from ..content.ranges import FileRange
from ..sources.source import Source
from ..starting.bootable import ReadDrive
from ..starting.loaders import examine, loader_path
from ..starting.pe import REMOVABLE_LOADERS
from ..starting.reading import read_drive
from ..tables.gpt import SIGNATURE as GPT_SIGNATURE
from ..tables.table import Partition
from ..volumes.kinds import kind_at
from ..volumes.known import known_at
from .choices import Choices, TakenChoices
from .facts import Loader, SourceFacts
from .family import Decision, DriveBytes, DriveShape, DriveWish, Family

_SLACK = 1 << 20  # bytes that a table may reach beyond its image: some are cut at the last byte that is not zero
_LISTED = 6


class _Look(Struct, frozen=True):
    """An image as it was looked at."""

    sector_size: int
    """Bytes of a sector, by its table or volume."""
    drive: ReadDrive
    image: FileRange

    @property
    def partitions(self) -> tuple[Partition, ...]:
        return self.drive.found_table.partitions if self.drive.found_table else ()

    @property
    def shown(self) -> str:
        """Its table in words."""
        if self.drive.found_table is None:
            return f"none; a {self.drive.volumes[0].kind.shown} volume from sector 0 on"
        listed = [self._partition(partition) for partition in self.partitions[:_LISTED]]
        more = len(self.partitions) - len(listed)
        return f"{self.drive.table.upper()}: {', '.join(listed)}" + (f" and {more} more" if more else "")

    @property
    def reason(self) -> str:
        """What makes it a drive by itself; completes 'it …'."""
        if self.drive.found_table is None:
            return f"is a {self.drive.volumes[0].kind.shown} volume from sector 0 on"
        return f"brings its own table: {self.shown}"

    def _partition(self, partition: Partition) -> str:
        volume = next((found for found in self.drive.volumes if found.partition == partition), None)
        start, size = partition.first_lba * self.sector_size, partition.sector_count * self.sector_size
        known = "" if volume else known_at(self.image, start, min(size, self.image.size - start))
        what = volume.kind.shown if volume else known or partition.type_shown
        return f"{what} {shown_size(size)}{', active' if partition.active else ''}"


@remembered
def _look_at(source: Source) -> _Look | None:
    """Return what makes an image one of this family; None when nothing does."""
    image = source.image
    if image is None:
        return None
    try:
        kind = kind_at(image, 0, image.size)
        if kind is not None and kind.firmware_reads:
            sector = _sector_of_volume(image)
            look = _Look(sector, read_drive(image, sector, "the image"), image)
            if look.drive.volumes:
                return look
        for sector in SECTOR_SIZES:
            is_gpt = image.size >= 2 * sector and image.read_at(sector, 8) == GPT_SIGNATURE
            look = _Look(sector, read_drive(image, sector, "the image"), image)
            if (is_gpt or sector == SECTOR_SIZES[0]) and any(_is_sensible(p, image, sector) for p in look.partitions):
                return look
    except KeystoneError:
        return None
    return None


def _sector_of_volume(image: FileRange) -> int:
    """The sector size that a FAT boot sector states (fatgen103, BPB_BytsPerSec)."""
    return int.from_bytes(image.read_at(11, 2), "little")


def _is_sensible(partition: Partition, image: FileRange, sector: int) -> bool:
    """True for a partition that begins within the image, behind its table."""
    return partition.sector_count > 0 and 0 < partition.first_lba * sector < image.size and not partition.protective


class RawImage(Family):
    """Images that make a drive by themselves."""

    name: ClassVar[str] = "raw-image"
    shown: ClassVar[str] = "raw image"
    alone: ClassVar[str] = "a raw image with a table of its own"
    takes: ClassVar[TakenChoices] = TakenChoices(
        frozenset(("purpose", "as_is")),
        otherwise="the source is a raw image, which is written byte for byte: nothing in it can be chosen",
    )
    must_start: ClassVar[bool] = False

    def recognises(self, source: Source) -> bool:
        return _look_at(source) is not None

    def facts(self, source: Source) -> SourceFacts:
        look, image = _looked_at(source)
        packed = f", compressed with {source.packing.name}" if source.packing else ""
        volumes = look.drive.volumes
        loaders = tuple(_loaders(look.drive))
        return SourceFacts(
            family=self.name,
            form=source.form + packed,
            label=source.label or (volumes[0].volume.label() if volumes else ""),
            file_count=sum(1 for _ in source.root.files()),
            folder_count=source.root.folder_count,
            total_bytes=image.size,
            architectures=tuple(dict.fromkeys(loader.architecture for loader in loaders if loader.architecture)),
            loaders=loaders,
            table=look.shown,
            damage=tuple(_cut(look, image)),
            notes=_notes(source),
        )

    def refuse_update(self) -> None:
        raise UsageError(
            "--update: a raw image is written whole: where its files are is unknown.",
            advice="Leave out --update; where the drive was interrupted, the same command continues.",
        )

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        look, image = _looked_at(source)
        _refuse_added(source)
        _refuse_sectors(source, look, drive)
        decisions = [
            Decision("method", "the image, byte for byte", f"it {look.reason}"),
            Decision("size", exact_size(image.size), _size_reason(source)),
            Decision(
                "identity",
                "the image's own",
                "all drives of this image share signature and GUIDs: never plug two of them into one computer",
            ),
        ]
        return DriveWish(
            choices=choices,
            table="none",
            image=DriveBytes(image),
            decisions=decisions,
            bootable=look.drive,
        )


def _looked_at(source: Source) -> tuple[_Look, FileRange]:
    look = _look_at(source)
    assert look is not None
    assert source.image is not None
    return look, source.image


def _loaders(drive: ReadDrive) -> list[Loader]:
    found: list[Loader] = []
    for volume in drive.volumes:
        for architecture in REMOVABLE_LOADERS:
            file = volume.find(loader_path(architecture)) if volume.kind.firmware_reads else None
            if file is not None:
                found.append(Loader(file.path, "uefi", examine(file).architecture, file.size))
    return found


def _notes(source: Source) -> tuple[str, ...]:
    if source.packing is None or not source.packing.was_measured:
        return ()
    return (f"{source.packing.name} does not say how large the image is: it was decoded once, and is whole.",)


def _size_reason(source: Source) -> str:
    if source.packing is None:
        return "the file's own size"
    if not source.packing.was_measured:
        return f"what the {source.packing.name} file says; checked while it is written"
    return "measured by decoding all of it once"


def _refuse_added(source: Source) -> None:
    if source.added:
        raise UsageError(
            f"--add: {source.path.name} is a raw image, which is written byte for byte: nothing can be added to it.",
            advice="Leave it out, and copy the files onto the finished drive.",
        )


def _refuse_sectors(source: Source, look: _Look, drive: DriveShape) -> None:
    has_own = look.drive.table == "gpt" or any(
        volume.volume.boot_sector[11:13] == look.sector_size.to_bytes(2, "little") for volume in look.drive.volumes
    )
    if look.sector_size != drive.sector_size and has_own:
        raise UsageError(
            f"{source.path.name} is made for drives with sectors of {look.sector_size} bytes; "
            f"{drive.name} has {drive.sector_size}.",
            advice="Use another drive, or an image that is made for this kind.",
        )


def _cut(look: _Look, image: FileRange) -> Iterator[str]:
    ends = [(p.first_lba + p.sector_count) * look.sector_size for p in look.partitions if not p.protective]
    if ends and max(ends) > image.size + _SLACK:
        yield f"Its last partition ends at byte {max(ends):,}, the image at {image.size:,}."
