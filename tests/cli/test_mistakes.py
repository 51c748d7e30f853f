"""What is answered to what people type by mistake, and verdicts that must not be overlooked."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from lucky_keystone.drives.bay import Bay
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.manifest.format import read_manifest
from lucky_keystone.manifest.unfinished import Unfinished, pack_unfinished
from tests.helpers.drives import Built
from tests.helpers.program import run, run_json

BARE = ["sdb", "usb", "disk2", "PHYSICALDRIVE1", "my stick"]
MISTAKES: list[tuple[list[str], str, str]] = [
    *((["build", "{disc}", "--onto", name, "--yes"], f"There is no drive '{name}'.", "ending") for name in BARE),
    (["build", "{disc}", "--onto", "A,B", "--yes"], "There is no drive 'A,B'.", "Name each drive by itself."),
    (["build", "{disc}", "stick.img"], "unexpected extra argument", "build SOURCE --onto DRIVE"),
    (["build", "{disc}", "--dry-run"], "There is no option --dry-run.", "plan SOURCE"),
    (["build", "{disc}", "--portable"], "There is no option --portable.", "--purpose portable"),
    (["plan", "{disc}", "--onto", "G7KM"], "There is no option --onto.", "--for DRIVE"),
    (["plan", "{plan}"], "is a saved plan already.", "build {plan} --onto DRIVE"),
    (["build", "--batch", "{plan}"], "no heading of a column is there", "drive, source, plan"),
    (["repair"], "There is no command 'repair'.", "mend DRIVE"),
    (["Format"], "There is no command 'Format'.", "reclaim DRIVE"),
    (["download"], "There is no command 'download'.", "fetch LINK"),
    (["burn"], "There is no command 'burn'.", "build SOURCE --onto DRIVE"),
    (["bild"], "There is no command 'bild'.", "Did you mean build?"),
    (["help", "sail"], "There is no command 'sail'.", "--help"),
]


@pytest.mark.parametrize(("words", "what", "advice"), MISTAKES, ids=[" ".join(case[0]) for case in MISTAKES])
def test_a_mistake_is_named_with_the_way_out(
    words: list[str], what: str, advice: str, disc: Path, tmp_path: Path
) -> None:
    plan = tmp_path / "crew.toml"
    run("plan", disc, "--save", plan)
    names = {"disc": str(disc), "plan": str(plan)}
    told = run(*(word.format_map(names) for word in words), code=2, cwd=tmp_path).stderr
    assert (what in told, advice.format_map(names) in told) == (True, True), told
    assert [each.name for each in tmp_path.iterdir()] == ["crew.toml"]


def test_help_and_words_in_any_case(disc: Path) -> None:
    assert run("help", "check").stdout == run("check", "--help").stdout
    chosen = run_json("plan", disc, "--table", "GPT", "--firmware", "Uefi")["choices"]
    assert (chosen["table"], chosen["firmware"]) == ("gpt", "uefi")


def test_a_machine_that_will_not_start_it_is_in_the_verdict(disc: Path, tmp_path: Path) -> None:
    machine, drive = tmp_path / "tablet.toml", tmp_path / "stick.img"
    machine.write_text(
        "machine = 1\nname = 'Gangway tablet'\nuefi = 'yes'\nuefi_width = 32\nbios = 'no'\narchitecture = 'x86'\n"
    )
    built = run("build", disc, "--onto", drive, "--machine", machine, "--yes", code=1).stdout
    assert built.index("Gangway tablet (the source has no") < built.index("Gangway tablet will not start it.")
    assert "Gangway tablet will not start it." in run("check", drive, "--machine", machine, code=1).stdout
    run("check", drive)


def test_an_unfinished_build_is_one_finding(built: Built, copy_of: Callable[[], Path]) -> None:
    """Its table is gone on purpose, and what is behind it is nobody's to judge."""
    drive = copy_of()
    with ImageFile(drive, write=True) as medium:
        manifest = read_manifest(medium, 512)
        assert manifest is not None
        state = Unfinished("build", bytes(32), 5 << 20, (1 << 20,))
        medium.write_at(manifest.place, memoryview(pack_unfinished(state, 512)))
        medium.write_at(0, memoryview(bytes(512)))
    found = run_json("check", drive, code=1)["findings"]
    assert [(each["code"], each["what"]) for each in found] == [
        ("manifest.unfinished", "unfinished build, 5 MiB written.")
    ]
    assert "Run the same 'build' command again" in found[0]["advice"]


def test_what_is_no_installer_and_what_is_no_drive(disc: Path, tmp_path: Path) -> None:
    told = run("inspect", tmp_path, code=4).stdout
    assert told.startswith(f"{tmp_path} is not a known installer")
    for command in ("check", "mend"):
        assert "is a disc image, and no drive." in run(command, disc, code=2).stderr


def test_the_last_repair_is_taken_back(
    copy_of: Callable[[], Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("LUCKY_KEYSTONE_JOURNALS", str(tmp_path / "journals"))
    drive = copy_of()
    with drive.open("r+b") as file:
        file.write(bytes(512))
    spoilt = drive.read_bytes()
    for _ in range(2):
        run("mend", drive, "--yes")
        assert drive.read_bytes() != spoilt
        listed = run_json("mend", "--list")["undo_files"]
        assert (listed[0]["drive"], listed[0]["state"]) == (drive.name, "written")
        run("mend", "--undo", drive, "--yes")
        assert drive.read_bytes() == spoilt
    other = tmp_path / "other.img"
    other.write_bytes(bytes(1 << 20))
    name = Path(listed[0]["path"]).name
    assert f"{name} is of a repair of {drive.name}" in run("mend", other, "--undo", name, "--yes", code=3).stderr
    assert "No repair of other.img is kept" in run("mend", other, "--undo", "--yes", code=2).stderr


def test_mend_says_of_a_small_drive_which_bytes_have_changed(disc: Path, built: Built, tmp_path: Path) -> None:
    stick = tmp_path / "stick.img"
    data = bytearray(built.path.read_bytes())
    place = max(data.rfind(b"MSWIM"), 0)
    data[place + 4096] ^= 0xFF
    stick.write_bytes(data)
    told = run("mend", stick, "--dry-run", code=1).stdout
    assert "have changed since the build" in told
    assert f"build SOURCE --onto {stick.name} --update" in told
    assert [each["code"] for each in run_json("mend", stick, "--dry-run", code=1)["differing"]] == ["content.file"]
    run("build", disc, "--onto", stick, "--update", "--yes")
    assert run_json("mend", stick, "--dry-run")["differing"] == []


def test_no_option_is_advised_that_is_refused_then(disc: Path, tmp_path: Path) -> None:
    bay = tmp_path / "bay"
    bay.mkdir()
    (bay / "bay.toml").write_text(
        '[[drive]]\nfile = "system.img"\nmodel = "Keelson 256"\nserial = "K-1"\nmounts = ["/"]\n'
        "internal = true\nholds_system = true\n"
    )
    (bay / "system.img").write_bytes(bytes(1 << 20))
    (drive,) = Bay(bay).drives()
    told = run("build", disc, "--onto", drive.tag, "--bay", bay, "--yes", code=3).stderr
    assert "Choose another drive; this one is never written." in told
    assert "--allow-internal" not in told and "--unmount" not in told


def test_what_is_advised_needs_no_checkout(tmp_path: Path) -> None:
    (tmp_path / "shop.toml").write_text("presets = 2\n")
    told = run("presets", "--config", tmp_path / "none.toml", code=2).stderr
    assert "docs/" not in told + run("presets", "--config", tmp_path / "shop.toml", code=2).stderr
