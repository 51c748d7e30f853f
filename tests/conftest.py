"""What tests share: small Tidewell discs and the drives built from them."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.building.image import DriveImage
from lucky_keystone.checking.check import check_drive
from lucky_keystone.checking.report import Report
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.planning.plan import Plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source

os.environ["LUCKY_KEYSTONE_LOG"] = "off"  # tests of the shop's record name a file of their own


def silent(stage: str, done: int, total: int) -> None:
    """Hear of progress and say nothing."""


def need(tool: str) -> str:
    """Return the path of an outside tool, or skip the test naming it."""
    path = shutil.which(tool)
    if path is None:
        pytest.skip(f"{tool} is not installed")
    return path


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


@pytest.fixture(scope="session")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A Tidewell disc of 28 MB whose install image of 17 MB can be divided at 8 MiB."""
    path = tmp_path_factory.mktemp("disc") / "tidewell.iso"
    write_disc(path, installer(hollow_size=4 << 20, hollow_count=3), LABEL, MOMENT, silent)
    return path


@pytest.fixture(scope="session")
def built(disc: Path, tmp_path_factory: pytest.TempPathFactory) -> Built:
    """A drive built from the disc, its install image in parts. Not to be written to."""
    return build_drive(open_source(disc), tmp_path_factory.mktemp("drive") / "counter.img", Choices(part_size=8 << 20))


@pytest.fixture
def copy_of(built: Built, tmp_path: Path) -> Callable[[], Path]:
    """Make a copy of the built drive that a test may change."""

    def make() -> Path:
        path = tmp_path / "copy.img"
        shutil.copyfile(built.path, path)
        return path

    return make
