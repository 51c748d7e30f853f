"""`mend` as a technician types it: shown, asked, kept, written, undone."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from lucky_keystone.manifest.unfinished import Unfinished, pack_unfinished

from ..helpers.drives import MemoryDrive
from ..helpers.hand_made import CASES, START, other_system_code
from ..helpers.judges import read_by_others
from ..helpers.program import run, run_json
from ..mending.kills import NAMES, kill_some


@pytest.fixture
def stick(drives: dict[str, bytes], files: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("LUCKY_KEYSTONE_JOURNALS", str(tmp_path / "journals"))
    path = tmp_path / "stick.img"
    path.write_bytes(CASES["lost loader, and UEFI alone"].drive(drives, files).data)
    return path


def test_shown_asked_mended_and_undone(stick: Path, tmp_path: Path) -> None:
    broken, log = stick.read_bytes(), tmp_path / "log.sqlite"
    assert "boot code in sector 0: bytes 0 to 439" in run("mend", stick, "--dry-run", "-v", code=1).stdout
    shown = run("mend", stick, "--dry-run", code=1).stdout
    assert "bytes 0 to 439" not in shown
    assert "efi/boot/bootx64.efi is written: efi/microsoft/boot/bootmgfw.efi of the drive itself." in shown
    assert "Its files stay" not in shown
    refused = run("mend", stick, code=3)
    assert "there is no terminal to confirm on" in refused.stderr
    assert stick.read_bytes() == broken
    assert not (tmp_path / "journals").exists()

    done = run_json("mend", stick, "--firmware", "both", "--yes", log=log)
    assert done["state"] == "mended"
    assert [remedy["finding"]["code"] for remedy in done["remedies"]] == [
        *("start.no-mbr-code", "start.foreign-code", "start.no-removable-loader"),
    ]
    assert {row["firmware"]: row["verdict"] for row in done["starts"]}["UEFI 64-bit"] == "starts"
    run("check", stick)
    assert run_json("mend", stick, "--yes")["state"] == "nothing to mend"
    assert "Nothing to mend." in run("mend", stick).stdout
    journal = Path(done["journal"])
    (entry,) = run_json("log", log=log)["entries"]
    assert (entry["command"], entry["result"], entry["bytes_written"]) == ("mend", "done", done["bytes_written"])

    assert "other choice" in run("mend", stick, "--undo", journal, "--dry-run", code=2).stderr
    assert "is not an undo file of 'mend'" in run("mend", stick, "--undo", stick, "--yes", code=2).stderr
    assert run_json("mend", "--undo", journal.name, "--yes")["state"] == "undone"
    assert stick.read_bytes() == broken


def test_what_is_left_says_where_the_file_comes_from(
    stick: Path, drives: dict[str, bytes], files: Path, tmp_path: Path
) -> None:
    stick.write_bytes(CASES["install image cut off"].drive(drives, files).data)
    alone = run("mend", stick, "--yes", code=1).stdout
    assert "Name the installer with --from SOURCE" in alone
    assert "Nothing that can be mended." in alone
    whole = read_by_others(MemoryDrive.of(stick), START)
    run("mend", stick, "--from", files, "--yes")
    after = read_by_others(MemoryDrive.of(stick), START)
    assert after["sources/install.wim"] == (files / "sources/install.wim").read_bytes()
    assert {**whole, "sources/install.wim": b""} == {**after, "sources/install.wim": b""}
    run("check", stick, "--against", files)


def test_another_makers_code_is_replaced_on_request_only(stick: Path, drives: dict[str, bytes], files: Path) -> None:
    drive = bytearray(CASES["for both"].drive(drives, files).data)
    drive[:440] = b"\xfa\xbe\xbe\x07\xcd\x13".ljust(440, b"\x90")  # looks at the table, as most makers' code does
    stick.write_bytes(drive)
    told = run("mend", stick, "--yes").stdout
    assert "Not mended: it may be there on purpose." in told
    assert "Nothing to mend." in told
    assert stick.read_bytes() == bytes(drive)
    done = run_json("mend", stick, "--boot-code", "--yes")
    assert [remedy["finding"]["code"] for remedy in done["remedies"]] == ["start.foreign-mbr-code"]
    drive[:440] = other_system_code(bytes(440))
    stick.write_bytes(drive)
    assert run_json("mend", stick, "--yes")["state"] == "mended"  # a message is nothing that anybody would miss


def test_what_is_unfinished_is_not_mended(disc: Path, tmp_path: Path) -> None:
    path = tmp_path / "stick.img"
    run("build", disc, "--onto", path, "--size", "64MB")
    data = bytearray(path.read_bytes())
    record = pack_unfinished(Unfinished("build", bytes(32), 5 << 20, (1 << 20,)), 512)
    data[:1024] = bytes(512) + record
    path.write_bytes(data)
    assert "unfinished build" in run("mend", path, "--yes", code=3).stderr
    assert path.read_bytes() == bytes(data)


def test_a_mending_that_was_killed_is_put_back_and_done_again(
    drives: dict[str, bytes], files: Path, tmp_path: Path
) -> None:
    kill_some(NAMES[0], 3, random.Random(1), drives, files, tmp_path)
