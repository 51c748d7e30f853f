"""Drives that a Windows Python builds are bit for bit those that Linux builds, of every form of source and every shape."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from ..fetching.server import Served, Server
from ..helpers.program import run
from .conftest import Sources, digest
from .lane import Ended, Lane

CASES: dict[str, tuple[str, ...]] = {
    "disc, FAT32": ("tidewell.iso",),
    "disc, NTFS": ("tidewell.iso", "--file-system", "ntfs"),
    "disc, parts": ("tidewell.iso", "--part-size", "5MB"),
    "disc, pair": ("tidewell.iso", "--file-system", "fat32+ntfs"),
    "disc, GPT, 4096": ("tidewell.iso", "--table", "gpt", "--sector-size", "4096"),
    "folder": ("tidewell",),
    "folder with more": (
        *("tidewell", "--add", "added", "--drivers", "drivers", "--answer-file", "answers.xml"),
        *("--file-system", "ntfs"),
    ),
    "disc with more": ("tidewell.iso", "--add", "added"),
    "app in a zip": ("app.zip",),
    "app in a disk image": ("app.dmg",),
    "portable": ("bridge.wim", "--purpose", "portable", "--size", "1GB"),
    "raw, packed": ("printer.img.gz",),
    "raw": ("printer.img",),
}


def words_of(case: str, sources: Sources) -> list[str | Path]:
    return [sources[word] if (sources.folder / word).exists() else word for word in CASES[case]]


@pytest.fixture(scope="session")
def linux(sources: Sources, tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """The sum of every case's drive, built here."""
    home, found = tmp_path_factory.mktemp("linux"), {}
    for case in CASES:
        image = home / "counter.img"
        run("build", *words_of(case, sources), "--onto", image)
        found[case] = digest(image)
        image.unlink()
    return found


@pytest.fixture(scope="session")
def there(windows: Lane, sources: Sources, tmp_path_factory: pytest.TempPathFactory) -> dict[str, tuple[str, list[Ended]]]:
    """The sum of every case's drive built in the lane, and what building and checking it said."""
    home = tmp_path_factory.mktemp("windows")
    commands: list[list[str | Path]] = []
    for number, case in enumerate(CASES):
        words, image = words_of(case, sources), home / str(number) / "counter.img"
        image.parent.mkdir()
        more = words[1:3] if "--add" in words[1:2] else []
        commands += [["build", *words, "--onto", image], ["check", image, "--against", words[0], *more]]
    ended = windows.several(*commands)
    found = {}
    for number, case in enumerate(CASES):
        image = home / str(number) / "counter.img"
        stored = image.stat().st_blocks * 512
        assert stored < 0.9 * image.stat().st_size or case.startswith("raw")
        found[case] = digest(image), ended[2 * number : 2 * number + 2]
        image.unlink()
    return found


@pytest.mark.parametrize("case", CASES)
def test_every_drive_is_that_of_linux(
    case: str, linux: dict[str, str], there: dict[str, tuple[str, list[Ended]]]
) -> None:
    found, (built, checked) = there[case]

    assert (built.code, "No faults found." in built.text) == (0, True), built.text
    assert found == linux[case]
    # With --drivers or of another system the drive has more than the source.
    assert checked.code == 0 or case in ("portable", "folder with more"), checked.text


def test_three_sizes_at_once_are_right_each_time(windows: Lane, sources: Sources, tmp_path: Path) -> None:
    """Threads read one source and write three drives; each drive is laid out differently."""
    sizes = (96 << 20, 200 << 20, 400 << 20)

    def images(home: Path) -> list[Path]:
        home.mkdir()
        paths = [home / f"{size >> 20}.img" for size in sizes]
        for path, size in zip(paths, sizes, strict=True):
            with path.open("wb") as stream:
                stream.truncate(size)
        return paths

    here, there = images(tmp_path / "here"), images(tmp_path / "there")
    onto = [word for path in here for word in ("--onto", path)]
    run("build", sources["tidewell.iso"], *onto, "--yes")
    for _ in range(3):
        onto = [word for path in there for word in ("--onto", path)]
        built = windows.keystone("build", sources["tidewell.iso"], *onto, "--yes", "--from-scratch", "--progress", "none")
        assert built.code == 0, built.text
        assert [digest(path) for path in there] == [digest(path) for path in here]


def test_a_link_is_fetched_and_built_from_and_leaves_nothing_over(
    windows: Lane, sources: Sources, linux: dict[str, str], tmp_path: Path
) -> None:
    """Cut off once: the same command continues, the file has one name, and the store proves it."""
    data = sources["tidewell.iso"].read_bytes()
    summed = hashlib.sha256(data).hexdigest()
    with Server(tmp_path) as server:
        server.files["/tidewell.iso"] = Served(data, cuts=[len(data) // 2])
        link, store = server.link("/tidewell.iso", "127.0.0.1"), tmp_path / "store"
        into, image = tmp_path / "into", tmp_path / "counter.img"
        into.mkdir()
        fetched = windows.keystone("fetch", link, "--sha256", summed, "--into", into)
        assert fetched.code == 0, fetched.text
        assert [path.name for path in into.iterdir()] == ["tidewell.iso"]
        assert digest(into / "tidewell.iso") == summed
        stored = windows.keystone("fetch", link, "--sha256", summed, LUCKY_KEYSTONE_STORE=f"Z:{store}")
        assert stored.code == 0, stored.text
        assert sorted(path.name for path in store.rglob("*") if path.is_file()) == ["about.json", "tidewell.iso"]
        listed = windows.keystone("images", "--verify", LUCKY_KEYSTONE_STORE=f"Z:{store}")
        assert listed.code == 0, listed.text
        built = windows.keystone("build", link, "--sha256", summed, "--onto", image, "--progress", "none")
        assert built.code == 0, built.text
        assert digest(image) == linux["disc, FAT32"]
