"""Lets the N-th call to the system fail, for every N of every command that writes, and judges what is left.

    python -m tests.faults.sweep                       all calls of all commands, by an error of the medium
    python -m tests.faults.sweep --only build --every 7 --how kill

CI takes a few of each (`test_faults.py`). After each run: the exit code is one of the program's, never that of an
internal error; 0 only with the right result; what was there before is there still, or what the command makes of it;
nothing else is left over; and the same command, given again, ends with the right result.
"""

from __future__ import annotations

import argparse
import errno
import hashlib
import os
import random
import shutil
import subprocess
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from fnmatch import fnmatch
from pathlib import Path
from tempfile import TemporaryDirectory

from blake3 import blake3

from ..fetching.server import Served, Server
from ..helpers.drives import small_disc
from ..helpers.forked import Loaded

HOWS = {"EIO": errno.EIO, "ENOSPC": errno.ENOSPC, "EACCES": errno.EACCES, "short": 0, "kill": -1}
_SOURCE = Path(__file__).with_name("fail_nth.c")
_HANGS = 300.0
_OURS = ("log.sqlite*", "log-damaged-*", "journals*", "*.unfinished", "*.unfinished.json")
"""What the program keeps of its own where a run did not end well."""


@dataclass(frozen=True)
class Case:
    """A command in a folder of its own."""

    words: Sequence[str]
    made: Sequence[str] = ()
    """Files that it makes or changes, whose bytes are judged."""
    before: Sequence[Sequence[str]] = ()
    """Commands that prepare the folder."""
    prepare: Callable[[Path], None] = field(default=lambda _: None)
    may_stay: Sequence[str] = ()
    """Names of what may be left where it ends early."""
    ends: int = 0
    consumes: Sequence[str] = ()
    """Names of what it changes or takes away where it ends well."""
    notes: Sequence[str] = ()
    """Names of the program's own notes, which it may change however it ends."""
    repeats: bool = True
    """It can be given again where it has ended well."""


def _spoil(folder: Path) -> None:
    with (folder / "stick.img").open("r+b") as stream:
        stream.write(bytes(440))


def _stick(folder: Path) -> None:
    with (folder / "stick.img").open("wb") as stream:
        stream.truncate(64 << 20)


def _added(folder: Path) -> None:
    (folder / "more").mkdir()
    (folder / "more" / "berths.txt").write_bytes(b"07:40 berth three\n" * 700)


def _half(folder: Path) -> None:
    data = (folder / "t.iso").read_bytes()
    (folder / "away.iso.part").write_bytes(data[: len(data) // 2])


def _batch(folder: Path) -> None:
    (folder / "batch.csv").write_text("drive,source\na.img,t.iso\nb.img,t.iso\n")


FETCHED = ("fetch", "{link}", "--sha256", "{sum}")
BUILT = ("build", "t.iso", "--onto", "stick.img", "--identity", "crew")
CASES = {
    "build": Case(BUILT, ("stick.img",), may_stay=("stick.img",)),
    "build, NTFS": Case((*BUILT, "--file-system", "ntfs"), ("stick.img",), may_stay=("stick.img",)),
    "build over a file": Case((*BUILT, "--yes"), ("stick.img",), prepare=_stick),
    "update": Case(
        (*BUILT, "--update", "--add", "more", "--yes"), ("stick.img",), (BUILT,), _added, may_stay=("stick.img",)
    ),
    "check": Case(("check", "stick.img", "--against", "t.iso"), (), (BUILT,)),
    "mend": Case(("mend", "stick.img", "--yes"), ("stick.img",), (BUILT,), _spoil),
    "gauge": Case(("gauge", "stick.img", "--marks", "--yes"), ("stick.img",), (BUILT,)),
    "reclaim": Case(("reclaim", "stick.img", "--yes"), ("stick.img",), (BUILT,)),
    "plan": Case(("plan", "t.iso", "--save", "crew.toml"), may_stay=("crew.toml",)),
    "report": Case(("report", "stick.img", "--to", "page.html"), (), (BUILT,), may_stay=("page.html",)),
    "split": Case(("split", "install.wim", "--into", "parts", "--part-size", "5MB"), ("parts/install.swm",)),
    "record": Case(("fetch", "--record", "t.iso", "--catalogue", "shop.toml"), ("shop.toml",)),
    "fetch": Case((*FETCHED, "--into", "."), ("away.iso",), may_stay=("away.iso",)),
    "fetch, adopted": Case(
        (*FETCHED, "--adopt", "away.iso.part"),
        ("away.iso",),
        (),
        _half,
        ("away.iso",),
        consumes=("away.iso.part",),
        repeats=False,
    ),
    "fetch into the store": Case(FETCHED, ("store/by-sum/{sum2}/{sum}/away.iso",), may_stay=("store/*",)),
    "images": Case(("images", "--verify"), (), (FETCHED,), notes=("store/by-sum/*/about.json",)),
    "batch": Case(
        ("build", "--batch", "batch.csv", "--batch-report", "done.csv", "--yes"),
        *(("a.img", "b.img"), (), _batch, ("a.img", "b.img", "done.csv")),
    ),
    "log": Case(("log", "--prune", "--before", "2099-01-01", "--yes"), (), (BUILT,)),
}


@dataclass
class Judged:
    """The results of one case."""

    runs: int = 0
    wrong: list[str] = field(default_factory=list)
    codes: Counter[int] = field(default_factory=Counter)


class Sweep:
    """Runs of cases in copies of one folder."""

    def __init__(self, scratch: Path) -> None:
        self._scratch = scratch
        scratch.mkdir(parents=True, exist_ok=True)
        self._library = scratch / "fail_nth.so"
        subprocess.run(["clang", "-shared", "-fPIC", "-O1", _SOURCE, "-o", self._library, "-ldl"], check=True)
        self._loaded = Loaded(self._library)
        self._sources = scratch / "sources"
        self._sources.mkdir()
        disc = small_disc(self._sources / "t.iso")
        from lucky_keystone.sources.opening import open_source

        self._server = Server(scratch)
        self._server.__enter__()
        data = disc.read_bytes()
        self._server.files["/away.iso"] = Served(data)
        sha256 = hashlib.sha256(data).hexdigest()
        self._names = {"link": self._server.link("/away.iso"), "sum": sha256, "sum2": sha256[:2]}

        image = open_source(disc).root.find_file("sources/install.wim")
        assert image is not None
        from lucky_keystone.content.contents import stream

        (self._sources / "install.wim").write_bytes(b"".join(bytes(piece) for piece in stream(image.content)))

    def prepared(self, case: Case) -> Path:
        """Return a folder in which the case's command can be given."""
        folder = self._scratch / "prepared"
        shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(self._sources, folder)
        for words in case.before:
            self.run(words, folder)
        case.prepare(folder)
        return folder

    def run(self, words: Sequence[str], folder: Path, at: int | None = None, how: int = 0) -> tuple[int, str, str]:
        """Give a command; return its exit code, what it said, and what the report says of calls."""
        report = self._scratch / "report.txt"
        report.unlink(missing_ok=True)
        settings = os.environ | {
            "LUCKY_KEYSTONE_LOG": str(folder / "log.sqlite"),
            "LUCKY_KEYSTONE_JOURNALS": str(folder / "journals"),
            "LUCKY_KEYSTONE_STORE": str(folder / "store"),
        }
        if at is not None:
            settings |= {"FAULT_FOLDER": str(folder), "FAULT_AT": str(at)}
            settings |= {"FAULT_HOW": str(how), "FAULT_REPORT": str(report)}
        words = [word.format_map(self._names) for word in words]
        done = self._loaded.run(list(words), folder, settings=settings, timeout=_HANGS)
        return done.returncode, done.stdout + done.stderr, report.read_text() if report.exists() else ""

    def judge(self, case: Case, choose: Callable[[int], Sequence[int]], how: str) -> Judged:
        """Let the calls fail that `choose` returns of how many there are, each in a run of its own."""
        folder, judged = self.prepared(case), Judged()
        self._after: dict[tuple[object, ...], list[str]] = {}
        case = replace(case, made=[name.format_map(self._names) for name in case.made])
        whole = self._copy(folder, "whole")
        code, said, report = self.run(case.words, whole, 0)
        assert code == case.ends, said
        names = _names(folder) | _names(whole)
        for at in choose(int(report.split()[0])):
            place = self._copy(folder, "tried")
            code, said, call = self.run(case.words, place, at, HOWS[how])
            judged.runs += 1
            judged.codes[code] += 1
            for fault in self._faults(case, folder, place, code, said, whole, names):
                judged.wrong.append(f"call {call.strip()}: {fault}")
        return judged

    def _faults(
        self, case: Case, before: Path, place: Path, code: int, said: str, whole: Path, names: set[str]
    ) -> Iterator[str]:
        lines = said.strip().splitlines()
        if code not in (0, 1, 2, 3, 4, 5, 74, -9) or "Traceback" in said:
            yield f"exit code {code}: {lines[-2:]}"
        is_right = _is_same(place, whole, case.made)
        if code == case.ends and not is_right:
            yield f"exit code {code} with another result"
        is_unread = "reading at byte" in said  # what could not be read back is not called right
        is_whole = is_right and case.made and not is_unread
        if code not in (case.ends, -9) and code == 5 and is_whole and "--yes" not in case.words:
            yield f"exit code {code} with the whole result: {lines[-2:]}"
        # What is taken over is part of the result then, or of what the same command continues.
        is_taken = (
            code == case.ends
            or (code == -9 and is_right)
            or any(name.endswith(".unfinished") for name in _names(place))
        )
        lost = [
            name for name in _names(before) - set(case.made)
            if not _is_ours(name) and not _is_same(before, place, [name])
            and not (is_taken and any(fnmatch(name, each) for each in case.consumes))
            and not ((place / name).is_file() and any(fnmatch(name, each) for each in case.notes))
        ]  # fmt: skip
        if lost:
            yield f"lost or changed: {lost}"
        over = [
            name for name in _names(place) - names if not any(fnmatch(name, each) for each in (*_OURS, *case.may_stay))
        ]
        if over and code != -9:
            yield f"left over: {over}"
        if code == case.ends and not case.repeats:
            return
        state = (code == case.ends, *_state(before, place))
        if state not in self._after:  # runs that end at neighbouring calls mostly leave the same behind
            self._after[state] = list(self._given_again(case, place, code, whole))
        yield from self._after[state]

    def _given_again(self, case: Case, place: Path, code: int, whole: Path) -> Iterator[str]:
        again, told, _ = self.run(case.words, place)
        if again != case.ends and not (again == 3 and code == case.ends):
            yield f"(exit code {code}) given again: exit code {again}: {told.strip().splitlines()[-2:]}"
        elif again == case.ends and not _is_same(place, whole, case.made):
            yield f"(exit code {code}) given again: another result"

    def _copy(self, folder: Path, name: str) -> Path:
        place = self._scratch / name
        shutil.rmtree(place, ignore_errors=True)
        subprocess.run(["cp", "-a", "--sparse=always", folder, place], check=True)
        return place


def _is_ours(name: str) -> bool:
    return any(fnmatch(name, each) for each in _OURS)


def _names(folder: Path) -> set[str]:
    return {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}


def _state(before: Path, place: Path) -> Iterator[tuple[str, int, str]]:
    """Yield what tells a folder from others that were made of `before`: names, sizes, and what was written since.

    The record of runs is full of times; of it names and sizes count.
    """
    for name in sorted(_names(place)):
        path, first = place / name, before / name
        facts = path.stat()
        is_old = first.exists() and (facts.st_size, facts.st_mtime_ns) == _size_and_time(first)
        with path.open("rb") as stream:
            digest = "" if is_old or name.startswith("log") else hashlib.file_digest(stream, blake3).hexdigest()
        yield name, facts.st_size, digest


def _size_and_time(path: Path) -> tuple[int, int]:
    facts = path.stat()
    return facts.st_size, facts.st_mtime_ns


def _is_same(one: Path, other: Path, names: Sequence[str]) -> bool:
    """Return whether the files of these names have the same bytes in both folders."""
    return all(_bytes_are_same(one / name, other / name) for name in names)


def _bytes_are_same(one: Path, other: Path) -> bool:
    if not (one.is_file() and other.is_file()):
        return one.is_file() == other.is_file()
    with one.open("rb") as first, other.open("rb") as second:
        while piece := first.read(1 << 20):
            if piece != second.read(1 << 20):
                return False
        return not second.read(1)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", action="append", choices=CASES)
    parser.add_argument("--how", action="append", choices=HOWS)
    parser.add_argument("--every", type=int, default=1, help="one of this many calls, chosen by chance")
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    for name in given.only or CASES:
        for how in given.how or HOWS:
            chance = random.Random(f"{name} {how} {given.seed}")
            with TemporaryDirectory() as scratch:
                judged = Sweep(Path(scratch)).judge(
                    CASES[name],
                    lambda count, chance=chance: [
                        at for at in range(1, count + 1) if not chance.randrange(given.every)
                    ],
                    how,
                )
            codes = ", ".join(f"{code}: {count}" for code, count in sorted(judged.codes.items()))
            print(f"{name}, {how}: {judged.runs} runs, {len(judged.wrong)} wrong ({codes})", flush=True)
            for line in judged.wrong:
                print(f"    {line}", flush=True)


if __name__ == "__main__":
    main()
