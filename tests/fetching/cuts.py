"""Cuts fetches and builds from a link at random moments, on the server's side and by kill -9: always the right bytes.

CI has cuts and kills of its own (test_fetch.py); large counts are runs by hand:

    python -m tests.fetching.cuts --seed 1 --count 200
"""

from __future__ import annotations

import argparse
import hashlib
import random
import subprocess
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory

from ..helpers.drives import small_disc
from .server import Served, Server

_MIB = 1 << 20
_FOR_A_CUT = _MIB + _MIB // 4
"""Bytes that may be fetched twice for a broken connection: the overlap, and what was on its way."""
_FOR_A_KILL = 10 * _MIB
"""And for a kill: what the journal did not hold yet."""
_ON_THE_WAY = 6 * _MIB
"""What the server has sent into the system's buffers when nobody reads any more."""


def cut_some(count: int, chance: random.Random, folder: Path) -> tuple[int, int]:
    """Cut `count` times; return how many fetches came to their end, and how many bytes were sent twice.

    Raises AssertionError for a wrong byte, or too many that were fetched twice.
    """
    disc = small_disc(folder / "source.iso", filling=48)
    data = disc.read_bytes()
    digest = hashlib.sha256(data).hexdigest()
    (folder / "net").mkdir()
    finished = done = twice = 0
    with Server(folder / "net", tls=True) as server:
        while done < count:
            into = folder / f"image{finished}.iso"
            line = ["fetch", server.link("/a.iso"), "--sha256", digest, "--into", str(into)]
            served = server.files["/a.iso"] = Served(data)
            cuts = kills = 0
            while not into.exists():
                served.cuts = [chance.randrange(_MIB, 20 * _MIB) for _ in range(chance.randrange(3))]
                cuts += len(served.cuts)
                command = [sys.executable, "-m", "lucky_keystone", *line, "--authority", str(server.authority)]
                with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE) as child:
                    if chance.random() < 0.7 and done + kills + cuts < count:
                        time.sleep(chance.uniform(0.3, 2.5))
                        child.kill()
                    _, told = child.communicate()
                assert child.returncode in (0, -9), told.decode()
                kills += child.returncode == -9
                cuts -= len(served.cuts)
            assert into.read_bytes() == data
            assert {path.name for path in folder.glob(f"{into.name}*")} == {into.name}
            into.unlink()
            more = served.sent - len(data)
            assert more <= cuts * (_FOR_A_CUT + _ON_THE_WAY) + kills * (_FOR_A_KILL + _ON_THE_WAY), (more, cuts, kills)
            finished, done, twice = finished + 1, done + cuts + kills, twice + max(more, 0)
    return finished, twice


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--count", type=int, default=200)
    given = parser.parse_args()
    with TemporaryDirectory() as folder:
        finished, twice = cut_some(given.count, random.Random(given.seed), Path(folder))
    print(f"{given.count} cuts and kills, {finished} images whole and right, {twice / _MIB:.0f} MiB sent twice in all")


if __name__ == "__main__":
    main()
