"""The program as it is typed: exit codes, JSON, guards, and messages that say what next."""

from __future__ import annotations

import json
import random
from pathlib import Path

import pytest

from lucky_keystone.content.contents import stream
from lucky_keystone.demo.bay import make_bay
from lucky_keystone.drives.bay import Bay
from lucky_keystone.sources.opening import open_source

from ..building.kills import kill_some
from ..helpers.program import run, run_json


@pytest.fixture
def bay(tmp_path: Path) -> Path:
    make_bay(tmp_path / "bay")
    return tmp_path / "bay"


@pytest.fixture
def tags(bay: Path) -> dict[str, str]:
    return {drive.path.stem: drive.tag for drive in Bay(bay).drives()}


def test_build_and_check_a_drive_of_the_bay(disc: Path, bay: Path, tags: dict[str, str], tmp_path: Path) -> None:
    tag = tags["stick-small"]
    plan = run_json(
        "plan", disc, "--for", tag, "--bay", bay, "--save", tmp_path / "p.toml", "--figure", tmp_path / "p.png"
    )
    assert plan["drive"] == {"name": tag, "size": 4_004_511_744, "sector_size": 512}
    built = run_json("build", tmp_path / "p.toml", "--onto", tag.lower(), "--bay", bay, "--yes")
    assert built["check"]["healthy"] is True
    assert built["result"]["verified"] is True
    assert built["plan"]["choices"] == plan["choices"]
    checked = run_json("check", tag, "--bay", bay)
    assert (checked["healthy"], checked["findings"]) == (True, [])
    text = run("drives", "--bay", bay).stdout
    assert f"{tag}  Mudlark Mini, sold as 4 GB, shown as 3.7 GiB" in text
    assert "FAT32 'TIDEWELL_11'" in text


def test_text_of_each_command_tells_what_a_technician_compares(disc: Path, tmp_path: Path) -> None:
    inspected = run("inspect", disc, "--verify-source").stdout
    assert all(
        word in inspected for word in ("Windows setup", "Tidewell Crew", "UEFI x64", "matches its integrity table")
    )
    planned = run("plan", disc, "--part-size", "8MiB", "-v").stdout
    assert all(
        word in planned for word in ("install.wim in 3 parts", "install2.swm", "will not start", "Needed", "BIOS")
    )
    built = run("build", disc, "--onto", tmp_path / "drive.img").stdout
    assert all(
        word in built for word in ("written; read back and identical", "No faults found.", "starts          BIOS")
    )
    assert "\x1b" not in inspected + planned + built


def test_held_back_drives_are_never_written(disc: Path, bay: Path, tags: dict[str, str]) -> None:
    for name, reason in (
        ("disk-archive", "is in use: /media/workshop/timetables"),
        ("disk-system", "holds this computer's system"),
    ):
        before = _touched(bay / f"{name}.img")
        told = run("build", disc, "--onto", tags[name], "--bay", bay, "--yes", code=3).stderr
        assert reason in told
        assert "What next: " in told
        assert _touched(bay / f"{name}.img") == before


def _touched(path: Path) -> tuple[int, int]:
    found = path.stat()
    return found.st_mtime_ns, getattr(found, "st_blocks", 0)


def test_twins_are_refused_and_several_drives_each_get_their_result(disc: Path, tmp_path: Path) -> None:
    """Two sticks that are one in every respect; and three in one pass, of which one fails."""
    slot = '[[drive]]\nfile = "{0}.img"\nmodel = "{1}"\nserial = "{2}"\n'
    box = tmp_path / "box"
    box.mkdir()
    text = (
        slot.format("a", "Mudlark", "")
        + slot.format("b", "Mudlark", "")
        + slot.format("c", "Gull", "1")
        + slot.format("d", "Gull", "2")
    )
    text += slot.format("e", "Gull", "3") + "[drive.faults]\nvanishes_after = 9000000\n"
    (box / "bay.toml").write_text(text)
    for name in "abcde":
        with (box / f"{name}.img").open("wb") as stream:
            stream.truncate(64 << 20)
    drives = {drive.path.stem: drive.tag for drive in Bay(box).drives()}
    told = run("build", disc, "--onto", drives["a"], "--bay", box, "--yes", code=3).stderr
    assert "2 drives have the tag" in told
    assert "Unplug the others" in told
    assert run("drives", "--bay", box).stdout.count("cannot be told apart") == 2

    arguments = [word for name in "cde" for word in ("--onto", drives[name])]
    document = json.loads(run("build", disc, *arguments, "--bay", box, "--yes", "--json", code=5).stdout)
    assert [bool(drive["check"]) for drive in document["drives"]] == [True, True, False]
    assert "was disconnected" in document["drives"][2]["error"]["message"]
    assert all(run_json("check", drives[name], "--bay", box)["healthy"] for name in "cd")
    with (box / "e.img").open("rb") as stream:
        assert stream.read(512) == bytes(512)


def test_nothing_is_erased_unasked(disc: Path, tmp_path: Path) -> None:
    precious = tmp_path / "precious.img"
    precious.write_bytes(b"timetables" * (5 << 20))
    told = run("build", disc, "--onto", precious, typed="precious.img\n", code=3).stderr
    assert "no terminal to confirm on" in told
    assert precious.read_bytes() == b"timetables" * (5 << 20)


@pytest.mark.parametrize(
    ("arguments", "code", "words"),
    [
        (["build", "{disc}", "--onto", "{disc}", "--yes"], 3, "is the source itself"),
        (["build", "{disc}", "--onto", "/dev/null", "--yes"], 3, "is neither a whole drive nor an image file"),
        (["build", "{disc}", "--onto", "{tmp}/x.img", "--update"], 2, "cannot be updated"),
        (["gauge", "{disc}", "--marks", "--erase"], 2, "cannot be combined"),
        (["gauge", "{disc}", "--figure", "{tmp}/x.gif"], 2, "a figure is a .png or .svg"),
        (["reclaim", "{disc}", "--label", "no/such", "--yes"], 2, "The label 'NO/SUCH' holds '/'"),
        (["log", "--since", "yesterday"], 2, "is not a date"),
        (["build", "{disc}", "--onto", "{tmp}", "--yes"], 2, "is a folder"),
        (["build", "{disc}", "--onto", "{tmp}/a.img", "--onto", "{tmp}/a.img"], 2, "is named twice"),
        (
            ["build", "{disc}", "--onto", "{tmp}/x.img", "--file-system", "ntfs", "--part-size", "9M"],
            2,
            "nothing needs splitting on NTFS",
        ),
        (
            ["build", "{disc}", "--onto", "{tmp}/x.img", "--table", "gpt", "--firmware", "bios"],
            2,
            "cannot start a Windows installer",
        ),
        (["build", "{disc}", "--onto", "{tmp}/x.img", "--size", "20MiB"], 4, "does not fit"),
        (["build", "{disc}", "--onto", "{tmp}/x.img", "--sha256", "00" * 32], 4, "SHA-256 is"),
        (["build", "{disc}", "--onto", "{tmp}/x.img", "--sha256", "a" * 40], 2, "it looks like a SHA-1 sum"),
        (["inspect", "ftp://ferry.example/tidewell.iso"], 4, "ftp://ferry.example/tidewell.iso is an address"),
        (["build", "{disc}", "--onto", "{tmp}/no/where/x.img"], 2, "is not a folder"),
        (["build", "{tmp}/nothing.iso", "--onto", "{tmp}/x.img"], 4, "does not exist"),
        (["build", "{tmp}/nothing.toml", "--onto", "{tmp}/x.img"], 2, "No such file"),
        (["check", "{tmp}/nothing.img"], 2, "does not exist"),
        (["check", "ABCD"], 2, "There is no drive 'ABCD'"),
        (["drives", "--bay", "{tmp}"], 2, "bay.toml"),
        (["split", "{disc}", "--into", "{tmp}/parts"], 4, "not an install image"),
        (["inspect", "{tmp}/nothing"], 4, "does not exist"),
        (["plan", "{tmp}"], 4, "no sources/boot.wim"),
        (["plan", "{disc}", "--colour", "red"], 2, "There is no option --colour"),
        (["sail"], 2, "There is no command"),
    ],
)
def test_every_refusal_has_its_exit_code_and_leaves_nothing(
    arguments: list[str], code: int, words: str, disc: Path, tmp_path: Path
) -> None:
    filled = [argument.format(disc=disc, tmp=tmp_path) for argument in arguments]
    told = run(*filled, code=code)

    assert words in told.stdout + told.stderr
    assert list(tmp_path.iterdir()) == []
    if code:
        assert "What next: " in told.stderr
        assert json.loads(run(*filled, "--json", code=code).stdout)["error"]["exit_code"] == code


def test_split_writes_parts_and_never_over_others(disc: Path, tmp_path: Path) -> None:
    image = tmp_path / "install.wim"
    file = open_source(disc).root.find_file("sources/install.wim")
    assert file is not None
    image.write_bytes(b"".join(bytes(piece) for piece in stream(file.content)))
    done = run_json("split", image, "--into", tmp_path / "parts", "--part-size", "8MiB")
    assert [Path(part["path"]).name for part in done["parts"]] == ["install.swm", "install2.swm", "install3.swm"]
    assert [Path(part["path"]).stat().st_size for part in done["parts"]] == [part["size"] for part in done["parts"]]
    assert "exists already" in run("split", image, "--into", tmp_path / "parts", code=3).stderr
    _, second, third = (Path(part["path"]) for part in done["parts"])
    whole = third.read_bytes()
    third.unlink()  # as an interrupted run leaves it
    again = run_json("split", image, "--into", tmp_path / "parts", "--part-size", "8MiB")
    assert [part["was_there"] for part in again["parts"]] == [True, True, False]
    assert third.read_bytes() == whole
    second.write_bytes(bytes(second.stat().st_size))
    other = run("split", image, "--into", tmp_path / "parts", "--part-size", "8MiB", code=3)
    assert "install2.swm exists already, and is another file" in other.stderr


def test_help_of_every_command_shows_examples() -> None:
    for command in (
        "drives",
        "inspect",
        "plan",
        "build",
        "check",
        "rehearse",
        "gauge",
        "reclaim",
        "log",
        "split",
        "demo",
    ):
        assert f"lucky-keystone {command}" in run(command, "--help").stdout
    assert all(word in run("--help").stdout for word in ("Exit codes", "Completion", "inspect"))


def test_damage_is_exit_code_one(disc: Path, tmp_path: Path) -> None:
    drive = tmp_path / "drive.img"
    run("build", disc, "--onto", drive)
    with drive.open("r+b") as stream:
        stream.seek(20 << 20)
        stream.write(b"damage")
    told = run("check", drive, code=1).stdout
    assert "FAULT" in told
    assert "1 fault found." in told


@pytest.mark.posix
def test_names_from_outside_cannot_steer_the_terminal(disc: Path, tmp_path: Path) -> None:
    """A folder named with an escape sequence: it is shown as boxes, and refused with its name."""
    evil = tmp_path / "evil"
    evil.mkdir()
    (evil / "\x1b[2Jsunk \u202egpj.exe").write_bytes(b"x")
    shown = run("inspect", disc, "--add", evil, "-v").stdout
    told = run("plan", disc, "--add", evil, code=4).stderr

    assert "sunk" in shown
    assert "sunk" in told
    assert not set("\x1b\u202e") & set(shown + told)


@pytest.mark.parametrize(
    ("kind", "shape"),
    [
        ("new file", "fat32"),
        ("new file", "ntfs"),
        ("new file of a size", "gpt"),
        ("stick of a bay", "pair"),
        ("new file", "macos"),
    ],
)
def test_a_build_continues_wherever_it_was_killed(kind: str, shape: str, tmp_path: Path) -> None:
    """The same command each time, and without --yes for a new file: what was begun decides, not the file there is."""
    kill_some(kind, shape, 5, random.Random(shape), tmp_path)


@pytest.mark.parametrize("shape", [[], ["--table", "gpt"], ["--file-system", "fat32+ntfs"]])
def test_the_same_command_on_its_own_finished_image_writes_nothing(
    shape: list[str], disc: Path, tmp_path: Path
) -> None:
    """And the same drive again where it is no longer that, for which it asks: somebody may have put files there."""
    image = tmp_path / "counter.img"
    line = ["build", disc, "--onto", image, *shape]
    run(*line)
    built, moment = image.read_bytes(), image.stat().st_mtime_ns
    assert "nothing written" in run(*line).stdout
    assert image.stat().st_mtime_ns == moment
    for place in (700, len(built) // 2, len(built) - 40):
        with image.open("r+b") as stream:
            stream.seek(place)
            stream.write(bytes([built[place] ^ 1]))
        run(*line, "--yes")
        assert image.read_bytes() == built, place
    with image.open("r+b") as stream:
        stream.seek(len(built) // 2)
        stream.write(bytes([built[len(built) // 2] ^ 1]))
    assert "would be erased" in run(*line, code=3).stderr


def test_an_image_file_that_is_too_small_is_called_that(disc: Path, tmp_path: Path) -> None:
    (tmp_path / "small.img").write_bytes(b"x" * (2 << 20))
    refused = run("build", disc, "--onto", tmp_path / "small.img", "--yes", code=4).stderr
    assert "the image file small.img has" in refused
    assert "Remove the file" in refused
    told = run("build", disc, "--onto", tmp_path / "small.img", "--size", "1GiB", "--yes", code=2).stderr
    assert "the image file small.img is there already, with 2,097,152 bytes" in told
    (tmp_path / "empty.img").touch()  # what is left where making the file was cut off
    run("build", disc, "--onto", tmp_path / "empty.img")
