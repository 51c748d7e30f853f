"""Planning: choices kept or refused, reasons given, plan files that come back or say where they are wrong."""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree

import pytest

from lucky_keystone.common.errors import KeystoneError, SourceError, UsageError
from lucky_keystone.common.units import parse_size, shown_size, sold_size
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import Decision, DriveShape
from lucky_keystone.planning.figure import draw_plan
from lucky_keystone.planning.make import make_plan
from lucky_keystone.planning.plan import Plan
from lucky_keystone.planning.planfile import SavedPlan, open_planned_source, read_plan, save_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source


@pytest.mark.parametrize(
    ("choices", "error", "instead"),
    [
        (Choices(file_system="ntfs", part_size=9 << 20), UsageError, "--file-system fat32"),
        (Choices(file_system="ntfs", cluster=128 << 10), UsageError, "power of two"),
        (Choices(file_system="fat32+ntfs", label="a:b"), UsageError, "up to 32"),
        (Choices(table="gpt", firmware="both"), UsageError, "--table mbr"),
        (Choices(table="gpt", firmware="bios"), UsageError, "--firmware uefi"),
        (Choices(purpose="portable"), UsageError, "1 Tidewell Counter, 2 Tidewell Crew"),
        (Choices(edition="Studio"), UsageError, "1 Tidewell Counter, 2 Tidewell Crew"),
        (Choices(table="apm"), UsageError, "mbr, gpt"),
        (Choices(label="far too long a label"), UsageError, "up to 11"),
        (Choices(cluster=3000), UsageError, "power of two"),
        (Choices(part_size=5 << 30), UsageError, "4 GiB less one"),
    ],
)
def test_choices_that_cannot_be_are_refused_with_what_works(
    choices: Choices, error: type[KeystoneError], instead: str, disc: Path
) -> None:
    with pytest.raises(error) as refusal:
        make_plan(open_source(disc), choices, DriveShape("x", None))
    assert refusal.value.exit_code == 2
    assert instead in refusal.value.advice


AS_IS = Choices(as_is=True)


def large_source(folder: Path, *names: str) -> Path:
    """An installer in a folder whose files named are larger than FAT32 can hold (they are holes on this disk)."""
    for name, size in (
        ("bootmgr", 9),
        ("boot/bcd", 9),
        ("efi/boot/bootx64.efi", 9),
        ("sources/boot.wim", 9),
        *((n, 5 << 30) for n in names),
    ):
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        with (folder / name).open("wb") as stream:
            stream.truncate(size)
    return folder


@pytest.mark.parametrize(
    ("names", "choices", "size", "decided", "reason"),
    [
        ((), AS_IS, None, ("mbr", "both", "fat32"), "all UEFI firmware reads"),
        (("drivers.bin",), AS_IS, None, ("mbr", "both", "fat32+ntfs"), "drivers.bin has 5,368,709,120 bytes"),
        (("drivers.bin",), Choices(as_is=True, firmware="bios"), None, ("mbr", "bios", "ntfs"), "drivers.bin has"),
        (("sources/boot.wim",), AS_IS, None, ("mbr", "both", "ntfs"), "neither FAT32 nor NTFS"),
        ((), Choices(as_is=True, firmware="uefi"), 3 << 40, ("gpt", "uefi", "fat32"), ""),
        ((), Choices(as_is=True, table="gpt"), None, ("gpt", "uefi", "fat32"), ""),
    ],
)
def test_what_is_not_chosen_is_decided_from_source_and_drive(
    names: tuple[str, ...], choices: Choices, size: int | None, decided: tuple[str, ...], reason: str, tmp_path: Path
) -> None:
    plan = make_plan(open_source(large_source(tmp_path, *names)), choices, DriveShape("x", size))
    assert (plan.choices.table, plan.choices.firmware, plan.choices.file_system) == decided
    assert reason in next(decision.reason for decision in plan.decisions if decision.topic == "file system")


def test_a_source_without_a_uefi_loader_gets_no_crossing(tmp_path: Path) -> None:
    folder = large_source(tmp_path, "drivers.bin")
    (folder / "efi/boot/bootx64.efi").unlink()
    plan = make_plan(open_source(folder), AS_IS, DriveShape("x", None))
    assert (plan.choices.file_system, [volume.wish.name for volume in plan.volumes]) == ("ntfs", ["installer"])
    assert {row.verdict for row in plan.forecast if row.firmware.startswith("UEFI")} == {"will not start"}
    with pytest.raises(SourceError, match="no UEFI loader"):
        make_plan(open_source(folder), Choices(as_is=True, firmware="uefi"), DriveShape("x", None))


@pytest.mark.parametrize(
    ("names", "choices", "told"),
    [
        (("drivers.bin",), Choices(as_is=True, file_system="fat32"), "--file-system ntfs"),
        (("sources/boot.wim",), Choices(as_is=True, file_system="fat32+ntfs"), "--file-system ntfs"),
    ],
)
def test_a_file_system_that_cannot_hold_the_source_is_refused(
    names: tuple[str, ...], choices: Choices, told: str, tmp_path: Path
) -> None:
    with pytest.raises(SourceError) as refusal:
        make_plan(open_source(large_source(tmp_path, *names)), choices, DriveShape("x", None))
    assert told in refusal.value.advice


@pytest.mark.parametrize("size", [33 << 20, 30 << 20, 512])
def test_a_source_that_does_not_fit_is_refused_with_both_sizes(size: int, disc: Path) -> None:
    with pytest.raises(SourceError, match=r"does not fit: .* are needed, x has"):
        make_plan(open_source(disc), Choices(), DriveShape("x", size))


def test_a_drive_of_the_size_needed_is_just_large_enough(disc: Path) -> None:
    source = open_source(disc)
    needed = make_plan(source, Choices(), DriveShape("x", None)).needed

    assert make_plan(source, Choices(cluster=512), DriveShape("x", needed)).needed == needed
    with pytest.raises(SourceError, match="does not fit"):
        make_plan(source, Choices(cluster=512), DriveShape("x", needed - (1 << 20)))


def test_an_mbr_leaves_what_lies_beyond_two_tebibytes(disc: Path) -> None:
    plan = make_plan(open_source(disc), Choices(), DriveShape("x", 3 << 40))

    assert (3 << 40) - plan.unused <= 2 << 40
    assert any("beyond what an MBR can describe" in decision.reason for decision in plan.decisions)


def test_a_plan_comes_back_from_its_file(disc: Path, tmp_path: Path) -> None:
    source = open_source(disc)
    plan = make_plan(source, Choices(label="Crew", part_size=8 << 20), DriveShape("G7KM", 64 << 20))
    save_plan(plan, tmp_path / "crew.toml")
    saved = read_plan(tmp_path / "crew.toml")
    again = make_plan(
        open_planned_source(saved, tmp_path), saved.choices, DriveShape(saved.drive.name, saved.drive.size)
    )

    assert (again.choices, again.areas, again.splits, again.forecast) == (
        plan.choices,
        plan.areas,
        plan.splits,
        plan.forecast,
    )
    assert saved.choices.identity is None  # each drive takes its own name, unless a word was chosen
    text = (tmp_path / "crew.toml").read_text()
    chosen, decided = text.partition("\n[choices]\n")[2].split("\n[decided]\n")
    assert [key for key in ("label = ", "part_size = ", "table = ") if key in chosen] == ["label = ", "part_size = "]
    decided, reasons = decided.split("\n[reasons]\n")
    assert 'table = "mbr"' in decided
    assert 'table = "both BIOS and UEFI machines start from it' in reasons
    assert {decision.by for decision in decided_again(saved, source, plan)} == {"you", "plan", "tool"}
    (tmp_path / "crew.toml").write_text(text.replace(plan.source.fingerprint, "0" * 32))
    with pytest.raises(SourceError, match="is not the source"):
        open_planned_source(read_plan(tmp_path / "crew.toml"), tmp_path)


def decided_again(saved: SavedPlan, source: Source, plan: Plan) -> tuple[Decision, ...]:
    """Plan again from a saved plan: what a person chose stays theirs, what the tool decided keeps its reason."""
    again = make_plan(source, saved.choices, plan.drive, earlier=saved.decided)
    before = {decision.topic: decision.reason for decision in plan.decisions}
    assert all(decision.reason == before[decision.topic] for decision in again.decisions)
    return again.decisions


GOOD = 'format = 1\n[source]\npath = "x.iso"\n[drive]\nsize = 1000\n[choices]\nlabel = "CREW"\n'


@pytest.mark.parametrize(
    ("text", "where"),
    [
        (GOOD.replace("1000", '"big"'), "line 5, drive.size: Expected `int | null`"),
        (GOOD + "colour = 3\n", "line 8, choices.colour: Object contains unknown field"),
        (GOOD.replace("format = 1", "format = 7"), "line 1, format: 7 is not known"),
        (GOOD.replace('path = "x.iso"', ""), "line 2, source: Object missing required field `path`"),
        (GOOD + "label = \n", "line 8"),
        (GOOD + "#" * (1 << 20), "too large for a plan file"),
    ],
)
def test_errors_of_a_plan_file_name_line_and_key(text: str, where: str, tmp_path: Path) -> None:
    path = tmp_path / "plan.toml"
    path.write_text(text)

    with pytest.raises(UsageError) as refusal:
        read_plan(path)
    assert where in refusal.value.message


@pytest.mark.parametrize("table", ["mbr", "gpt"])
def test_a_plan_is_drawn_as_png_and_svg(table: str, disc: Path, tmp_path: Path) -> None:
    plan = make_plan(open_source(disc), Choices(part_size=8 << 20, table=table), DriveShape("G7KM", 4 << 30))
    draw_plan(plan, tmp_path / "drive.png")
    draw_plan(plan, tmp_path / "drive.svg")

    assert (tmp_path / "drive.png").read_bytes()[16:24] == (1280).to_bytes(4, "big") + (800).to_bytes(4, "big")
    assert ElementTree.parse(tmp_path / "drive.svg").getroot().tag.endswith("svg")
    (tmp_path / "printer.img").write_bytes(
        b"\xeb\x3c\x90" + bytes(443) + bytes.fromhex("80 01 01 00 0C FE FF FF 02 00 00 00 FC 07 00 00")
    )
    with (tmp_path / "printer.img").open("r+b") as image:
        image.truncate(1 << 20)
        image.seek(510)
        image.write(b"\x55\xaa")
    raw = make_plan(open_source(tmp_path / "printer.img"), Choices(), DriveShape("G7KM", 4 << 30))
    draw_plan(raw, tmp_path / "raw.svg")
    assert "the image, byte for byte" in (tmp_path / "raw.svg").read_text()
    with pytest.raises(UsageError, match="png or"):
        draw_plan(plan, tmp_path / "drive.pdf")


@pytest.mark.parametrize(
    ("text", "size"), [("64GB", 64 * 10**9), ("1.5 GiB", 3 << 29), ("3800M", 3800 << 20), ("512", 512), ("1T", 1 << 40)]
)
def test_sizes_are_read_in_both_counts(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize("text", ["", "GB", "1.2.3G", "-5", "9 parsecs"])
def test_what_is_no_size_is_refused(text: str) -> None:
    with pytest.raises(UsageError, match="is not a size"):
        parse_size(text)


def test_sizes_are_shown_as_sold_and_as_systems_show_them() -> None:
    assert (sold_size(64 * 10**9), shown_size(64 * 10**9)) == ("64 GB", "59.6 GiB")
