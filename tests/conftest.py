"""What tests share: a small Tidewell disc, and a drive built from it. Helpers are in `tests/helpers`."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections import defaultdict
from collections.abc import Callable, Iterator
from datetime import date
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from lucky_keystone.common.progress import silent
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.families.choices import Choices
from lucky_keystone.sources.opening import open_source

from .helpers import turns
from .helpers.drives import Built, build_drive, extract, small_disc
from .helpers.hand_made import make_drives, with_user_files

os.environ["LUCKY_KEYSTONE_JOURNALS"] = str(Path(tempfile.gettempdir(), f"lucky-keystone-journals-{os.getpid()}"))
os.environ["LUCKY_KEYSTONE_STORE"] = str(Path(tempfile.gettempdir(), f"lucky-keystone-store-{os.getpid()}"))
# A machine that is busy with other work is slow: nothing here judges that.
settings.register_profile("unhurried", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("unhurried")
os.environ["LUCKY_KEYSTONE_LOG"] = "off"  # tests of the shop's record name a file of their own


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--turns", type=date.fromisoformat, metavar="YYYY-MM-DD", help="long tests take that day's turns")


def pytest_report_header(config: pytest.Config) -> str:
    day = config.getoption("--turns")
    return f"long tests: the turns of {day} (--turns {day} gives the same)" if day else "long tests: every case"


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave out the cases of long tests that do not have their turn."""
    day = config.getoption("--turns")
    if day is None:
        return
    long, cases = turns.long_tests(), defaultdict[str, list[pytest.Item]](list)
    for item in items:
        cases[item.nodeid.partition("[")[0]].append(item)
    kept = {id(item) for name, some in cases.items() for item in (turns.on(day, name, some) if name in long else some)}
    config.hook.pytest_deselected(items=[item for item in items if id(item) not in kept])
    items[:] = [item for item in items if id(item) in kept]


@pytest.fixture(scope="session")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A Tidewell disc of 28 MB whose install image of 17 MB can be divided at 8 MiB."""
    path = tmp_path_factory.mktemp("disc") / "tidewell.iso"
    write_disc(path, installer(hollow_size=4 << 20, hollow_count=3), LABEL, MOMENT, silent)
    return path


@pytest.fixture(scope="session")
def built(disc: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Built]:
    """A drive built from the disc, its install image in parts. Not to be written to: `copy_of` is for that."""
    made = build_drive(open_source(disc), tmp_path_factory.mktemp("drive") / "counter.img", Choices(part_size=8 << 20))
    before = made.path.read_bytes()
    yield made
    assert made.path.read_bytes() == before, "a test has written to the drive that all tests share"


@pytest.fixture
def copy_of(built: Built, tmp_path: Path) -> Callable[[], Path]:
    """Make a copy of the built drive that a test may change."""

    def make() -> Path:
        path = tmp_path / "copy.img"
        shutil.copyfile(built.path, path)
        return path

    return make


@pytest.fixture(scope="session")
def hand_made(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, bytes]]:
    """An installer's files with those of somebody beside them, and drives made from them by hand."""
    folder = tmp_path_factory.mktemp("hand")
    files = with_user_files(extract(small_disc(folder / "disc.iso"), folder / "files"))
    return files, make_drives(folder, files)


@pytest.fixture(scope="session")
def files(hand_made: tuple[Path, dict[str, bytes]]) -> Path:
    return hand_made[0]


@pytest.fixture(scope="session")
def drives(hand_made: tuple[Path, dict[str, bytes]]) -> dict[str, bytes]:
    return hand_made[1]
