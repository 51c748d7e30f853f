"""Drives for tests: in memory, noting what was done to them, or in image files; and small installers to build from."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.image import DriveImage
from lucky_keystone.checking.check import check_drive
from lucky_keystone.checking.report import Report
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.planning.plan import Plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.volumes.kinds import open_volume


@dataclass
class MemoryDrive:
    """A drive in memory."""

    size: int
    log: list[tuple[str, int, int]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.data = bytearray(self.size)

    @classmethod
    def of(cls, path: Path) -> MemoryDrive:
        """Take an image file into memory."""
        drive = cls(path.stat().st_size)
        drive.data[:] = path.read_bytes()
        return drive

    def write_at(self, offset: int, data: memoryview) -> None:
        assert offset + len(data) <= self.size
        self.log.append(("write", offset, len(data)))
        self.data[offset : offset + len(data)] = data

    def write_zeros(self, offset: int, size: int) -> None:
        self.log.append(("zero", offset, size))
        self.data[offset : offset + size] = bytes(size)

    def readinto_at(self, offset: int, view: memoryview) -> None:
        self.log.append(("read", offset, len(view)))
        view[:] = memoryview(self.data)[offset : offset + len(view)]

    def read_at(self, offset: int, size: int) -> bytes:
        self.log.append(("read", offset, size))
        return bytes(self.data[offset : offset + size])

    def flush(self) -> None:
        self.log.append(("flush", 0, 0))

    def forget_cache(self) -> None:
        pass

    def close(self) -> None:
        pass


def small_disc(path: Path, *, filling: int = 0) -> Path:
    """Write a Tidewell disc of little more than `filling` MiB."""
    write_disc(
        path,
        installer(loader_size=300 << 10, hollow_size=1 << 20, hollow_count=filling, files=12),
        LABEL,
        MOMENT,
        lambda *_: None,
    )
    return path


def extract(disc: Path, folder: Path) -> Path:
    """Put a disc's files into a folder, read by ours."""
    for path, file in open_source(disc).root.files():
        place = folder / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(b"".join(bytes(piece) for piece in stream(file.content)))
    return folder


IN_PARTS = Choices(part_size=5 << 20)


def small_image(disc: Path, *, name: str = "T3ST", size: int | None = None, choices: Choices = IN_PARTS) -> DriveImage:
    """Describe the drive that `disc` becomes.

    Its install image in parts, whose integrity tables are summed while they stream.
    """
    return compose_drive(make_plan(open_source(disc), choices, DriveShape(name, size)))


@dataclass(frozen=True)
class Built:
    """A drive as it was planned and built."""

    path: Path
    source: Source
    plan: Plan
    image: DriveImage


DECIDE_ALL = Choices()


def build_drive(
    source: Source, path: Path, choices: Choices = DECIDE_ALL, *, size: int | None = None, sector_size: int = 512
) -> Built:
    """Build `source` onto the new image file `path`."""
    plan = make_plan(source, choices, DriveShape(path.name, size, sector_size))
    image = compose_drive(plan)
    with ImageFile.make(path, image.size) as target:
        build(image, target, silent)
    return Built(path, source, plan, image)


def check_file(path: Path) -> Report:
    """Check an image file as the command does."""
    with ImageFile(path) as drive:
        return check_drive(drive, silent)


def files_on(path: Path) -> dict[tuple[int, str], bytes]:
    """Return every file of a drive with an MBR, by number of the partition and path."""
    drive, found = ImageFile(path), {}
    try:
        head = drive.read_at(0, 512)
        for number in range(1, 5):
            entry = head[430 + 16 * number : 446 + 16 * number]
            start, count = int.from_bytes(entry[8:12], "little"), int.from_bytes(entry[12:], "little")
            if count:
                _, volume = open_volume(drive, start * 512, count * 512)
                for item in volume.walk():
                    if not item.is_folder:
                        found[number, item.path] = b"".join(volume.pieces(item))
    finally:
        drive.close()
    return found
