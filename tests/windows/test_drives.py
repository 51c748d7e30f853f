"""Drives that a Windows Python builds are bit for bit those of Linux, of every form of source and every shape."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path

import pytest

from ..fetching.server import Served, Server
from ..helpers.program import run
from .conftest import NEWEST, OLDEST, Sources, digest
from .lane import Ended, Lane, several

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


Runner = Callable[..., list[Ended]]


def built_by(run_all: Runner, sources: Sources, home: Path) -> dict[str, tuple[str, Ended, Ended]]:
    """Build every case's drive and check it; return its sum, and what was said."""
    commands: list[list[str | Path]] = []
    images = {case: home / str(number) / "counter.img" for number, case in enumerate(CASES)}
    for case, image in images.items():
        image.parent.mkdir(parents=True)
        words = [sources[word] if (sources.folder / word).exists() else word for word in CASES[case]]
        more = words[1:3] if "--add" in words[1:2] else []
        commands += [["build", *words, "--onto", image], ["check", image, "--against", words[0], *more]]
    ended = run_all(*commands)
    found = {}
    for (case, image), built, checked in zip(images.items(), ended[::2], ended[1::2], strict=True):
        assert (built.code, "No faults found." in built.text) == (0, True), built.text
        facts = image.stat()
        assert facts.st_blocks * 512 < 0.9 * facts.st_size or case.startswith("raw"), "zeros were written"
        found[case] = digest(image), built, checked
        image.unlink()
    return found


def test_every_drive_is_that_of_linux(windows: Lane, sources: Sources, tmp_path: Path) -> None:
    here, there = (
        built_by(run_all, sources, tmp_path / name) for name, run_all in (("l", several), ("w", windows.several))
    )

    assert {case: sums[0] for case, sums in there.items()} == {case: sums[0] for case, sums in here.items()}
    # Of a portable drive, and with --drivers, the drive has more than the source.
    wrong = {case: told for case, (_, _, told) in there.items() if told.code}
    assert set(wrong) <= {"portable", "folder with more"}, wrong


@pytest.mark.parametrize("windows", OLDEST, indirect=True)
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
    onto = [word for path in there for word in ("--onto", path)]
    build = ["build", sources["tidewell.iso"], *onto, "--yes", "--from-scratch"]
    checks = [["check", path, "--against", sources["tidewell.iso"]] for path in there]
    for told in windows.several(*([build, *checks] * 3)):
        assert (told.code, "No faults found." in told.text) == (0, True), told.text
    assert [digest(path) for path in there] == [digest(path) for path in here]


@pytest.mark.parametrize("windows", NEWEST, indirect=True)
def test_a_link_is_fetched_and_built_from_and_leaves_nothing_over(
    windows: Lane, sources: Sources, tmp_path: Path
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
        run("build", sources["tidewell.iso"], "--onto", tmp_path / "here.img", "--identity", "counter.img")
        assert digest(image) == digest(tmp_path / "here.img")
