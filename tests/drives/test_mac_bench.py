"""The command line on a model of a Mac's disks: listed, built, checked, ejected, and nothing else is touched."""

from __future__ import annotations

import errno
import json
import time
from pathlib import Path
from typing import Any

import pytest

from lucky_keystone.cli.main import main
from lucky_keystone.doing import targets
from lucky_keystone.drives.macos.host import MacHost

from ..helpers.drives import small_disc
from ..helpers.mac_bench import MacBench

pytestmark = pytest.mark.posix


@pytest.fixture(scope="module")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return small_disc(tmp_path_factory.mktemp("disc") / "t.iso")


@pytest.fixture
def bench(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> MacBench:
    made = MacBench(tmp_path)
    monkeypatch.setattr(targets, "this_host", lambda: MacHost(made))
    monkeypatch.setattr(time, "sleep", lambda _: None)
    monkeypatch.setenv("LUCKY_KEYSTONE_LOG", "off")
    return made


def said(capsys: pytest.CaptureFixture[str], *words: object, code: int = 0) -> str:
    assert main(list(map(str, words))) == code, capsys.readouterr()
    captured = capsys.readouterr()
    return captured.out + captured.err


def listed(capsys: pytest.CaptureFixture[str]) -> dict[str, dict[str, Any]]:
    return {each["model"]: each for each in json.loads(said(capsys, "drives", "--json"))["drives"]}


def test_a_drive_is_built_checked_and_ejected(
    bench: MacBench, disc: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    drives = listed(capsys)
    assert {model for model, each in drives.items() if not each["held_back"]} == set()  # the stick is mounted
    assert drives["Built-in SSD"]["held_back"]
    tag = drives["Gangway Pro"]["tag"]
    refused = said(capsys, "build", disc, "--onto", tag, "--yes", code=3)
    assert "in use" in refused
    told = said(capsys, "build", disc, "--onto", tag, "--unmount", "--eject", "--yes")
    assert "Safe to unplug" in told
    assert [line for line in bench.log if "open" in line][-1] == "open /dev/rdisk4 to write"
    assert bench.log[-1] == "eject /dev/disk4"
    assert "No faults found." in said(capsys, "check", tag)
    # Bit for bit the drive that an image file of that size becomes.
    image = tmp_path / "same.img"
    image.write_bytes(b"")
    with image.open("r+b") as out:
        out.truncate(bench.size)
    said(capsys, "build", disc, "--onto", image, "--identity", tag, "--yes")
    said(capsys, "build", disc, "--onto", tag, "--identity", tag, "--unmount", "--from-scratch", "--yes")
    assert bench.stick.read_bytes() == image.read_bytes()


@pytest.mark.parametrize(
    "trouble",
    [{"busy": 2}, {"flush": errno.ENOTTY}, {"info_fails": frozenset({"disk5", "disk8"})}],
    ids=["busy", "flush", "odd disks"],
)
def test_what_passes_or_does_not_matter_is_no_failure(
    trouble: dict[str, Any], bench: MacBench, disc: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for name, value in trouble.items():
        setattr(bench, name, value)
    tag = listed(capsys)["Gangway Pro"]["tag"]
    told = said(capsys, "build", disc, "--onto", tag, "--unmount", "--yes")
    assert ("cannot be told to flush its cache" in told) == ("flush" in trouble)
    assert "No faults found." in said(capsys, "check", tag)


@pytest.mark.parametrize("taken", [0, 1 << 20, 9 << 20])
def test_a_stick_that_is_pulled_out(
    taken: int, bench: MacBench, disc: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    tag = listed(capsys)["Gangway Pro"]["tag"]
    bench.gone_after = taken
    told = said(capsys, "build", disc, "--onto", tag, "--unmount", "--yes", code=5)
    assert "Plug it in again" in told
    bench.gone_after = -1
    said(capsys, "build", disc, "--onto", tag, "--unmount", "--yes")
    assert "No faults found." in said(capsys, "check", tag)


def test_the_systems_disk_and_members_are_never_written(
    bench: MacBench, disc: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Whatever is lifted; the model fails the test where any other node than the stick's is opened."""
    tag = listed(capsys)["Built-in SSD"]["tag"]
    told = said(
        capsys, "build", disc, "--onto", tag, "--unmount", "--allow-internal", "--allow-member", "--yes", code=3
    )
    assert "holds this computer's system" in told
    bench.busy = 99
    tag = listed(capsys)["Gangway Pro"]["tag"]
    assert "/usr/libexec/indexer (process 345) has it in use" in said(
        capsys, "build", disc, "--onto", tag, "--unmount", "--yes", code=3
    )
    assert bench.stick.read_bytes() == bytes(bench.size)
