"""Optical drives as sources: no disc, another disc, spinning up, and bad sectors by the file they spoil."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content import discs
from lucky_keystone.content.discs import DiscState, wait_for_disc
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.sources.opening import open_source

from ..helpers.drives import extract, small_disc
from ..helpers.program import run, run_json

BAY = """[[drive]]
file = "stick.img"
model = "Mudlark Mini"
serial = "MM-1"
[[optical]]
file = "crew.iso"
model = "Workshop Disc"
[optical.faults]
failures = {failures}
fails_reading = {places}
[[optical]]
file = "empty.iso"
"""


def test_a_scratched_disc(tmp_path: Path) -> None:
    """All files hit are listed in one go; with those from elsewhere the rest is built; late sectors are counted."""
    bay = tmp_path / "bay"
    bay.mkdir()
    (bay / "stick.img").write_bytes(bytes(1 << 20))
    disc = small_disc(bay / "crew.iso", filling=8)
    root = open_source(disc).root
    places = []
    for path, inside in (("sources/install.wim", 40_960), ("sources/install.wim", 4_096_000), ("bootmgr", 2048)):
        file = root.find_file(path)
        assert file is not None
        assert isinstance(file.content, FileRange)
        places.append([file.content.offset + inside, 4096])

    def describe(failures: int) -> None:
        (bay / "bay.toml").write_text(BAY.format(failures=failures, places=sorted(places)))

    describe(0)
    given = ["--bay", bay]
    listed = run_json("drives", *given)["optical"]
    assert [each["state"] for each in listed] == ["a disc", "no disc"]
    assert "There is no disc in" in run("plan", bay / "empty.iso", *given, code=4).stderr
    told = run("inspect", disc, "--verify-source", *given, code=4).stderr
    assert "bootmgr (2 places, the first at its byte 2,048)" in told
    assert "sources/install.wim (4 places, the first at its byte 40,960)" in told
    copies = tmp_path / "copies"
    extract(disc, tmp_path / "all")
    for path in ("bootmgr", "sources/install.wim"):
        (copies / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "all" / path).rename(copies / path)
    build = ["build", disc, *given, "--onto", tmp_path / "made.img", "--identity", "x"]
    assert "cannot be read at its byte" in run(*build, code=4).stderr
    made = run_json(*build, "--add", copies)
    assert made["notes"] == []
    run("check", tmp_path / "made.img", "--against", tmp_path / "all", "--add", copies)
    describe(2)
    again = run_json(*build[:-3], tmp_path / "again.img", "--identity", "x")
    assert sorted(again["notes"]) == [
        "1 doubtful sector, which came at try 3, in bootmgr",
        "2 doubtful sectors, which came at try 3, in sources/install.wim",
    ]


def test_waiting_for_a_disc() -> None:
    time = 0.0

    def sleep(seconds: float) -> None:
        nonlocal time
        time += seconds

    def wait(*states: DiscState) -> None:
        nonlocal time
        time, left = 0.0, list(states)
        wait_for_disc(Path("/dev/sr0"), lambda _: left.pop(0) if len(left) > 1 else left[0], lambda: time, sleep)

    wait(DiscState.UNKNOWN)
    wait(*[DiscState.BUSY] * 9, DiscState.DISC)
    assert time == 9
    for states, told in (
        ([DiscState.NONE], "There is no disc in .dev.sr0"),
        ([DiscState.BUSY, DiscState.OPEN], "tray of .dev.sr0 is open"),
        ([DiscState.BUSY], "not ready after 15 seconds"),
    ):
        with pytest.raises(SourceError, match=told):
            wait(*states)


def test_another_disc_is_noticed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A drive's node stays the same whatever lies in it: its bytes tell."""
    path = tmp_path / "sr0"
    path.write_bytes(bytes(40_000) + b"first" + bytes(100_000))
    monkeypatch.setattr(Path, "is_block_device", lambda self: self == path)
    monkeypatch.setattr("lucky_keystone.content.source_file._COMPARED", 0.0)
    file = SourceFile(path)
    whole = FileRange(file, 0, file.size)
    assert whole.read_at(40_000, 5) == b"first"
    with path.open("r+b") as stream:
        stream.seek(36_000)
        stream.write(b"other")
    monkeypatch.setattr(SourceFile, "_refuse_changes", lambda *_: None)
    monkeypatch.setattr(discs, "disc_state", lambda _: DiscState.DISC)
    with pytest.raises(SourceError, match="Another disc is in"):
        whole.read_at(0, 5)
