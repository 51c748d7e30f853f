"""What is shown cannot lie or steer the terminal, and ends in order whatever becomes of the output."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from lucky_keystone.common.progress import silent
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import MOMENT, installer

from ..helpers.drives import Built
from ..helpers.program import run

PROGRAM = [sys.executable, "-m", "lucky_keystone"]
EVIL = "\x1b[2K\rnothing\x9b2J"


def test_a_label_forges_no_line_and_no_colour(tmp_path: Path) -> None:
    disc = tmp_path / "evil.iso"
    write_disc(disc, installer(hollow_count=1, hollow_size=1 << 20, files=4), f"A\nVerified{EVIL}", MOMENT, silent)
    shown = run("inspect", disc).stdout
    assert "\nVerified" not in shown
    assert not {"\x1b", "\x9b", "\r"} & set(shown)
    document = run("inspect", disc, "--json").stdout
    assert not {"\x1b", "\x9b"} & set(document)
    assert json.loads(document)["facts"]["label"].startswith("A\nVerified\x1b[2K")


def test_what_is_erased_is_listed_and_cannot_wipe_the_question(built: Built, disc: Path, tmp_path: Path) -> None:
    """At a terminal: a label full of control characters, and the files that are lost, the newest first."""
    drive = tmp_path / "precious.img"
    drive.write_bytes(built.path.read_bytes().replace(b"TIDEWELL_11", b"\x1b[2K\x1b[1A\rX\r"[:11].ljust(11)))
    master, slave = pytest.importorskip("pty").openpty()
    command = [*PROGRAM, "build", str(disc), "--onto", str(drive)]
    child = subprocess.Popen(command, stdin=slave, stdout=subprocess.DEVNULL, stderr=slave)
    os.close(slave)
    os.write(master, b"no\n")
    shown = b""
    while b"Type precious.img" not in shown:
        shown += os.read(master, 4096)
    assert child.wait(timeout=1200) == 3
    os.close(master)
    text = shown.decode("utf-8", "replace")
    question = text[text.index("Everything on") :]
    assert "files, " in question
    assert "2026-03-14 09:26" in question
    assert "\x1b[1A" not in question
    assert "\x1b[2K" not in question


@pytest.mark.posix
@pytest.mark.parametrize(
    "arguments", [["check", "{drive}"], ["check", "{drive}", "--json"], ["check", "none", "--json"]]
)
def test_output_that_nobody_takes(arguments: list[str], built: Built) -> None:
    """A full disk under it: a code of its own. A pipe that is closed: another one, and never that of a finding."""
    command = [*PROGRAM, *(word.format(drive=built.path) for word in arguments)]
    with Path("/dev/full").open("wb") as full:
        done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, check=False)
    assert done.returncode == 74
    assert b"Traceback" not in done.stderr
    reader, writer = os.pipe()
    os.close(reader)
    done = subprocess.run(command, stdout=writer, stderr=subprocess.PIPE, check=False)
    os.close(writer)
    assert done.returncode == 141
    assert b"Traceback" not in done.stderr


@pytest.mark.posix
def test_closed_streams_never_become_the_drive(disc: Path, tmp_path: Path) -> None:
    """A file that is opened gets the lowest free number: what is printed would go there."""
    drive, other = tmp_path / "a.img", tmp_path / "b.img"
    run("build", disc, "--onto", drive, "--identity", "crew")
    command = " ".join([*PROGRAM, "build", str(disc), "--onto", str(other), "--identity", "crew"])
    assert subprocess.run(f"{command} <&- >&- 2>&-", shell=True, check=False).returncode == 0
    assert drive.read_bytes() == other.read_bytes()


@pytest.mark.posix
def test_a_terminal_that_knows_ascii_alone(disc: Path, tmp_path: Path) -> None:
    dollars = tmp_path / "a$b$_\N{LATIN SMALL LETTER A WITH DIAERESIS}.iso"
    dollars.write_bytes(disc.read_bytes())
    ascii_only = os.environ | {"PYTHONIOENCODING": "ascii", "LC_ALL": "C"}
    command = [*PROGRAM, "plan", str(dollars), "--figure", str(tmp_path / "plan.svg")]
    done = subprocess.run(command, env=ascii_only, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr
    assert b"a$b$_\\xe4.iso" in done.stdout


@pytest.mark.parametrize(
    ("name", "text", "told"),
    [
        ("deep.toml", "[choices]\nlabel=" + "[" * 5000, "recursion"),
        ("size.toml", f"format = 2\n[source]\npath = 'x'\n[drive]\nsize = {10**30}", "line 5, drive.size"),
        ("part.toml", f"format = 2\n[source]\npath = 'x'\n[choices]\npart_size = {10**4000}", "choices.part_size"),
        ("bytes.toml", "\udcff", "decode"),
        ("bay.toml", "[[drive]]\nfile='a.img'\nmodel='m'\nserial='s'\nsector_size=0", "sector_size"),
        ("bay.toml", "[[drive]]\nfile='a\\u0000b'\nmodel='m'\nserial='s'".replace("'", '"'), "file"),
        ("bay.toml", "\udcff", "decode"),
        (
            "bay.toml",
            f"[[drive]]\nfile='a.img'\nmodel='m'\nserial='s'\n[drive.faults]\nreal_size={10**30}",
            "real_size",
        ),
        pytest.param(
            "bay.toml",
            "[[drive]]\nfile='link.img'\nmodel='m'\nserial='s'",
            "is a link",
            marks=pytest.mark.posix,
        ),
    ],
)
def test_descriptions_beyond_all_measure_end_in_one_line(name: str, text: str, told: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(text.encode("utf-8", "surrogateescape"))
    if told == "is a link":
        (tmp_path / "link.img").symlink_to("/dev/null")
    command = ["drives", "--bay", tmp_path] if name == "bay.toml" else ["build", tmp_path / name, "--onto", "x.img"]
    refused = run(*command, code=2).stderr
    assert told in refused
    assert len(refused) < 1000
