"""Several setup environments on one drive: what the boot manager lists, and that each entry's files are there."""

from __future__ import annotations

import os
import struct
import subprocess
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.starting import boot_store
from lucky_keystone.wim.read import InstallImage

from ..helpers.drives import build_drive, check_file, files_on
from ..helpers.hives import by_libregf
from ..helpers.install_images import Item, install_image
from ..helpers.program import run, run_json
from ..helpers.releases import PROCESSORS, merged, put, release, some, tree
from ..helpers.signing import Shop, generation, shop

__all__ = ["shop"]
STORES = {"bios": "boot/bcd", "uefi": "efi/microsoft/boot/bcd"}
PROGRAMS = {f"Windows/System32/boot/winload.{ending}": some(ending, 900) for ending in ("exe", "efi")}
MANAGER = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
SETUP, TOOLS, GANGWAY = "Windows setup 26100", "harbour-tools", "gangway-rescue"


def installer(folder: Path, *, architecture: str = "x64", build: int = 26100, method: str = "none") -> Path:
    made = release(folder, build=build, architectures=(architecture,), in_setup=PROGRAMS, method=method)
    put(made, "boot/boot.sdi", some("sdi", 30_000))
    put(made, "boot/memtest.exe", some("memory test", 3000))
    return made


def rescue(folder: Path, *, architecture: str = "x64", build: int = 22621, base: bool = True) -> Path:
    facts: dict[str, Any] = {"name": "Rescue", "architecture": PROCESSORS[architecture], "build": build}
    programs = [tree(path, Item(data)) for path, data in PROGRAMS.items()]
    tools = {"tools.exe": Item(some(folder.name, 50_000))}
    put(folder, "sources/boot.wim", install_image([merged(*programs, tools)], "none", **facts))
    if base:
        put(folder, "boot/boot.sdi", some("another sdi", 20_000))
    return folder


def listed(store: bytes, folder: Path) -> tuple[list[dict[str, Any]], dict[str, bytes]]:
    """Return the entries of a store and its manager's elements, as another program reads the hive."""
    (folder / "store").write_bytes(store)
    keys = by_libregf(str(folder / "store"))

    def elements(name: str) -> dict[str, bytes]:
        place = f"Objects\\{name}\\Elements\\"
        return {path.removeprefix(place): key["Element"][1] for path, key in keys.items() if path.startswith(place)}

    def text(data: bytes) -> str:
        return data.decode("utf-16-le").rstrip("\0")

    def path_of(data: bytes) -> str:
        return text(data).strip("\\").replace("\\", "/").lower()

    manager = elements(MANAGER)
    found = []
    for name in text(manager["24000001"]).split("\0"):
        entry = elements(name)
        device = entry["11000001"]
        assert device == entry["21000001"]
        # Of a RAM disk: its settings; then 0, 1, bytes, 0, kind 3; where it is in memory; and the image's place.
        assert struct.unpack_from("<5I", device, 16) == (0, 1, len(device) - 16, 0, 3)
        assert struct.unpack_from("<4I", device, 56) == (1, len(device) - 56, 5, 5)
        settings = elements(f"{{{UUID(bytes_le=device[:16])}}}")
        row = {"name": text(entry["12000004"]), "loader": text(entry["12000002"])}
        row |= {"image": path_of(device[68 + 72 :]), "base": path_of(settings["32000004"])}
        found.append(row | {"default": text(manager["23000003"]) == name})
    return found, manager


@pytest.fixture(scope="module")
def discs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("discs")
    return {
        "crew": installer(folder / "crew"),
        "gangway": installer(folder / "gangway", architecture="x86", build=19045),
        TOOLS: rescue(folder / TOOLS),
        GANGWAY: rescue(folder / GANGWAY, architecture="x86", build=19041),
    }


@pytest.mark.parametrize(
    "choices",
    [
        Choices(file_system="fat32"),
        Choices(file_system="ntfs", default_entry="2"),
        Choices(file_system="fat32+ntfs", default_entry=f"{TOOLS} (x64)", menu_timeout=7),
        Choices(firmware="uefi", entry_name="Crew laptops,Workshop,Gangway"),
    ],
)
def test_every_entry_has_its_files(choices: Choices, discs: dict[str, Path], tmp_path: Path) -> None:
    source = open_source(discs["crew"], further=[discs[TOOLS], discs[GANGWAY]])
    built = build_drive(source, tmp_path / "drive.img", choices, size=300 << 20)
    report = check_file(built.path)
    assert report.healthy
    wanted = {name: (discs[name] / "sources/boot.wim").read_bytes() for name in ("crew", TOOLS, GANGWAY)}
    bases = [some("sdi", 30_000), some("another sdi", 20_000), some("another sdi", 20_000)]
    names = (choices.entry_name or f"{SETUP} (x64),{TOOLS} (x64),{GANGWAY} (x86)").split(",")
    volumes = {number: {path.lower(): data for (n, path), data in files_on(built.path).items() if n == number}
               for number, _ in files_on(built.path)}  # fmt: skip
    for firmware, store in STORES.items():
        holders = [files for files in volumes.values() if store in files]
        assert holders
        for files in holders:
            entries, manager = listed(files[store], tmp_path)
            count = 3 if firmware == "bios" else 2  # no UEFI loader for 32 bits is on the drive
            assert [each["name"] for each in entries] == names[:count]
            assert [files[each["image"]] for each in entries] == list(wanted.values())[:count]
            assert [files[each["base"]] for each in entries] == bases[:count]
            ending = "exe" if firmware == "bios" else "efi"
            assert {each["loader"].lower() for each in entries} == {f"\\windows\\system32\\boot\\winload.{ending}"}
            assert [each["default"] for each in entries].index(True) == (1 if choices.default_entry else 0)
            assert int.from_bytes(manager["25000004"], "little") == (choices.menu_timeout or 30)
            assert ("24000010" in manager) == (firmware == "bios")  # the disc has a memory test for BIOS
    for row in report.starts:
        if row.firmware in ("BIOS", "UEFI 64-bit") and row.verdict == "starts":
            assert list(row.offers) == names[: 3 if row.firmware == "BIOS" else 2]


@pytest.mark.parametrize("file_system", ["fat32", "ntfs", "fat32+ntfs"])
def test_discs_for_two_architectures(file_system: str, discs: dict[str, Path], tmp_path: Path) -> None:
    source = open_source(discs["crew"], further=[discs["gangway"], discs[TOOLS]])
    built = build_drive(source, tmp_path / "drive.img", Choices(waive="tpm", file_system=file_system), size=300 << 20)
    report = check_file(built.path)
    assert report.healthy
    verdicts = {row.firmware: row.verdict for row in report.starts}
    assert {verdicts[name] for name in ("BIOS", "UEFI 64-bit", "UEFI 32-bit")} == {"starts"}
    files = {path.lower(): data for (number, path), data in files_on(built.path).items() if number == 1}
    for name, folder in (("crew", "x64"), ("gangway", "x86")):
        for path, file in open_source(discs[name]).root.files():
            data = (discs[name] / path).read_bytes()
            assert files[f"{folder}/{path.lower()}"] == data, file
    assert files["efi/boot/bootx64.efi"] == (discs["crew"] / "efi/boot/bootx64.efi").read_bytes()
    assert files["efi/boot/bootia32.efi"] == (discs["gangway"] / "efi/boot/bootia32.efi").read_bytes()
    assert not any(path.startswith("sources/") for path in files)
    for store in STORES.values():
        entries, _ = listed(files[store], tmp_path)
        assert [each["image"] for each in entries][:2] == ["x64/sources/boot.wim", "x86/sources/boot.wim"]
        images = [InstallImage(Literal(files[each["image"]]), "it") for each in entries]
        architectures = [image.editions[-1].architecture for image in images]
        assert architectures == ["x64", "x86", "x64"]
    assert {"autounattend.xml", "x64/sources/autounattend.xml"} & set(files)


def test_the_program_builds_checks_and_updates(discs: dict[str, Path], tmp_path: Path) -> None:
    drive, saved = tmp_path / "stick.img", tmp_path / "bench.toml"
    given = [discs["crew"], "--with", discs[TOOLS], "--with", discs[GANGWAY], "--entry-name", "Crew"]
    named = [*given, "--entry-name", "Tools", "--entry-name", "Gangway", "--menu-timeout", "9"]
    run("plan", *named, "--save", saved)
    assert 'entry_name = "Crew,Tools,Gangway"' in saved.read_text()
    told = run("build", *named, "--onto", drive, "--size", "200MB").stdout
    assert "Crew; Tools; Gangway" in " ".join(told.split())
    before = drive.read_bytes()
    assert run_json("build", *named, "--onto", drive, "--size", "200MB", "--yes")["result"]["bytes_written"] == 0
    assert drive.read_bytes() == before
    against = [word for name in ("crew", TOOLS, GANGWAY) for word in ("--against", discs[name])]
    assert "No faults" in run("check", drive, *against).stdout
    told = run_json("inspect", drive)["parts"]
    assert [part["name"] for part in told] == ["crew", TOOLS, GANGWAY]
    newer = rescue(tmp_path / TOOLS, build=26100)
    changed = [discs["crew"], "--with", newer, *named[3:]]
    document = run_json("build", *changed, "--onto", drive, "--size", "200MB", "--yes", "--update")
    assert document["result"]["bytes_written"] < 1 << 20 < (discs["crew"] / "sources/install.wim").stat().st_size
    assert "No faults" in run("check", drive, "--against", discs["crew"], "--against", newer, *against[4:]).stdout
    assert "boot/entry1/boot.wim differs" in run("check", drive, *against, code=1).stdout
    page = tmp_path / "page.html"
    run("report", drive, "--to", page)
    assert "on its screen: Crew, Tools, Gangway" in page.read_text()


@pytest.mark.parametrize("default", [1, 2])
def test_an_entry_without_its_image_is_a_fault(default: int, discs: dict[str, Path], tmp_path: Path) -> None:
    drive = tmp_path / "stick.img"
    run("build", discs["crew"], "--with", discs[TOOLS], "--default-entry", str(default), "--onto", drive)
    data = drive.read_bytes()
    assert data.count(b"ENTRY1     ") == 1
    data = data.replace(b"ENTRY1     ", b"ENTRY7     ")
    drive.write_bytes(data)
    told = run("check", drive, code=1).stdout
    assert "from boot/entry1/boot.wim, which is not there" in " ".join(told.split())
    assert ("starts BIOS" in " ".join(told.split())) == (default == 1)  # the rest of a list still starts


@pytest.mark.parametrize(
    "lost", [*(f"boot/entry1/boot.{ending}" for ending in ("wim", "sdi")), *boot_store.STORES.values()]
)
def test_what_a_list_has_lost_comes_from_its_sources(lost: str, discs: dict[str, Path], tmp_path: Path) -> None:
    """An entry's files do; the list itself was made by the build, and the source's own store never takes its place."""
    drive = tmp_path / "stick.img"
    given = (discs["crew"], "--with", discs[TOOLS])
    run("build", *given, "--onto", drive)
    whole = files_on(drive)
    subprocess.run(
        ["mdel", "-i", f"{drive}@@1M", f"::{lost}"], check=True, env={**os.environ, "MTOOLS_SKIP_CHECK": "1"}
    )
    one = " ".join(run("mend", drive, "--from", discs["crew"], "--dry-run", code=1).stdout.split())
    named = [word for name in ("crew", TOOLS) for word in ("--from", discs[name])]
    if lost.endswith("BCD"):
        assert f"{lost} is missing" in one
        told = " ".join(run("mend", drive, *named, "--yes", code=1).stdout.split())
        assert "no source has it" in told
        assert "--update, from crew, harbour-tools" in told
        assert (1, lost) not in files_on(drive)
        without = tmp_path / "without manifest.img"
        without.write_bytes(drive.read_bytes()[:512] + bytes((1 << 20) - 512) + drive.read_bytes()[1 << 20 :])
        assert "no source has it" in " ".join(run("mend", without, *named, "--yes").stdout.split())
        run("build", *given, "--onto", drive, "--update", "--yes")
    else:
        assert "name each of them with --from, in this order" in one
        run("mend", drive, *named, "--yes")
    assert files_on(drive) == whole
    assert "No faults" in run("check", drive).stdout


def test_loaders_of_two_discs_are_of_one_generation(shop: Shop, discs: dict[str, Path], tmp_path: Path) -> None:
    names = {"2011": "Microsoft Windows Production PCA 2011", "2023": "Windows UEFI CA 2023"}
    signed = {
        (architecture, name): shop.sign(uefi_loader(architecture), generation(shop, authority))
        for architecture in ("x64", "x86")
        for name, authority in names.items()
    }
    newer = "Windows/Boot/EFI_EX/bootmgfw_EX.efi"

    def disc(architecture: str, has: str, *, carries_2023: bool = False) -> Path:
        inside = PROGRAMS | ({newer: signed[architecture, "2023"]} if carries_2023 else {})
        folder = tmp_path / f"{architecture}-{has}-{carries_2023}"
        made = release(
            *(folder,),
            build=26100,
            architectures=(architecture,),
            loaders={architecture: signed[architecture, has]},
            in_setup=inside,
        )
        put(made, "boot/boot.sdi", some("sdi", 30_000))
        return made

    def planned(one: Path, other: Path, **choices: Any) -> tuple[dict[str, tuple[str, str, str]], dict[str, bytes]]:
        source = open_source(one, further=[other, discs[TOOLS]])
        plan = make_plan(source, Choices(file_system="fat32", **choices), DriveShape("x.img", None))
        files = {path.lower(): bytes(b"".join(stream(file.content))) for path, file in plan.volumes[0].wish.tree.files()
                 if path.lower().startswith("efi/boot/")}  # fmt: skip
        return {each.topic: (each.value, each.reason, each.by) for each in plan.decisions}, files

    mixed = disc("x64", "2023"), disc("x86", "2011")
    told, files = planned(*mixed)
    assert "efi/boot/bootx64.efi: 2023; efi/boot/bootia32.efi: 2011" in told["UEFI loaders"][0]
    assert files["efi/boot/bootia32.efi"] == signed["x86", "2011"]
    carrying = disc("x64", "2023"), disc("x86", "2011", carries_2023=True)
    told, files = planned(*carrying)
    assert files["efi/boot/bootia32.efi"] == signed["x86", "2023"]
    assert files["efi/boot/bootx64.efi"] == signed["x64", "2023"]
    assert told["UEFI loaders"][2] == "tool"
    told, files = planned(disc("x64", "2011", carries_2023=True), carrying[1], loader_signing="2023")
    assert set(files.values()) == {signed["x86", "2023"], signed["x64", "2023"]}
    assert told["UEFI loaders"][2] == "you"
    assert told["entry 3"][0] == f"{TOOLS} (x64)"
    alike, _ = planned(disc("x64", "2011"), mixed[1])
    assert "UEFI loaders" not in alike
    with pytest.raises(SourceError, match="carries no loaders of that generation"):
        planned(*mixed, loader_signing="2023")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["crew", "--entry-name", "A"], "has one setup environment"),
        (["crew", "--with", TOOLS, "--entry-name", "A"], "1 given, and the list has 2 entries"),
        (["crew", "--with", TOOLS, "--entry-name", "A,B"], "has a comma"),
        (["crew", "--with", TOOLS, "--entry-name", "A", "--entry-name", "a"], "the same name"),
        (["crew", "--with", TOOLS, "--entry-name", "A\x07", "--entry-name", "B"], "printable"),
        (["crew", "--with", TOOLS, "--default-entry", "3"], "has no such entry"),
        (["crew", "--with", TOOLS, "--menu-timeout", "0"], "1 to 999 seconds"),
        ([TOOLS, "--with", "crew"], "Name the installer first"),
        (["crew", "--purpose", "portable", "--menu-timeout", "3"], "starts one system, and lists none"),
    ],
)
def test_what_cannot_be_listed(words: list[str], said: str, discs: dict[str, Path]) -> None:
    told = run("plan", *[discs.get(word, word) for word in words], code=2)
    assert said in " ".join((told.stdout + told.stderr).split())


def test_a_file_that_no_source_has(tmp_path: Path) -> None:
    bare = release(tmp_path / "crew", build=26100, method="none")
    told = run("plan", bare, "--with", rescue(tmp_path / TOOLS, base=False), code=2).stderr
    assert "boot/boot.sdi" in told


def test_rescue_discs_alone(discs: dict[str, Path]) -> None:
    document = run_json("plan", discs[TOOLS], "--with", discs[GANGWAY], "--as-is")
    topics = [each["topic"] for each in document["decisions"]]
    assert [topic for topic in topics if topic.startswith("entry")] == ["entry 1", "entry 2"]


def test_what_does_not_fit_is_told_with_what_to_leave_out(discs: dict[str, Path], tmp_path: Path) -> None:
    drive = tmp_path / "small.img"
    drive.write_bytes(bytes(34 << 20))
    named = [discs["crew"], "--with", discs["gangway"], "--with", discs[TOOLS]]
    told = run("build", *named, "--onto", drive, "--yes", code=4)
    said = " ".join((told.stdout + told.stderr).split())
    assert "What could be left out" in said
    assert all(name in told.stdout for name in ("crew", "gangway", TOOLS, "Crew 1"))
    assert "without" in said
    assert drive.read_bytes() == bytes(34 << 20)
