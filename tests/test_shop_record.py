"""The shop's record: several programs at once, damage, older versions, what becomes worse, and what is removed."""

from __future__ import annotations

import sqlite3
import subprocess
import sys
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from msgspec.structs import replace

from lucky_keystone.mending.journal import MendJournal
from lucky_keystone.shop.file import in_record
from lucky_keystone.shop.log import LogEntry, add, find, measured
from lucky_keystone.shop.shelf import ShopShelf
from lucky_keystone.shop.trends import trends

from .helpers.drives import Built
from .helpers.program import run, run_json

ENTRY = LogEntry(moment="2026-11-28T08:00:00Z", command="build", result="done", tag="G7KM", model="Ferry", serial="7")


@pytest.fixture
def record(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    file = tmp_path / "shop" / "log.sqlite"
    monkeypatch.setenv("LUCKY_KEYSTONE_LOG", str(file))
    return file


def test_several_programs_write_one_record_that_is_new(record: Path) -> None:
    text = (
        "import sys; from lucky_keystone.shop.log import LogEntry, add\n"
        "for n in range(25): add(LogEntry(moment='2026', command='build', result='done', tag=sys.argv[1], seconds=n))"
    )
    running = [subprocess.Popen([sys.executable, "-c", text, f"T{n}"]) for n in range(6)]
    assert [each.wait() for each in running] == [0] * 6
    assert len(find()) == 150
    assert sorted(path.name for path in record.parent.iterdir()) == ["log.sqlite"]


def no_database(file: Path) -> None:
    file.write_bytes(b"ferry timetable " * 4096)


def torn(file: Path) -> None:
    data = bytearray(file.read_bytes())
    data[4096:12288] = b"\xa5" * 8192
    file.write_bytes(data)


def without_tables(file: Path) -> None:
    with closing(sqlite3.connect(file)) as database:  # one that is open cannot be set aside on Windows
        database.execute("DROP TABLE work")
        database.commit()


@pytest.mark.parametrize("damage", [no_database, torn, without_tables])
def test_a_damaged_record_is_set_aside_and_said(damage: Callable[[Path], None], record: Path, built: Built) -> None:
    for number in range(60):
        add(replace(ENTRY, detail=f"wharf {number} " * 20))
    ShopShelf("drive").put(b"manifest")
    damage(record)
    damaged = record.read_bytes()
    done = run("check", built.path, log=record)
    assert "was set aside as" in done.stderr
    assert "No faults found" in done.stdout
    (aside,) = record.parent.glob("log-damaged-*.sqlite")
    assert aside.read_bytes() == damaged
    assert [entry.command for entry in find()] == ["check"]


def test_entries_that_are_none_are_left_out(record: Path) -> None:
    add(ENTRY)
    for values in ("seconds = 'ferry'", "tag = x'ff00'", "size = 1.5"):
        add(ENTRY)
        with closing(sqlite3.connect(record)) as database, database:
            database.execute(f"UPDATE work SET {values} WHERE rowid = (SELECT MAX(rowid) FROM work)")
    shown = run("log", log=record)
    assert ("3 of the entries" in shown.stderr, "1 entry" in shown.stdout) == (True, True)


def test_a_record_that_cannot_be_used_stops_nothing(tmp_path: Path, built: Built) -> None:
    (tmp_path / "log").mkdir()
    assert "cannot be used" in run("check", built.path, log=tmp_path / "log").stderr


def test_a_record_of_an_older_version_goes_on(record: Path) -> None:
    add(ENTRY)
    with closing(sqlite3.connect(record)) as database, database:
        database.execute("DROP INDEX work_by_drive")
        database.execute("DROP TABLE built")
        for column in ("reading", "writing", "blamed"):
            database.execute(f"ALTER TABLE work DROP COLUMN {column}")
        database.execute("PRAGMA user_version = 1")
    add(replace(ENTRY, command="gauge", moment="2026-11-29T08:00:00Z", reading=5, writing=3))
    assert [(entry.command, entry.reading) for entry in find()] == [("gauge", 5), ("build", 0)]
    assert measured("G7KM", "7") == (5, 3)
    in_record(lambda database: database.execute("PRAGMA user_version = 99"), None, make=True)
    assert "a newer version" in run("log", code=5, log=record).stderr


def work(day: int, command: str = "build", result: str = "done", **more: object) -> LogEntry:
    return replace(ENTRY, moment=f"2026-11-{day:02}T08:00:00Z", command=command, result=result, **more)  # type: ignore[arg-type]


def failed(day: int) -> LogEntry:
    return work(day, result="failed", blamed=True)


FAST, SLOW = 90 << 20, 40 << 20
HISTORIES: dict[str, tuple[list[LogEntry], set[str]]] = {
    "as ever": ([work(1, "gauge", reading=FAST), work(2, "gauge", reading=FAST - 9), work(3)], set()),
    "slower": ([work(1, "gauge", reading=FAST), work(5, "gauge", reading=SLOW, writing=SLOW)], {"reading"}),
    "measured otherwise": ([work(1, "gauge", writing=FAST), work(5, "build", writing=SLOW)], set()),
    "slower when built": ([work(1, writing=FAST), *(work(day, writing=SLOW) for day in (6, 7))], {"writing"}),
    "slow once, when built": ([work(1, writing=FAST), work(5, writing=FAST), work(6, writing=SLOW)], set()),
    "fast again": ([work(1, reading=FAST), work(2, reading=SLOW), work(3, reading=FAST)], set()),
    "failed once": ([failed(1), work(2)], set()),
    "failed twice": ([work(1), failed(2), work(3, "check", "faults", detail="byte 5", blamed=True)], {"failures"}),
    "long ago": ([failed(1), failed(2), *(work(day) for day in range(3, 9))], set()),
    "mistyped": ([work(day, result="failed") for day in (1, 2, 3)], set()),
    "unfinished": ([work(1, result="interrupted"), *(work(day, "check", "faults") for day in (2, 3))], set()),
    "not its fault": ([work(1, result="refused"), work(2, result="interrupted"), work(3, result="refused")], set()),
    "repeats": ([*(work(day) for day in range(1, 7)), work(8, retries=2), work(9, retries=2)], {"retries"}),
    "an image file": ([replace(failed(day), model="", serial="") for day in (1, 2, 3)], set()),
}


@pytest.mark.parametrize("name", HISTORIES)
def test_what_becomes_worse_is_seen_in_a_drives_history(name: str) -> None:
    entries, kinds = HISTORIES[name]
    other = replace(work(1, "gauge", reading=FAST), serial="8")
    found = trends([*reversed(entries), other])
    assert {each.kind for each in found} == kinds
    assert all(each.tag == "G7KM" and each.advice for each in found)


def test_the_program_tells_a_history_and_removes_what_is_old(
    record: Path, copy_of: Callable[[], Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("LUCKY_KEYSTONE_JOURNALS", str(tmp_path / "journals"))
    for entry in HISTORIES["failed twice"][0]:
        add(entry)
    shown = run("log", "--drive", "G7KM", log=record).stdout
    assert "Getting worse" in shown
    assert "2 of its last 3 jobs failed, the last on 2026-11-03 (byte 5)" in shown
    assert [each["kind"] for each in run_json("log", log=record)["trends"]] == ["failures"]
    drive = copy_of()
    with drive.open("r+b") as file:
        file.seek(440)
        file.write(bytes(72))
    run("mend", drive, "--yes", log=record)
    (journal,) = (tmp_path / "journals").glob("*.mend")
    assert "will be" not in run("log", "--prune", "--before", "2026-01-01", log=record).stdout
    assert "there is no terminal" in run("log", "--prune", "--before", "2100-01-01", code=3, log=record).stderr
    document = run_json("log", "--prune", "--before", "2026-11-03", "--yes", log=record)
    assert (document["entries_removed"], document["journals_removed"]) == (2, [])
    assert MendJournal(journal).state == "written"
    assert run_json("log", "--prune", "--before", "2100-01-01", "--yes", log=record)["journals_removed"] == [
        str(journal)
    ]
    assert run_json("log", log=record)["entries"] == []
    assert "go together" in run("log", "--prune", code=2, log=record).stderr
