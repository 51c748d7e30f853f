"""Kills builds of the installed program at random moments and gives the same command again: always the identical drive.

CI takes a few of each; large counts are runs by hand:

    python -m tests.building.kills --seed 1 --count 200
"""

from __future__ import annotations

import argparse
import os
import random
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

from lucky_keystone.demo.mac import RELEASES, write_app

from ..helpers.drives import small_disc
from ..helpers.program import loaded

SHAPES = {
    "fat32": [],
    "gpt": ["--table", "gpt"],
    "ntfs": ["--file-system", "ntfs"],
    "pair": ["--file-system", "fat32+ntfs"],
    "macos": [],
    "combined": ["--with"],
}
TARGETS = ("new file", "new file of a size", "existing file", "stick of a bay", "loop device")
_KILLED = 1 if os.name == "nt" else -9
_SIZE = 120 << 20
_SIZES = {"macos": 220 << 20, "combined": 400 << 20}
_BAY = '[[drive]]\nfile = "stick.img"\nmodel = "Mudlark Mini"\nserial = "MM-1"\n'


@contextmanager
def target(kind: str, folder: Path, size: int = _SIZE) -> Iterator[tuple[list[str], Path]]:
    """Make a target; yield how it is named on the command line, and the file that holds its bytes."""
    file = folder / "stick.img"
    if kind.startswith("new file"):
        yield ["--onto", str(file), *(["--size", str(size)] if kind != "new file" else [])], file
        return
    with file.open("wb") as stream:
        stream.truncate(size)
    if kind == "existing file":
        yield ["--onto", str(file), "--yes"], file
    elif kind == "stick of a bay":
        (folder / "bay.toml").write_text(_BAY)
        listed = subprocess.run(
            [*program(), "drives", "--bay", folder, "--json"], capture_output=True, text=True, check=True
        )
        tag = listed.stdout.partition('"tag": "')[2][:4]
        yield ["--onto", tag, "--bay", str(folder), "--no-probe", "--yes"], file
    else:
        made = subprocess.run(["losetup", "--find", "--show", file], capture_output=True, text=True, check=True)
        device = made.stdout.strip()
        try:
            yield ["--onto", device, "--no-probe", "--yes"], file
        finally:
            subprocess.run(["partx", "--delete", device], capture_output=True, check=False)
            subprocess.run(["losetup", "--detach", device], capture_output=True, check=False)


def program() -> list[str]:
    return [sys.executable, "-m", "lucky_keystone"]


def build(command: list[str], kill_after: float | None = None) -> bool:
    """Give a command, and kill it after so many seconds; return whether that came before its end."""
    if os.name == "nt":
        with subprocess.Popen([*program(), *command], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) as child:
            if kill_after is not None:
                time.sleep(kill_after)
                child.kill()
            _, complaint = child.communicate()
        code, told = child.returncode, complaint.decode()
    else:
        done = loaded().run(command, kill_after=kill_after)
        code, told = done.returncode, done.stderr
    assert code == 0 or (kill_after is not None and code == _KILLED), told
    return code == _KILLED


def is_finished(file: Path) -> bool:
    if not file.exists():
        return False
    with file.open("rb") as stream:
        return any(stream.read(512))


def _sources(shape: str, folder: Path) -> list[str]:
    """Make what is built from; return it with the choices of the shape."""
    options = list(SHAPES[shape])
    app = disc = ""
    if shape in ("macos", "combined"):
        app = str(write_app(folder, RELEASES["10.13"], payload_size=30 << 20))
    if shape != "macos":
        disc = str(small_disc(folder / "small.iso", filling=30))
    return [disc, *options, app] if shape == "combined" else [disc or app, *options]


def kill_some(kind: str, shape: str, count: int, chance: random.Random, folder: Path) -> int:
    """Kill `count` runs at random moments, starting over whenever a drive is finished. Return how often one was.

    Raises AssertionError when a finished drive is another one than without a kill.
    """
    sources = _sources(shape, folder)
    finished = kills = 0
    with target(kind, folder, _SIZES.get(shape, _SIZE)) as (words, file):
        command = ["build", *sources, *words, "--identity", "crew"]
        blank = file.exists()
        if os.name != "nt":
            loaded().run(["--version"])  # from here on a run takes as long as it works
        began = time.monotonic()
        build(command)
        longest, expected = time.monotonic() - began, file.read_bytes()
        while kills < count:
            if is_finished(file):
                build(command)  # killed behind its last write, or not at all
                assert file.read_bytes() == expected, f"{kind}, {shape}: another drive after {kills} kills"
                finished += 1
                if blank:
                    with file.open("r+b") as stream:  # the same file: a loop device stands for it
                        stream.write(bytes(1 << 20))
                        stream.seek(-(1 << 20), os.SEEK_END)
                        stream.write(bytes(1 << 20))
                else:
                    file.unlink()
            kills += build(command, kill_after=longest * 1.1 * chance.random())
        if not is_finished(file):
            build(command)
        assert file.read_bytes() == expected, f"{kind}, {shape}: another drive in the end"
    return finished


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--shape", action="append", choices=SHAPES, help="only this one; may be repeated")
    given = parser.parse_args()
    for kind in TARGETS:
        for shape in given.shape or SHAPES:
            with TemporaryDirectory() as folder:
                chance = random.Random(f"{kind} {shape} {given.seed}")
                ended = kill_some(kind, shape, given.count, chance, Path(folder))
            print(
                f"{kind}, {shape}: {given.count} kills, {ended} drives finished in between, all identical", flush=True
            )


if __name__ == "__main__":
    main()
