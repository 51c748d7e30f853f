"""The program as a process of Windows: its streams, files that it shares, what a kill leaves, and no room."""

from __future__ import annotations

import argparse
import json
import random
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from lucky_keystone.demo.system import write_system

from ..fetching.server import Served, Server
from ..helpers.drives import small_disc
from ..helpers.judges import need
from ..helpers.program import run
from .conftest import NEWEST, OLDEST, Sources, digest
from .lane import VERSIONS, Lane, kill, lane, windows_path

_BAY = '[[drive]]\nfile = "stick.img"\nmodel = "Fähre 東 №4"\nserial = "MM-1"\n'
_SLOW = "[drive.faults]\nbytes_per_second = 6000000\n"


def bay_in(folder: Path, size: int, more: str = "") -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "stick.img").open("wb") as stream:
        stream.truncate(size)
    (folder / "bay.toml").write_text(_BAY + more, "utf-8")
    return folder


PAGES = ("cp437", "cp1252", "cp932", "utf-8")


def test_what_goes_into_pipes_is_utf_8(windows: Lane, tmp_path: Path) -> None:
    bay = bay_in(tmp_path / "bay", 64 << 20)
    listed = windows.keystone("drives", "--bay", bay, "--json", PYTHONIOENCODING="cp932")
    assert listed.code == 0, listed.text
    assert json.loads(listed.out.decode("utf-8"))["drives"][0]["model"] == "Fähre 東 №4"


@pytest.mark.parametrize("windows", VERSIONS[1:], indirect=True)
def test_the_document_of_every_command_is_utf_8(windows: Lane, sources: Sources, tmp_path: Path) -> None:
    """Here in one code page on one interpreter; `main` below has them all."""
    every_document(windows, sources["tidewell.iso"], tmp_path / "Fähre 東 №4", PAGES[0])


def every_document(windows: Lane, iso: Path, home: Path, page: str) -> None:
    """Run all commands that have a document on names which the code page lacks."""
    bay, store, log = bay_in(home / "bay", 64 << 20), home / "store", home / "log.sqlite"
    disc, drive, presets = home / "Überfahrt.iso", home / "Kasse №4.img", home / "東.toml"
    shutil.copyfile(iso, disc)
    presets.write_text("presets = 1\n[preset.crew]\nlabel = 'CREW'\n", "utf-8")
    tag = tag_of(bay)
    with Server(home) as server:
        server.files["/F%C3%A4hre.iso"] = Served(iso.read_bytes())
        link = server.link("/F%C3%A4hre.iso", "127.0.0.1")
        commands: list[list[str | Path]] = [
            ["drives", "--bay", bay],
            ["machine", "--for", disc],
            ["inspect", disc],
            ["plan", disc],
            ["build", disc, "--onto", drive],
            ["build", disc, "--onto", tag, "--bay", bay, "--yes", "--no-probe"],
            ["check", drive, "--against", disc],
            ["check", tag, "--bay", bay],
            ["gauge", drive],
            ["rehearse", drive],
            ["report", drive, "--to", home / "Blatt №4.html"],
            ["mend", drive],
            ["presets", "--config", presets],
            ["fetch", link, "--sha256", digest(iso)],
            ["images", "--verify"],
            ["split", iso.with_name("bridge.wim"), "--into", home / "Teile №4"],
            ["log"],
            ["collect", "--to", home / "Käfig.json"],
            ["reclaim", drive, "--yes"],
            ["check", home / "fehlt №4.img"],
        ]
        places = {"LUCKY_KEYSTONE_STORE": windows_path(store), "LUCKY_KEYSTONE_LOG": windows_path(log)}
        ended = windows.several(*([*words, "--json"] for words in commands), page=page, **places)
    seen = set()
    for words, told in zip(commands, ended, strict=True):
        assert told.code == (2 if words[1:2] == [home / "fehlt №4.img"] else 0), (words, told.text)
        document = json.loads(told.out.decode("utf-8"))
        seen |= {sign for sign in "äÜ東№" if sign in json.dumps(document, ensure_ascii=False)}
    assert seen == set("äÜ東№")
    assert "№4" in (home / "Blatt №4.html").read_text("utf-8")


def test_a_closed_pipe_and_null_input_are_what_they_are(windows: Lane, tmp_path: Path) -> None:
    """Nobody answers behind NUL, though it calls itself a terminal; and a reader that has gone is no error of ours."""
    bay = bay_in(tmp_path / "bay", 64 << 20)
    refused = windows.keystone("reclaim", bay / "stick.img", given=None)
    assert (refused.code, "there is no terminal to confirm on" in refused.text) == (3, True), refused.text
    with windows.started("-m", "lucky_keystone", "schema") as process:
        assert process.stdout is not None
        process.stdout.close()
        process.wait(60)
        assert process.returncode == 141


@pytest.mark.parametrize("windows", NEWEST, indirect=True)
def test_two_runs_do_not_write_one_image_file(windows: Lane, sources: Sources, tmp_path: Path) -> None:
    bay = bay_in(tmp_path / "bay", 64 << 20, _SLOW.replace("6000000", "600000"))
    words = ("build", sources["tidewell.iso"], "--onto", tag_of(bay), "--bay", bay, "--yes", "--no-probe")
    with windows.started("-m", "lucky_keystone", *words) as process:
        wait_until_written(bay / "stick.img", 2 << 20, process)
        second = windows.keystone("build", sources["tidewell.iso"], "--onto", bay / "stick.img", "--yes")
        assert (second.code, "is being written by another program" in second.text) == (3, True), second.text


@pytest.mark.parametrize("windows", OLDEST, indirect=True)
def test_what_does_not_fit_is_refused_before_the_first_byte(windows: Lane, sources: Sources, tmp_path: Path) -> None:
    """On a disk of 24 MiB: the demo, and an image file; a large image with few bytes in it, or in its source, fits."""
    with small_disk(tmp_path) as room:
        hollow = small_disc(tmp_path / "hollow.iso", filling=24)
        fitted = windows.keystone("build", hollow, "--onto", room / "crew.img")
        assert fitted.code == 0, fitted.text
        (room / "crew.img").unlink()
        big = tmp_path / "big.iso"
        big.write_bytes(hollow.read_bytes())  # the same without holes
        refused = windows.keystone("build", big, "--onto", room / "counter.img")
        assert (refused.code, "will be written there" in refused.text) == (5, True), refused.text
        demo = windows.keystone("demo", room / "tidewell")
        assert (demo.code, "The demo" in demo.text) == (5, True), demo.text
        assert [path.name for path in room.iterdir() if path.name != "lost+found"] == []
        built = windows.keystone("build", sources["tidewell.iso"], "--onto", room / "counter.img", "--size", "4GB")
        assert built.code == 0, built.text
        assert (room / "counter.img").stat().st_size == 4_000_000_000


class small_disk:  # noqa: N801 - a with statement reads best in lower case
    """A file system of 24 MiB that is mounted while the block runs."""

    def __init__(self, folder: Path) -> None:
        self.place = folder / "room"

    def __enter__(self) -> Path:
        need("mount")
        self.place.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=24m", "room", self.place], capture_output=True)
        if mounted.returncode:
            pytest.skip("file systems may not be mounted here")
        return self.place

    def __exit__(self, *_: object) -> None:
        subprocess.run(["umount", "--lazy", self.place], check=True)


def tag_of(bay: Path) -> str:
    return str(json.loads(run("drives", "--bay", bay, "--json").stdout)["drives"][0]["tag"])


def wait_until_written(path: Path, size: int, process: subprocess.Popen[bytes]) -> None:
    until = time.monotonic() + 120
    while path.stat().st_blocks * 512 < size and process.poll() is None:
        assert time.monotonic() < until, "nothing was written"
        time.sleep(0.02)


def kill_some(windows: Lane, sources_iso: Path, folder: Path, count: int, chance: random.Random) -> None:
    """Kill builds of one drive at random moments; the same command continues, and the drive is Linux's in the end."""
    bay = bay_in(folder / "bay", 64 << 20, _SLOW)
    words = ("build", sources_iso, "--onto", tag_of(bay), "--bay", bay, "--yes", "--no-probe")
    for _ in range(count):
        with windows.started("-m", "lucky_keystone", *words) as process:
            time.sleep(0.2)
            wait_until_written(bay / "stick.img", chance.randrange(1 << 20, 11 << 20), process)
            time.sleep(chance.random())
            kill(process)
        with (bay / "stick.img").open("rb") as stream:
            assert not any(stream.read(512)), "it looks finished"
    ended = windows.keystone(*words)
    assert ended.code == 0, ended.text
    here = bay_in(folder / "here", 64 << 20)
    run("build", sources_iso, "--onto", tag_of(here), "--bay", here, "--yes", "--no-probe")
    assert digest(bay / "stick.img") == digest(here / "stick.img")


@pytest.mark.parametrize("windows", OLDEST, indirect=True)
def test_killed_builds_continue_to_the_same_drive(windows: Lane, sources: Sources, tmp_path: Path) -> None:
    kill_some(windows, sources["tidewell.iso"], tmp_path, 2, random.Random(26))


def main() -> None:
    """All code pages, and more kills:  python -m tests.windows.test_process --count 20."""
    from tempfile import TemporaryDirectory

    parser = argparse.ArgumentParser(description=main.__doc__)
    parser.add_argument("--count", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    for version in VERSIONS:
        with TemporaryDirectory() as scratch:
            iso = small_disc(Path(scratch) / "tidewell.iso")
            write_system(iso.with_name("bridge.wim"))
            for page in PAGES:
                every_document(lane(version), iso, Path(scratch) / f"Fähre 東 №4 {page}", page)
            print(f"Windows {version}: every document is UTF-8 in {', '.join(PAGES)}", flush=True)
            kill_some(lane(version), iso, Path(scratch), given.count, random.Random(given.seed))
        print(f"Windows {version}: {given.count} kills, and the drive of Linux in the end", flush=True)


if __name__ == "__main__":
    main()
