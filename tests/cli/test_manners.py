"""How the program speaks: any width, quiet, plain, with and without colour, and progress that tells the truth."""

from __future__ import annotations

import io
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console
from rich.theme import Theme

from lucky_keystone.cli.pace import Pace, shown_seconds
from lucky_keystone.cli.show import Column, table
from lucky_keystone.demo.bay import make_bay

from ..helpers.drives import Built
from ..helpers.program import run
from ..helpers.terminal import Terminal

PROGRAM = [sys.executable, "-m", "lucky_keystone"]


@pytest.fixture
def bay(tmp_path: Path) -> Path:
    """The workshop's drives."""
    make_bay(tmp_path / "bay")
    return tmp_path / "bay"


HEADINGS = {"reason", "name", "architecture", "version", "languages"}
"""Left out where rows are stacked."""
COMMANDS = ("drives", "inspect", "plan", "layout", "check", "log", "help")


def line_of(command: str, disc: Path, built: Built) -> list[object]:
    return {
        "drives": ["drives"],
        "inspect": ["inspect", disc],
        "plan": ["plan", disc, "--file-system", "fat32+ntfs"],
        "layout": ["plan", disc, "--layout"],
        "check": ["check", built.path],
        "log": ["log"],
        "help": ["build", "--help"],
    }[command]


@pytest.mark.parametrize("width", [60, 80, 120, 200])
@pytest.mark.parametrize("command", COMMANDS)
def test_no_line_is_wider_than_the_terminal_and_nothing_is_lost(
    command: str, width: int, disc: Path, built: Built, bay: Path
) -> None:
    line, environment = line_of(command, disc, built), {"LUCKY_KEYSTONE_BAY": str(bay)}
    with Terminal([*PROGRAM, *line], width=width, environment=environment) as seen:
        assert seen.end() == 0
    lines = seen.text.partition("Examples:")[0].splitlines()  # an example is one line, to be copied
    assert max(map(len, lines)) <= width
    assert not any(line != line.rstrip() for line in lines[:-1] if "%" not in line and "━" not in line)
    if command not in ("help", "layout", "log"):
        flat = {**os.environ, **environment}
        done = subprocess.run([*map(str, [*PROGRAM, *line])], capture_output=True, text=True, env=flat, check=True)
        shown = "".join(seen.text.split()).lower()
        assert {word for word in re.findall(r"\w+", done.stdout.lower()) if word not in shown} <= HEADINGS


@pytest.mark.parametrize("command", ["drives", "inspect", "plan", "check"])
def test_plain_is_one_fact_a_line(command: str, disc: Path, built: Built, bay: Path) -> None:
    """For screen readers: no columns, no bars, no folding by the program; the same without a terminal."""
    line = [*PROGRAM, *line_of(command, disc, built), "--plain"]
    with Terminal(line, environment={"LUCKY_KEYSTONE_BAY": str(bay)}) as seen:
        assert seen.end() == 0
    assert not re.search("[━─│╸╺┃█]", seen.text)
    assert not any("   " in text.strip() for text in seen.text.splitlines())
    if command == "plan":
        assert "table: MBR; both BIOS and UEFI machines start from it" in seen.text
    if command in ("plan", "check"):
        assert re.search("^BIOS: starts; ", seen.text, re.MULTILINE)


def test_quiet_says_the_result_and_errors_only(disc: Path, bay: Path, tmp_path: Path) -> None:
    drive = tmp_path / "a.img"
    told = run("build", disc, "--onto", drive, "-q")
    assert told.stderr == ""
    assert [line.strip() for line in told.stdout.splitlines()][-1] == "No faults found."
    assert len(told.stdout.splitlines()) == 2
    assert run("check", drive, "-q").stdout == "No faults found.\n"
    drive.write_bytes(drive.read_bytes().replace(b"BOOTMGR ", b"BOOTMGX "))
    assert "What next" in run("check", drive, "-q", code=1).stdout
    assert "Error: " in run("check", tmp_path / "none", "-q", code=2).stderr
    assert "serial number" in run("drives", "-v", "--bay", bay).stdout


@pytest.mark.parametrize(
    ("settings", "in_terminal", "colour"),
    [
        ({}, True, True),
        ({}, False, False),
        ({"NO_COLOR": "1"}, True, False),
        ({"CLICOLOR_FORCE": "1"}, False, True),
        ({"CLICOLOR_FORCE": "1", "NO_COLOR": "1"}, False, False),
        ({"TERM": "dumb"}, True, False),
        ({"CLICOLOR": "0"}, True, False),
    ],
)
def test_colour(settings: dict[str, str], in_terminal: bool, colour: bool, disc: Path) -> None:
    line = [*PROGRAM, "plan", str(disc)]
    if in_terminal:
        with Terminal(line, environment=settings) as seen:
            assert seen.end() == 0
        output = seen.raw
    else:
        known = {key: value for key, value in os.environ.items() if key not in ("NO_COLOR", "CLICOLOR_FORCE")}
        output = subprocess.run(line, capture_output=True, env={**known, **settings}, check=True).stdout
    assert (re.search(rb"\x1b\[[0-9;]*48;5;[0-9]+m|\x1b\[[0-9;]*4[0-7]m", output) is not None) == colour


@pytest.mark.parametrize("way", ["pipe", "dumb terminal", "--progress lines"])
def test_progress_without_redrawing_is_a_line_each_ten_percent(way: str, disc: Path, tmp_path: Path) -> None:
    line = [*PROGRAM, "build", str(disc), "--onto", str(tmp_path / "a.img")]
    if way == "pipe":
        shown = run(*line[len(PROGRAM) :]).stderr
    else:
        extra = ["--progress", "lines"] if way.startswith("--") else []
        environment = {} if extra else {"TERM": "dumb"}
        with Terminal([*line, *extra], width=70, environment=environment) as seen:
            assert seen.end() == 0
        shown = seen.text
        assert max(map(len, shown.splitlines())) <= 70
        assert b"\x1b[1A" not in seen.raw and b"\x1b[2K" not in seen.raw
    tenths = [int(percent) for percent in re.findall(r"^  writing: (\d+) %, .* of ", shown, re.MULTILINE)]
    assert tenths == sorted(set(tenths))
    assert all(percent % 10 == 0 for percent in tenths)
    assert len(re.findall(r"^  writing: [\d.]+ MiB in ", shown, re.MULTILINE)) == 1


def test_bars_and_the_end_of_a_build(disc: Path, tmp_path: Path) -> None:
    """What was done, how long it took, what to do next."""
    with Terminal([*PROGRAM, "build", disc, "--onto", tmp_path / "a.img"]) as seen:
        assert seen.end() == 0
    assert "━" in seen.text
    shown = " ".join(seen.text.split())
    for words in ("read back and identical (writing", "No faults found.", "Done in ", "is a file on this computer."):
        assert words in shown


class Clock:
    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


def test_time_left_follows_the_drives_present_rate() -> None:
    """A stick whose fast cache is full after 1 GiB: 100 MiB/s, then 10; the average would promise far less."""
    clock = Clock()
    pace, done, total = Pace(clock), 0, 4 << 30
    while done < total // 4:
        clock.now, done = clock.now + 1, done + (100 << 20)
        pace.mark(done)
    assert pace.left(total) == pytest.approx((total - done) / (100 << 20), rel=0.01)
    for _ in range(15):
        clock.now, done = clock.now + 1, done + (10 << 20)
        pace.mark(done)
    assert pace.left(total) == pytest.approx((total - done) / (10 << 20), rel=0.01)
    assert "10 MiB/s, 4 min" in pace.status(total, 0) or "10 MiB/s, 5 min" in pace.status(total, 0)
    assert pace.status(total, 1).endswith(", 1 retry")
    assert pace.status(total, 3).endswith(", 3 retries")


def test_nothing_is_promised_while_nothing_moves() -> None:
    clock = Clock()
    pace = Pace(clock)
    pace.mark(0)
    clock.now = 30
    pace.mark(0)
    assert pace.left(1 << 30) is None
    assert pace.status(1 << 30) == "0 bytes of 1 GiB"


@pytest.mark.parametrize(
    ("seconds", "words"),
    [(0.04, "0.0 s"), (42.4, "42 s"), (59.7, "1 min 00 s"), (185, "3 min 05 s"), (7800, "2 h 10 min")],
)
def test_durations_as_people_say_them(seconds: float, words: str) -> None:
    assert shown_seconds(seconds) == words


WORDS = st.text("abc 東ü", max_size=70)


@given(st.lists(st.tuples(WORDS, WORDS, WORDS, WORDS), min_size=1, max_size=5), st.integers(60, 200))
def test_tables_fit_any_width_and_lose_nothing(rows: list[tuple[str, str, str, str]], width: int) -> None:
    out = Console(width=width, theme=Theme({"name": ""}), file=io.StringIO(), record=True)
    table(out, [Column("One"), Column("Two", right=True), Column(folds=True), Column("Four", folds=True)], rows)
    shown = out.export_text()
    assert all(Console().measure(line).maximum <= width for line in shown.splitlines())
    for row in rows:
        for cell in row:
            for letter in set(cell) - {" "}:
                assert shown.count(letter) >= cell.count(letter)
