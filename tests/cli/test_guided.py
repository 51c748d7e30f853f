"""The guided way, driven through a pseudo-terminal; and that nothing is asked where nobody can answer."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.drives.bay import Bay

from ..helpers.program import PROGRAM, run
from ..helpers.terminal import Terminal

QUESTION = "Tag of the drive to build onto"
BOX = """[[drive]]
file = "stick.img"
model = "Gull 64"
serial = "G-1"

[[drive]]
file = "small.img"
model = "Gull 8"
serial = "G-2"

[[drive]]
file = "system.img"
model = "Keelson 256"
serial = "K-1"
mounts = ["/"]
holds_system = true
"""


@pytest.fixture
def box(tmp_path: Path) -> tuple[Path, dict[str, str]]:
    """A bay with a stick, one that is too small, and the system's disk; and their tags."""
    folder = tmp_path / "box"
    folder.mkdir()
    (folder / "bay.toml").write_text(BOX)
    for name, size in (("stick", 128), ("small", 8), ("system", 256)):
        with (folder / f"{name}.img").open("wb") as stream:
            stream.truncate(size << 20)
    return folder, {drive.path.stem: drive.tag for drive in Bay(folder).drives()}


def blank(path: Path) -> bool:
    return not any(path.read_bytes())


def test_a_drive_is_chosen_shown_confirmed_and_named_for_next_time(
    box: tuple[Path, dict[str, str]], disc: Path, tmp_path: Path
) -> None:
    folder, tags = box
    with Terminal([*PROGRAM, "build", disc, "--bay", folder, "--no-probe"]) as seen:
        seen.wait_for("Windows setup")
        seen.wait_for("too small: the source needs")
        seen.wait_for(QUESTION)
        wrong = tags["stick"][:3] + ("A" if tags["stick"][3] != "A" else "B")
        seen.type(wrong)
        seen.wait_for(f"There is no drive '{wrong}'.")
        seen.wait_for(f"Did you mean {tags['stick']}?")
        seen.wait_for(QUESTION)
        seen.type(tags["system"].lower())
        seen.wait_for("is protected: it holds this computer's system")
        seen.wait_for(QUESTION)
        seen.type("")  # look again
        seen.wait_for(QUESTION)
        seen.type(tags["stick"].lower())
        seen.wait_for("Becomes")
        seen.wait_for("starts BIOS")
        seen.wait_for("On it now: empty")
        seen.wait_for(f"Type {tags['stick']} to continue")
        seen.type(tags["stick"].lower())
        seen.wait_for("written; read back and identical")
        seen.wait_for("No faults found.")
        seen.wait_for("boot menu")
        seen.wait_for("To skip the prompt next time: ")
        assert seen.end() == 0
    line = " ".join(seen.text.split()).split("To skip the prompt next time: ")[1]
    assert line == f"lucky-keystone build {disc} --bay {folder} --no-probe --onto {tags['stick']}"
    expected = tmp_path / "expected.img"
    run("build", disc, "--onto", expected, "--size", "128MiB", "--identity", tags["stick"])
    assert (folder / "stick.img").read_bytes() == expected.read_bytes()


@pytest.mark.parametrize("moment", ["question", "confirmation"])
def test_ctrl_c_leaves_everything_as_it_was(moment: str, box: tuple[Path, dict[str, str]], disc: Path) -> None:
    folder, tags = box
    with Terminal([*PROGRAM, "build", disc, "--bay", folder]) as seen:
        seen.wait_for(QUESTION)
        if moment == "confirmation":
            seen.type(tags["stick"])
            seen.wait_for("to continue")
        seen.interrupt()
        seen.wait_for("Stopped.")
        assert seen.end() == 130
    assert all(blank(folder / f"{name}.img") for name in ("stick", "small", "system"))


def test_a_wrong_name_at_the_confirmation_writes_nothing(box: tuple[Path, dict[str, str]], disc: Path) -> None:
    folder, tags = box
    with Terminal([*PROGRAM, "build", disc, "--bay", folder]) as seen:
        seen.wait_for(QUESTION)
        seen.type("q")
        assert seen.end() == 130
    with Terminal([*PROGRAM, "build", disc, "--bay", folder]) as seen:
        seen.wait_for(QUESTION)
        seen.type(tags["stick"])
        seen.wait_for("to continue")
        seen.type("yes")
        seen.wait_for("nothing was written")
        assert seen.end() == 3
    assert blank(folder / "stick.img")


def test_a_drive_that_vanishes_meanwhile(box: tuple[Path, dict[str, str]], disc: Path) -> None:
    folder, tags = box
    with Terminal([*PROGRAM, "build", disc, "--bay", folder]) as seen:
        seen.wait_for(QUESTION)
        (folder / "bay.toml").write_text(BOX[BOX.index("[[drive]]", 1) :])
        seen.type(tags["stick"])
        seen.wait_for(f"There is no drive '{tags['stick']}'.")
        seen.wait_for(QUESTION)
        (folder / "bay.toml").write_text(BOX)
        seen.type(tags["stick"])
        seen.wait_for("to continue")
        (folder / "bay.toml").write_text(BOX.replace("G-1", "G-9"))  # pulled out, and another one plugged in
        seen.type(tags["stick"])
        seen.wait_for("What next: ")
        assert seen.end() in (3, 5)
    assert blank(folder / "stick.img")


def test_first_steps(box: tuple[Path, dict[str, str]], disc: Path) -> None:
    folder, tags = box
    with Terminal(PROGRAM, environment={"LUCKY_KEYSTONE_BAY": str(folder)}) as seen:
        seen.wait_for("What would you like to do?")
        seen.type("99")
        seen.wait_for("is not one of the numbers")
        seen.type("4")
        seen.wait_for("$ lucky-keystone drives")
        seen.wait_for(tags["stick"])
        assert seen.end() == 0
    with Terminal(PROGRAM) as seen:
        seen.type("2")
        seen.wait_for("Path of the image")
        seen.type(str(disc))
        seen.wait_for("Windows setup")
        assert seen.end() == 0
    with Terminal(PROGRAM) as seen:
        seen.wait_for("What would you like to do?")
        seen.type("")
        assert seen.end() == 0


def test_a_drive_that_is_looked_at_is_asked_for_too(box: tuple[Path, dict[str, str]], tmp_path: Path) -> None:
    folder, tags = box
    with Terminal([*PROGRAM, "check", "--bay", folder]) as seen:
        seen.wait_for("The drive's tag, or an image file")
        seen.type(str(tmp_path / "none.img"))
        seen.wait_for("does not exist")
        seen.type(tags["stick"].lower())
        seen.wait_for(f"$ lucky-keystone check --bay {folder} {tags['stick']}")
        seen.wait_for("1 fault found.")  # it is empty
        assert seen.end() == 1
    for command in ("mend", "reclaim", "gauge"):
        with Terminal([*PROGRAM, command, "--bay", folder]) as seen:
            seen.wait_for("The drive's tag, or an image file")
            seen.type("q")
            assert seen.end() == 130
    assert "DRIVE is missing." in run("check", code=2).stderr


def test_nothing_waits_without_a_terminal(disc: Path) -> None:
    told = run("build", disc, code=2)
    assert "there is no terminal to ask which drive" in told.stderr
    assert "The shop:" in run().stdout


@pytest.mark.parametrize(
    ("line", "meant"),
    [
        (["biuld", "x"], "build"),
        (["plan", "x.iso", "--labell", "X"], "--label"),
        (["plan", "{disc}", "--firmware", "ufei"], "uefi"),
        (["check", "--firmware", "boht", "x.img"], "both"),
        (["rehearse", "--firmware", "bios-boch", "x.img"], "bios-bochs"),
        (["log", "--result", "fialed"], "failed"),
        (["schema", "chekc"], "check"),
        (["check", "{mistyped}", "--bay", "{box}"], "{tag}"),
    ],
)
def test_what_is_mistyped_gets_the_nearest(
    line: list[str], meant: str, box: tuple[Path, dict[str, str]], disc: Path
) -> None:
    tag = box[1]["stick"]
    filled = {
        "disc": disc,
        "box": box[0],
        "tag": tag,
        "mistyped": tag[1] + tag[0] + tag[2:] if tag[0] != tag[1] else tag[:3],
    }
    told = run(*(word.format(**filled) for word in line), code=2).stderr
    assert f"Did you mean {meant.format(**filled)}?" in told
