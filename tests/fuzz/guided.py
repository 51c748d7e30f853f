"""Coverage-guided mutation of the same inputs: what reaches code that nothing reached before is kept and changed on.

    python -m tests.fuzz.guided                          all readers, without end; Ctrl-C ends it
    python -m tests.fuzz.guided --kinds hive --runs 100000

An input of the fuzzer is no file but a handful of edits to a good one: three bytes that say where, one that says how
many bytes, and these. So inputs are tiny, and what is kept of them fits into `corpus.txt`, a line each, which is where
every run begins. `--keep` adds what a run found, as few as reach everything.
"""

from __future__ import annotations

import argparse
import os
import random
import re
import shlex
import subprocess
import sys
from bisect import bisect_right
from collections.abc import Iterator
from itertools import accumulate
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from .targets import Target

CORPUS = Path(__file__).with_name("corpus.txt")
MOST_EDITS = 6
LONGEST, MOST_MEMORY = 60, 2048
"""Seconds of one case, and MiB that it asks for at once: beyond these it counts as failed."""
_HEAD = 4


class Edited:
    """A target whose structures are changed by the bytes of an input, and put back."""

    def __init__(self, kind: str, target: Target) -> None:
        self.kind, self._target = kind, target
        self._spans = sorted(set(target.spans))
        self._ends = list(accumulate(size for _, size in self._spans))

    def run(self, data: bytes) -> None:
        """Use the target with the edits of `data`. Raises whatever is no answer to a bad input."""
        from lucky_keystone.common.errors import SourceError, UsageError

        from .targets import shows_bytes

        undo: list[tuple[int, bytes]] = []
        try:
            for where, piece in edits(data):
                offset = self._offset(where)
                before = self._target.read(offset, len(piece))
                undo.append((offset, before))
                self._target.write(offset, piece[: len(before)])
            self._target.use()
        except (SourceError, UsageError) as error:
            assert not self.kind.endswith("drive"), error  # a check always has a result
            assert error.message
            assert not shows_bytes(error.message), error
        finally:
            for offset, before in reversed(undo):
                self._target.write(offset, before)

    def _offset(self, where: int) -> int:
        where %= self._ends[-1]
        number = bisect_right(self._ends, where)
        start, size = self._spans[number]
        return start + where - (self._ends[number] - size)


def edits(data: bytes) -> Iterator[tuple[int, bytes]]:
    """Yield the edits of an input: a place among all bytes of structures, and what comes there."""
    at = 0
    for _ in range(MOST_EDITS):
        if at + _HEAD >= len(data):
            return
        size = 1 + data[at + 3] % 16
        yield int.from_bytes(data[at : at + 3], "little"), data[at + _HEAD : at + _HEAD + size]
        at += _HEAD + size


def fuzz(kinds: list[str], options: list[str]) -> None:
    """Run the fuzzer in this process, which ends with it. The first byte of an input says which kind it is for."""
    import atheris

    with atheris.instrument_imports(include=["lucky_keystone"]):
        from .mutate import all_targets
    with TemporaryDirectory() as folder:
        made = all_targets(Path(folder))
        targets = [Edited(kind, made[kind]) for kind in kinds]
        # What runs it once more, in a shell: a merge works in processes of its own.
        again = shlex.join((sys.executable, "-m", "tests.fuzz.guided", "--inside", ",".join(kinds)))
        atheris.Setup([again, *options], lambda data: targets[data[0] % len(targets)].run(data[1:]) if data else None)
        atheris.Fuzz()


def run(kinds: list[str], runs: int, *, seed: int, keep: bool = False) -> tuple[int, str]:
    """Fuzz in a process of its own, from the corpus on; return its exit code and the end of what it said.

    What made it fail lies in `crash-…` of the working folder.
    """
    with TemporaryDirectory() as name:
        folder = Path(name)
        begun, found = folder / "begun", folder / "found"
        begun.mkdir()
        found.mkdir()
        for number, line in enumerate(_corpus(kinds)):
            (begun / f"{number:05}").write_bytes(line)
        # What a process has used at most counts from before it was loaded: its parent's memory as well.
        limits = [
            f"-timeout={LONGEST}",
            "-rss_limit_mb=0",
            f"-malloc_limit_mb={MOST_MEMORY}",
            f"-seed={seed}",
            "-max_len=128",
        ]
        command = [sys.executable, "-m", "tests.fuzz.guided", "--inside", ",".join(kinds), *limits]
        settings = os.environ | {
            "LUCKY_KEYSTONE_LOG": "off",
            "LUCKY_KEYSTONE_JOURNALS": str(folder / "journals"),
            "LUCKY_KEYSTONE_STORE": str(folder / "store"),
        }
        done = subprocess.run(
            [*command, f"-runs={runs}", "-print_final_stats=1", str(found), str(begun)],
            env=settings, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, check=False,
        )  # fmt: skip
        if keep and done.returncode == 0:
            merged = folder / "merged"
            merged.mkdir()
            subprocess.run([*command, "-merge=1", str(merged), str(begun), str(found)], env=settings, check=True)
            _keep(kinds, [path.read_bytes() for path in sorted(merged.iterdir())])
        return done.returncode, done.stdout.decode("utf-8", "replace")[-6000:]


def _corpus(kinds: list[str]) -> Iterator[bytes]:
    """Yield the kept inputs, with the place of their kind among `kinds` in front."""
    for line in CORPUS.read_text("ascii").splitlines() if CORPUS.exists() else ():
        kind, _, data = line.rpartition(": ")
        if kind in kinds:
            yield bytes((kinds.index(kind),)) + bytes.fromhex(data)


def _keep(kinds: list[str], inputs: list[bytes]) -> None:
    lines = set(CORPUS.read_text("ascii").splitlines()) if CORPUS.exists() else set()
    lines = {line for line in lines if line.rpartition(": ")[0] not in kinds}
    lines |= {f"{kinds[data[0] % len(kinds)]}: {data[1:].hex()}" for data in inputs if len(data) > _HEAD}
    CORPUS.write_text("".join(f"{line}\n" for line in sorted(lines)), "ascii")


def main() -> None:
    if sys.argv[1:2] == ["--inside"]:
        fuzz(sys.argv[2].split(","), sys.argv[3:])
    from .mutate import KINDS

    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kinds", default="", help="only kinds that begin with this")
    parser.add_argument("--runs", type=int, default=10_000, help="of each turn; turns follow each other without end")
    parser.add_argument("--turns", type=int, default=0)
    parser.add_argument("--seed", type=int, default=random.randrange(1 << 30))
    parser.add_argument("--keep", action="store_true", help="keep what was found in the corpus")
    given = parser.parse_args()
    kinds = [kind for kind in KINDS if kind.startswith(given.kinds)]
    total = turn = 0
    while not given.turns or turn < given.turns:
        code, said = run(kinds, given.runs, seed=given.seed + turn + 1, keep=given.keep)
        turn += 1
        total += given.runs
        coverage = re.findall(r"cov: \d+ ft: \d+ corp: \d+", said)
        print(f"{total:,} runs, {coverage[-1] if coverage else ''}", flush=True)
        if code:
            print(said, flush=True)
            sys.exit(code)


if __name__ == "__main__":
    main()
