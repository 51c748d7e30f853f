"""The command line on a model of Windows' disks: which drives are free, what a failing end leaves, what is guarded.

Run here, and a part of it under the Windows interpreters.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pytest

from ..helpers.drives import small_disc
from ..helpers.program import run
from .conftest import NEWEST, OLDEST, digest
from .kernel import Kernel, make_bench
from .lane import PROJECT, Lane, windows_path

STICK: dict[str, Any] = {"number": 1, "size": 96 << 20, "vendor": "Gangway", "product": "Pro", "serial": "G1"}
STICK |= {"removable": True, "letter": "E:"}
DISK: dict[str, Any] = {
    "number": 2,
    "size": 96 << 20,
    "vendor": "Mudlark",
    "product": "Mini",
    "serial": "M2",
    "letter": "F:",
}


@dataclass
class Bench:
    """A bench, and what runs the program on it."""

    folder: Path
    windows: Lane | None = None

    def change(self, number: int = 1, **facts: Any) -> None:
        place = self.folder / "bench.json"
        bench = json.loads(place.read_text("utf-8"))
        if number < 0:
            bench |= facts
        else:
            next(disk for disk in bench["disks"] if disk["number"] == number).update(facts)
        place.write_text(json.dumps(bench), "utf-8")

    def run(self, *words: str | Path) -> tuple[int, str]:
        if self.windows is not None:
            done = self.windows.run(Path(__file__).with_name("kernel.py"), self.folder, *words)
            return done.code, done.text
        command = [sys.executable, "-m", "tests.windows.kernel", str(self.folder), *map(str, words)]
        here = subprocess.run(command, capture_output=True, text=True, cwd=PROJECT, input="", timeout=600)
        assert "Traceback" not in here.stderr, here.stderr
        return here.returncode, here.stdout + here.stderr

    def run_all(self, folder: Path, *runs: Sequence[str]) -> str:
        """Run several commands from a folder, one after the other, in one process; return all that they say."""
        kernel = Path(__file__).with_name("kernel.py")
        lines = json.dumps([[self._name, *words] for words in runs]).encode()
        if self.windows is not None:
            return self.windows.run(kernel, "-", cwd=folder, given=lines).text
        settings = os.environ | {"PYTHONPATH": str(PROJECT)}
        command = [sys.executable, "-m", "tests.windows.kernel", "-"]
        done = subprocess.run(command, capture_output=True, cwd=folder, env=settings, input=lines, timeout=600)
        return (done.stdout + done.stderr).decode()

    @property
    def _name(self) -> str:
        return str(self.folder) if self.windows is None else windows_path(self.folder)

    @property
    def log(self) -> list[str]:
        place = self.folder / "log.txt"
        return place.read_text("utf-8").splitlines() if place.exists() else []

    @property
    def shows(self) -> list[str]:
        """The file systems that the stick shows to the running Windows."""
        return [kind for number, kind in Kernel(self.folder).mounted() if number == 1]


@pytest.fixture(scope="session")
def iso(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return small_disc(tmp_path_factory.mktemp("bench") / "tidewell.iso", filling=24)


@pytest.fixture(scope="session")
def used(iso: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A stick as it comes: FAT32, with files."""
    path = tmp_path_factory.mktemp("used") / "stick.img"
    run("build", iso, "--onto", path, "--size", "96MiB", "--use", "whole")
    return path


@pytest.fixture
def bench(used: Path, tmp_path: Path) -> Bench:
    folder = tmp_path / "bench"
    folder.mkdir()
    (folder / "disk1").write_bytes(used.read_bytes())
    return Bench(make_bench(folder, [dict(STICK), dict(DISK)]))


def test_formatted_sticks_are_free_and_named_by_their_letter(bench: Bench) -> None:
    code, told = bench.run("drives", "--json")
    drives = {drive["model"]: drive for drive in json.loads(told)["drives"]}
    assert (code, {model: drive["held_back"] for model, drive in drives.items()}) == (
        0,
        {
            "Keelson 256": ["holds this computer's system", "is built into this computer"],
            "Gangway Pro": [],
            "Mudlark Mini": [],
        },
    )
    assert drives["Gangway Pro"]["contents"] == "FAT32 'TIDEWELL_11' 95 MiB (E:)"
    for name in ("e:", "E:\\", r"\\.\PhysicalDrive1", drives["Gangway Pro"]["tag"]):
        code, told = bench.run("check", name)
        assert (code, "No faults found." in told) == (0, True), (name, told)
    assert bench.run("check", r"\\.\PhysicalDrive9")[0] == 2


def test_one_odd_disk_does_not_hide_the_others(bench: Bench) -> None:
    bench.change(2, odd=True)
    code, told = bench.run("drives", "--json")
    drives = {drive["path"].rpartition("e")[2]: drive for drive in json.loads(told)["drives"]}
    assert (code, sorted(drives)) == (0, ["0", "1", "2"])
    assert (drives["1"]["held_back"], drives["2"]["held_back"]) == ([], ["is built into this computer"])


def test_damaged_answers_are_no_facts(bench: Bench) -> None:
    """Where a descriptor ends early, the drive is listed with what is known, and never under a wrong name."""
    from lucky_keystone.drives.windows.host import WindowsHost

    for cut in range(0, 60, 3):
        bench.change(1, tells=cut)
        stick = next(each for each in WindowsHost(Kernel(bench.folder)).drives() if each.path.name == "PhysicalDrive1")
        assert stick.internal == (cut < 36), cut
        assert "GangwayPro1".startswith(stick.model.replace(" ", "")) or stick.model.startswith("drive 1"), stick.model


def test_large_sectors_are_kept_to(bench: Bench, iso: Path) -> None:
    bench.change(2, sector=4096, size=300 << 20)
    with (bench.folder / "disk2").open("r+b") as stream:
        stream.truncate(300 << 20)
    code, told = bench.run("build", iso, "--onto", r"\\.\PhysicalDrive2", "--yes")
    assert (code, "No faults found." in told) == (0, True), told
    assert not [line for line in bench.log if line.startswith("refused")]


MACHINES: dict[str, tuple[dict[str, Any], bool, dict[str, Any]]] = {
    "a laptop, administrator": (
        {"variables": {"SetupMode": "00"}},
        True,
        {"started_by": "uefi", "secure_boot": "on", "security_module": "2.0", "model": "Skiff 14"},
    ),
    "off, administrator": (
        {"variables": {"SetupMode": "00"}, "registry": {"UEFISecureBootEnabled": 0}},
        True,
        {"secure_boot": "off"},
    ),
    "off, a user": ({"registry": {"UEFISecureBootEnabled": 0}}, False, {"secure_boot": "off or setup mode"}),
    "an old counter PC": ({"uefi": False, "tpm": 0}, True, {"started_by": "bios", "security_module": "none"}),
    "ARM64": ({"architecture": 12}, True, {"architecture": "arm64"}),
}


@pytest.mark.parametrize("name", MACHINES)
def test_the_facts_of_a_machine(bench: Bench, name: str) -> None:
    machine, administrator, expected = MACHINES[name]
    bench.change(-1, machine=machine, administrator=administrator)
    code, told = bench.run("machine", "--json")
    document = json.loads(told)
    assert code == 0
    assert {key: document["facts"].get(key) for key in expected} == expected
    assert any("administrator" in line for line in document["unknown"]) == (not administrator)


@pytest.mark.parametrize("number", [1, 2])
def test_a_stick_is_built_and_shows_itself(bench: Bench, iso: Path, number: int, tmp_path: Path) -> None:
    """The lock is tried for some time: a passing virus scanner is no use by anybody. Bit for bit as on Linux."""
    bench.change(number, busy=3)
    name = {1: "E:", 2: r"\\.\PhysicalDrive2"}[number]
    code, told = bench.run("build", iso, "--onto", name, "--yes", "--identity", "PIER", "--eject")
    assert code == 0, told
    assert bench.log[-1].startswith("left: 0 handles")
    assert not [line for line in bench.log if line.startswith("refused")]
    # Only what can be ejected is safe to unplug.
    assert ("Safe to unplug." in told, "Safely Remove" in told) == ((True, False) if number == 1 else (False, True))
    run("build", iso, "--onto", tmp_path / "here.img", "--size", "96MiB", "--use", "whole", "--identity", "PIER")
    assert digest(bench.folder / f"disk{number}") == digest(tmp_path / "here.img")


FAILING: dict[str, tuple[dict[str, Any], list[str], int]] = {
    "a place that cannot be written": ({"bad_writes": [[30 << 20, 4096, 1117]]}, ["build", "ISO"], 5),
    "a place that reads as a checksum error": ({"bad_reads": [[9 << 20, 512, 23]]}, ["build", "ISO"], 5),
    "pulled out": ({"removed_after": 12 << 20}, ["build", "ISO"], 5),
    "no flush": ({"no_flush_after": 3 << 20}, ["build", "ISO"], 5),
    "the first flush fails": ({"no_flush_after": 100}, ["build", "ISO", "--no-probe"], 5),
    "interrupted": ({"interrupted_after": 5 << 20}, ["build", "ISO"], 130),
    "interrupted in NTFS": ({"interrupted_after": 5 << 20}, ["build", "ISO", "--file-system", "ntfs"], 130),
    "gauge, interrupted": ({"interrupted_after": 5 << 20}, ["gauge", "--erase"], 130),
    "gauge, a bad place": ({"bad_writes": [[30 << 20, 4096, 1117]]}, ["gauge", "--erase"], 1),
    "reclaim, a bad place": ({"bad_writes": [[1 << 20, 4096, 1117]]}, ["reclaim"], 5),
    "update, a bad place": (
        {"bad_writes": [[2 << 20, 60 << 20, 1117]]},
        ["build", "ISO", "--update", "--add", "MORE"],
        5,
    ),
}


def words_of(words: Sequence[str], iso: Path, more: Path) -> list[str | Path]:
    onto: list[str | Path] = ["--onto", "E:"] if words[0] == "build" else ["E:"]
    places = {"ISO": iso, "MORE": more}
    return [*(places.get(word, word) for word in words), *onto, "--yes"]


@pytest.mark.parametrize("case", FAILING)
def test_no_failing_end_leaves_a_stick_that_looks_finished(bench: Bench, iso: Path, case: str, tmp_path: Path) -> None:
    """Windows knows the old table until it is told; what it would mount there looks like a finished drive."""
    wrong, words, expected = FAILING[case]
    more = tmp_path / "more"
    more.mkdir()
    (more / "new.txt").write_bytes(b"09:26" * 9000)
    if "--update" in words:
        assert bench.run("build", iso, "--onto", "E:", "--yes")[0] == 0
    bench.change(1, **wrong)

    code, told = bench.run(*words_of(words, iso, more))

    assert code == expected, told
    assert bench.log[-1].startswith("left: 0 handles"), told
    assert not [line for line in bench.log if line.startswith("refused")]
    assert bench.shows == [], told
    if words[0] == "build" and "pulled" not in case:
        bench.change(1, bad_writes=[], bad_reads=[], no_flush_after=1 << 40, interrupted_after=1 << 40, busy=1)
        again, told = bench.run(*words_of(words, iso, more))
        assert (again, bench.shows != []) == (0, True), told


@pytest.mark.parametrize(
    ("facts", "number", "code", "told"),
    [
        ({"busy": 99}, 1, 3, "E:. on drive .* is in use by Paddle.exe"),
        ({"read_only": True}, 1, 3, "is read-only"),
        ({"pool": True}, 2, 3, "carries a member of a storage pool"),
        ({"administrator": False}, -1, 3, "Run as administrator"),
        ({"started_from": 1}, -1, 3, "holds this computer's system"),
        ({"system_files": ["E:\\pagefile.sys"]}, -1, 3, "holds this computer's system"),
    ],
)
def test_what_must_not_be_written_is_not(
    bench: Bench, iso: Path, facts: dict[str, Any], number: int, code: int, told: str
) -> None:
    import re

    bench.change(-1, users=["Paddle.exe"])
    bench.change(number, **facts)
    before = [digest(bench.folder / name) for name in ("disk1", "disk2")]
    name = {2: r"\\.\PhysicalDrive2"}.get(number, "E:")
    found = bench.run(
        "build", iso, "--onto", name, "--yes", "--allow-internal", "--allow-member" if number != 2 else "-q"
    )
    assert (found[0], re.search(told, found[1]) is not None) == (code, True), found[1]
    assert [digest(bench.folder / each) for each in ("disk1", "disk2")] == before
    assert bench.log[-1].startswith("left: 0 handles")


@pytest.mark.parametrize(
    ("place", "code", "told"),
    [
        ("E:", 3, "holds the source that is built from"),
        ("C:", 0, ""),
        (r"\\?\UNC\localhost\E$\isos\x.iso", 3, "holds the source that is built from"),
        (r"\\?\UNC\bench\isos\x.iso", 3, "cannot be found out"),
        (r"\\?\UNC\harbour\isos\x.iso", 0, ""),
        ("unknown", 3, "cannot be found out"),
    ],
)
def test_the_drive_of_the_source_is_guarded_by_where_the_file_really_lies(
    bench: Bench, iso: Path, place: str, code: int, told: str
) -> None:
    bench.change(-1, places={str(iso.parent): place, windows_path(iso.parent): place})
    found = bench.run("build", iso, "--onto", "E:", "--yes")
    assert (found[0], told in found[1]) == (code, True), found[1]


def _spellings(iso: Path, link: Path, on_windows: bool) -> list[str]:
    """Names of one file: from the folder it lies in, with detours, by a link to its folder."""
    if not on_windows:
        return [str(iso), f"./{iso.name}", f"../{iso.parent.name}/{iso.name}", str(link / iso.name)]
    whole, by_link = windows_path(iso), windows_path(link / iso.name)
    rest, folder = whole[2:], windows_path(iso.parent)
    return [
        *(whole, iso.name, f"Z:{iso.name}", rest, f"\\\\?\\{whole}", f"\\\\.\\{whole}", by_link, f"\\\\?\\{by_link}"),
        *(whole.upper(), whole.replace("\\", "/"), f"{folder}\\..\\{iso.parent.name}\\.\\{iso.name}", f"{iso.name}. "),
    ]


def _guard_every_spelling(bench: Bench, iso: Path, link: Path) -> None:
    link.symlink_to(iso.parent)
    bench.change(-1, places={str(iso.parent): "E:", windows_path(iso.parent): "E:"})
    before = digest(bench.folder / "disk1")
    names = _spellings(iso, link, bench.windows is not None)
    told = bench.run_all(iso.parent, *(("build", name, "--onto", "E:", "--yes") for name in names))
    assert told.count("holds the source that is built from") == len(names), told
    assert digest(bench.folder / "disk1") == before


def test_every_spelling_of_a_source_keeps_its_drive_guarded(bench: Bench, iso: Path, tmp_path: Path) -> None:
    _guard_every_spelling(bench, iso, tmp_path / "link")


@pytest.mark.parametrize("windows", NEWEST, indirect=True)
def test_every_spelling_on_windows(windows: Lane, bench: Bench, iso: Path, tmp_path: Path) -> None:
    """Here the files are opened by those names, and the system says where they lie."""
    _guard_every_spelling(replace(bench, windows=windows), iso, tmp_path / "link")


def test_discs_are_read_by_letter_and_by_device(bench: Bench, iso: Path) -> None:
    bench.change(-1, optical={"D:": str(iso), "G:": None})
    listed = bench.run("drives")[1]
    assert r"\\.\D:, Paddle Wheel DVD: a disc of" in listed
    assert r"\\.\G:, Paddle Wheel DVD: no disc" in listed
    for name in ("D:", "d:\\", r"\\.\D:"):
        code, told = bench.run("build", name, "--onto", "E:", "--yes", "--from-scratch")
        assert code == 0, told
        assert bench.run("check", "E:", "--against", iso)[0] == 0
    code, told = bench.run("build", "G:", "--onto", "E:", "--yes")
    assert (code, "There is no disc in" in told) == (4, True), told
    bench.change(-1, bad_disc=[[iso.stat().st_size // 2, 2048, 23]])
    code, told = bench.run("build", "D:", "--onto", "E:", "--yes")
    assert (code, "sources/install.wim cannot be read at its byte" in told) == (4, True), told
    assert bench.shows == []
    bench.change(-1, bad_disc=[[iso.stat().st_size // 2, 2048, 1112]])
    code, told = bench.run("build", "D:", "--onto", "E:", "--yes")
    assert (code, "There is no disc in" in told) == (4, True), told


def test_two_runs_do_not_write_one_drive(bench: Bench, iso: Path) -> None:
    """Also where it has no volume that could be locked."""
    kernel = Kernel(bench.folder)
    code, told = bench.run("drives", "--json")
    stick = next(drive for drive in json.loads(told)["drives"] if drive["model"] == "Gangway Pro")
    claim = kernel.claim(f"{stick['model']}|{stick['serial']}|{stick['size']}")
    code, told = bench.run("build", iso, "--onto", "E:", "--yes")
    assert (code, "in use by another program" in told) == (3, True), told
    kernel.close(claim)
    assert bench.run("build", iso, "--onto", "E:", "--yes")[0] == 0


@pytest.mark.parametrize("windows", OLDEST, indirect=True)
@pytest.mark.parametrize("case", ["interrupted", "pulled out", "gauge, a bad place"])
def test_the_same_holds_under_windows(windows: Lane, bench: Bench, iso: Path, case: str, tmp_path: Path) -> None:
    there = replace(bench, windows=windows)
    assert "Gangway Pro" in there.run("drives")[1]
    test_no_failing_end_leaves_a_stick_that_looks_finished(there, iso, case, tmp_path)
