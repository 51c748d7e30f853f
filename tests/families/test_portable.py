"""A Windows that runs from the drive: what is applied, marked and named, read by others; and what is refused."""

from __future__ import annotations

import hashlib
import random
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from dissect.ntfs import NTFS
from hypothesis import given, settings
from hypothesis import strategies as some

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.common.errors import DriveGone, SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.demo.loaders import uefi_loader
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.fetching import remote as remote_module
from lucky_keystone.hive.records import checksum
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source

from ..fetching.server import Served, Server
from ..helpers.clocks import Tireless
from ..helpers.drives import MemoryDrive, check_file
from ..helpers.hives import by_libregf
from ..helpers.install_images import Item, install_image
from ..helpers.judges import need
from ..helpers.program import PROGRAM, run, run_json
from ..helpers.signing import Shop, generation, shop
from ..helpers.systems import some as bytes_of
from ..helpers.systems import system, system_hive
from ..helpers.terminal import Terminal

__all__ = ["shop"]
PORTABLE = Choices(purpose="portable")
STORES = {"bios": "boot/BCD", "uefi": "EFI/Microsoft/Boot/BCD"}
HIVE = "Windows\\System32\\config\\SYSTEM"


@pytest.fixture(scope="module")
def wim(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("crew") / "crew.wim"
    path.write_bytes(install_image([system()], "lzx", name="Crew", build=26100))
    return path


def image_of(tmp_path: Path, *editions: dict[str, Item], method: str = "none") -> Path:
    path = tmp_path / "image.wim"
    path.write_bytes(install_image(editions, method))
    return path


def built(wim: Path, path: Path, *choices: object) -> Path:
    run("build", wim, "--purpose", "portable", *choices, "--onto", path, "--yes")
    return path


def number(data: bytes, at: int, size: int) -> int:
    return int.from_bytes(data[at : at + size], "little")


def partitions(drive: Path) -> list[tuple[int, int, bytes]]:
    """Return first byte, size and GUID of each partition, read from the table's bytes."""
    data = drive.read_bytes()[:17408]
    if data[450] == 0xEE:
        entries = [data[1024 + 128 * n : 1024 + 128 * n + 128] for n in range(2)]
        return [(number(e, 32, 8) * 512, (number(e, 40, 8) - number(e, 32, 8) + 1) * 512, e[16:32]) for e in entries]
    return [(number(data, 454 + 16 * n, 4) * 512, number(data, 458 + 16 * n, 4) * 512, b"") for n in range(2)]


def from_fat(drive: Path, path: str) -> bytes:
    """Read a file of the second partition with the system's own tools."""
    start = partitions(drive)[1][0]
    command = [need("mtype"), "-i", f"{drive}@@{start}", f"::{path}"]
    return subprocess.run(command, check=True, capture_output=True).stdout


def from_ntfs(drive: Path, path: str, to: Path) -> Path:
    start, size, _ = partitions(drive)[0]
    alone = to / "volume.img"
    with drive.open("rb") as stream:
        stream.seek(start)
        alone.write_bytes(stream.read(size))
    with alone.open("rb") as stream:
        (to / "file").write_bytes(NTFS(stream).mft.get(path).open().read())
    return to / "file"


@pytest.mark.parametrize(("table", "firmware"), [("mbr", "both"), ("mbr", "bios"), ("gpt", "uefi")])
def test_stores_name_the_drive_they_are_on(table: str, firmware: str, wim: Path, tmp_path: Path) -> None:
    drive = built(wim, tmp_path / "drive.img", "--table", table, "--firmware", firmware)
    data, (system_part, start_part) = drive.read_bytes(), partitions(drive)
    for kind in ("bios", "uefi") if firmware == "both" else (firmware,):
        store = tmp_path / "store"
        store.write_bytes(from_fat(drive, STORES[kind]))
        elements = {
            (path.split("\\")[1], path[-8:]): values["Element"][1]
            for path, values in by_libregf(str(store)).items()
            if "\\Elements\\" in path
        }
        devices = {key: element for key, element in elements.items() if key[1] in ("11000001", "21000001")}
        assert {len(element) for element in devices.values()} == {88}
        for (_, name), element in devices.items():
            wanted = system_part
            if element[32:48] == (start_part[2] or start_part[0].to_bytes(16, "little")):
                wanted = start_part
            if table == "gpt":
                assert (element[32:48], element[52], element[56:72]) == (wanted[2], 0, data[512 + 56 : 512 + 72])
            else:
                assert (number(element, 32, 8), element[52], element[56:60]) == (wanted[0], 1, data[0x1B8:0x1BC])
            assert name == "11000001" or wanted is system_part
        assert (
            sum(element == devices[next(k for k in devices if k[1] == "21000001")] for element in devices.values()) >= 2
        )
        text = b"".join(element for (_, name), element in elements.items() if name == "12000002").decode("utf-16-le")
        assert f"winload.{'exe' if kind == 'bios' else 'efi'}" in text
    if firmware != "uefi":
        assert from_fat(drive, "bootmgr") == bytes_of("bootmgr", 390_000)
        assert from_fat(drive, "boot/en-GB/bootmgr.exe.mui") == bytes_of("mui", 4_000)
        assert from_fat(drive, "boot/fonts/wharf.ttf") == bytes_of("wharf", 44_184)
    if firmware != "bios":
        assert from_fat(drive, "EFI/Boot/bootx64.efi") == uefi_loader("x64")
        assert from_fat(drive, "EFI/Microsoft/Boot/bootmgfw.efi") == uefi_loader("x64")
        assert from_fat(drive, "EFI/Microsoft/Boot/Resources/en-GB/bootres.dll.mui") == bytes_of("bootres.mui", 700)


@pytest.mark.parametrize(
    ("marked", "policy", "word"), [(False, 4, "offline"), (True, 1, "online"), (True, 4, "offline")]
)
def test_only_the_marks_are_changed_in_the_system(marked: bool, policy: int, word: str, tmp_path: Path) -> None:
    before = system_hive(default=3, marked=marked)
    drive = built(image_of(tmp_path, system(hive=before)), tmp_path / "drive.img", "--internal-disks", word)
    old = tmp_path / "before"
    old.write_bytes(before)
    wanted = by_libregf(str(old))
    wanted["ControlSet003\\Control"]["PortableOperatingSystem"] = (4, (1).to_bytes(4, "little"))
    wanted.setdefault("ControlSet003\\Services\\partmgr\\Parameters", {})["SanPolicy"] = (
        4,
        policy.to_bytes(4, "little"),
    )
    assert by_libregf(str(from_ntfs(drive, HIVE, tmp_path))) == wanted


def test_a_hive_that_was_not_closed(tmp_path: Path) -> None:
    dirty, head = system_hive(dirty=True), bytes(512)
    for log in (b"", head, head + bytes(4096)):
        image = image_of(tmp_path, system(hive=dirty, log=log))
        plan = run("plan", image, "--purpose", "portable").stdout
        assert "is taken as it is" in plan
    for mark in (b"HvLE", b"DIRT"):
        image = image_of(tmp_path, system(hive=dirty, log=head + mark + bytes(4096)))
        refused = run("plan", image, "--purpose", "portable", code=4).stderr
        assert "SYSTEM was not closed properly: its latest changes are in" in refused


def test_the_same_plan_makes_the_same_drive_and_two_drives_have_names_of_their_own(wim: Path, tmp_path: Path) -> None:
    one, two = tmp_path / "one.img", tmp_path / "two.img"
    run("build", wim, "--purpose", "portable", "--onto", one, "--onto", two, "--yes")
    for path in (one, two):
        alone = tmp_path / path.name.replace(".img", ".alone")
        built(wim, alone, "--identity", path.name)
        assert alone.read_bytes() == path.read_bytes()
        assert check_file(path).findings == []
    told = run("check", one, "--against", wim, code=2).stderr
    assert "a system that runs from the drive changes it" in told  # and its image is not called missing
    assert from_fat(one, STORES["uefi"]) != from_fat(two, STORES["uefi"])


def test_power_cuts_end_in_the_same_drive(wim: Path) -> None:
    image = compose_drive(make_plan(open_source(wim), PORTABLE, DriveShape("T3ST", None)))
    whole = MemoryDrive(image.size)
    build(image, whole, silent)
    counting = FaultyDrive(MemoryDrive(image.size), Faults(volatile_cache=1 << 20))
    build(image, counting, silent)
    chance = random.Random(3)
    for seed in range(25):
        memory = MemoryDrive(image.size)
        drive = FaultyDrive(memory, Faults(volatile_cache=1 << 20), seed=seed)
        drive.cut_at = chance.randrange(counting.operations)
        with pytest.raises(DriveGone):
            build(image, drive, silent)
        again = compose_drive(make_plan(open_source(wim), PORTABLE, DriveShape("T3ST", None)))
        build(again, memory, silent)
        assert memory.data == whole.data


def test_check_finds_a_store_that_names_another_drive(wim: Path, tmp_path: Path) -> None:
    drive = built(wim, tmp_path / "drive.img")
    with ImageFile(drive, write=True) as medium:
        medium.write_at(0x1B8, memoryview(b"\1\2\3\4"))
    found = run_json("check", drive, code=1)
    assert {f["firmware"] for f in found["findings"] if f["code"] == "start.store-other-drive"} == {"bios", "uefi"}
    assert {row["verdict"] for row in found["starts"] if not row["refines"]} == {"will not start"}
    assert "boot/BCD names another drive" in run("check", drive, code=1).stdout


def test_a_store_whose_loader_is_gone_or_that_is_damaged(wim: Path, tmp_path: Path) -> None:
    drive = built(wim, tmp_path / "drive.img")
    start = partitions(drive)[1][0]
    store = tmp_path / "BCD"
    data = bytearray(from_fat(drive, STORES["bios"]))
    data[4096:4100] = b"bins"
    store.write_bytes(data)
    subprocess.run([need("mcopy"), "-o", "-i", f"{drive}@@{start}", store, f"::{STORES['bios']}"], check=True)
    found = run_json("check", drive, code=1)
    assert "start.store" in {f["code"] for f in found["findings"]}


def test_what_a_running_system_changes_is_use(wim: Path, tmp_path: Path) -> None:
    """Its files and its store, written by the system's own drivers as a start does; a flipped bit is damage still."""
    drive = built(wim, tmp_path / "drive.img", "--size", "300M")
    (start, size, _), (fat, _, _) = partitions(drive)
    flipped = tmp_path / "flipped.img"
    flipped.write_bytes(drive.read_bytes())
    store = bytearray(from_fat(drive, STORES["uefi"]))
    place = drive.read_bytes().index(store, fat)
    with flipped.open("r+b") as stream:
        stream.seek(place + 5000)
        stream.write(b"\x55")
    assert "content.file" in {finding.code for finding in check_file(flipped).findings}
    store[4:12] = (9).to_bytes(4, "little") * 2
    store[508:512] = checksum(store).to_bytes(4, "little")
    with drive.open("r+b") as stream:
        stream.seek(place)
        stream.write(store)
    mount, alone = tmp_path / "mount", tmp_path / "volume.img"
    mount.mkdir()
    data = drive.read_bytes()
    alone.write_bytes(data[start : start + size])
    if subprocess.run([need("ntfs-3g"), alone, mount], capture_output=True, check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        (mount / "Windows/explorer.exe").write_bytes(b"another one" * 9000)
        (mount / "Users/Default/NTUSER.DAT").unlink()
        (mount / "Windows/new.log").write_bytes(b"started" * 900)
    finally:
        subprocess.run(["umount", mount], check=True)
    drive.write_bytes(data[:start] + alone.read_bytes() + data[start + size :])
    report = check_file(drive)
    assert [(f.code, f.what) for f in report.findings if f.level != "used"] == []
    told = " ".join(finding.what for finding in report.findings)
    assert "files were changed, moved or removed since the build" in told
    assert {row.verdict for row in report.starts if row.firmware in ("BIOS", "UEFI 64-bit")} == {"starts"}


def test_what_the_drive_was_measured_at_is_told(wim: Path, tmp_path: Path) -> None:
    bay, record = tmp_path / "bay", tmp_path / "log.sqlite"
    bay.mkdir()
    (bay / "bay.toml").write_text('[[drive]]\nfile = "stick.img"\nmodel = "Gull 64"\nserial = "G-1"\n')
    with (bay / "stick.img").open("wb") as stream:
        stream.truncate(256 << 20)
    # As the record was before it had rates.
    columns = (
        "moment command result tag model serial size source label fingerprint bytes_written seconds retries detail"
    )
    with closing(sqlite3.connect(record)) as database, database:
        database.execute(f"CREATE TABLE work ({', '.join(f'{name} NOT NULL' for name in columns.split())})")
        database.execute(
            "INSERT INTO work VALUES ('2026-01-01T00:00:00Z', 'gauge', 'done', '', '', '', 0, '', '', '', 0, 0, 0, '')"
        )
        database.execute("PRAGMA user_version = 1")
    (listed,) = run_json("drives", "--bay", bay)["drives"]
    plan = ("plan", wim, "--purpose", "portable", "--for", listed["tag"], "--bay", bay)
    assert "'gauge' measures a drive beforehand" in run(*plan, log=record).stdout
    run("gauge", listed["tag"], "--bay", bay, "--erase", "--yes", log=record)
    told = " ".join(run(*plan, log=record).stdout.split())
    assert "MB/s by the shop's record of the last 'gauge'" in told
    newest, oldest = run_json("log", log=record)["entries"]
    assert newest["reading"] > newest["retries"] == oldest["reading"] == 0


@pytest.mark.posix  # the same
@pytest.mark.parametrize("form", ["parts", "disc folder", "link"])
def test_from_whatever_holds_an_image(form: str, wim: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    expected = built(wim, tmp_path / "expected.img", "--identity", "same")
    table, system_part = partitions(expected), partitions(expected)[0]

    def volume(drive: Path) -> bytes:
        data = drive.read_bytes()
        return data[system_part[0] + 80 : system_part[0] + system_part[1] - 512]  # but for its serial number

    if form == "parts":
        (tmp_path / "parts").mkdir()
        run("split", wim, "--into", tmp_path / "parts", "--part-size", "1M")
        first = min((tmp_path / "parts").iterdir(), key=lambda path: len(path.name))
        assert len(list((tmp_path / "parts").iterdir())) > 1
        drive = built(first, tmp_path / "drive.img")
        first.with_name(first.name.replace(".swm", "2.swm")).unlink()
        run("build", first, "--purpose", "portable", "--onto", tmp_path / "no.img", "--yes", code=4)
        assert not (tmp_path / "no.img").exists()
    elif form == "disc folder":
        sources = tmp_path / "disc" / "sources"
        sources.mkdir(parents=True)
        (sources / "install.wim").write_bytes(wim.read_bytes())
        (sources / "boot.wim").write_bytes(install_image([{"setup.cmd": Item(b"x")}], "xpress"))
        drive = built(tmp_path / "disc", tmp_path / "drive.img")
    else:
        monkeypatch.setattr(remote_module, "RealClock", Tireless)
        with Server(tmp_path) as server:
            server.files["/crew.wim"] = Served(wim.read_bytes())
            sha256 = hashlib.sha256(wim.read_bytes()).hexdigest()
            drive = built(server.link("/crew.wim"), tmp_path / "drive.img", "--sha256", sha256)
    assert partitions(drive) == table
    assert volume(drive) == volume(expected) or form == "parts"
    assert check_file(drive).findings == []


@pytest.mark.parametrize(
    ("options", "code", "words"),
    [
        (["--edition", "Bridge"], 2, "has no edition 'Bridge'"),
        (["--firmware", "bios", "--table", "gpt"], 2, "choose --table mbr"),
        (["--file-system", "fat32"], 2, "a system runs from NTFS"),
        (["--waive", "all"], 2, "no setup runs"),
        (["--drivers", "EMPTY"], 2, "--drivers: it has no effect on this kind of drive"),
        (["--add", "EMPTY"], 2, "copy the files onto the finished drive"),
        (["--sector-size", "4096", "--firmware", "bios"], 2, "512 bytes only"),
        (["--loader-signing", "2023"], 4, "the edition has no Windows/Boot/EFI_EX/bootmgfw_EX.efi"),
        (["--update"], 2, "no longer what was built"),
        (["--size", "100M"], 4, "are needed"),
    ],
)
def test_what_cannot_be_is_refused_before_anything_is_made(
    options: list[str], code: int, words: str, wim: Path, tmp_path: Path
) -> None:
    drive, empty = tmp_path / "drive.img", tmp_path / "empty"
    empty.mkdir()
    options = [str(empty) if option == "EMPTY" else option for option in options]
    told = run("build", wim, "--purpose", "portable", *options, "--onto", drive, "--yes", code=code).stderr
    assert words.lower() in " ".join(told.lower().split())
    assert not drive.exists()


def test_loaders_of_the_newer_generation_come_from_inside(shop: Shop, tmp_path: Path) -> None:
    newer = shop.sign(uefi_loader("x64"), generation(shop, "Windows UEFI CA 2023"))
    further = {"bootmgfw_EX.efi": Item(newer), "en-GB": Item(None, {"bootmgfw_EX.efi.mui": Item(b"m" * 300)})}
    edition = system()
    boot = edition["Windows"].below["Boot"].below
    boot["EFI_EX"] = Item(None, further)  # type: ignore[index]
    boot["Fonts_EX"] = Item(None, {"wharf_EX.ttf": Item(b"f" * 900)})  # type: ignore[index]
    drive = built(image_of(tmp_path, edition), tmp_path / "drive.img", "--loader-signing", "2023")
    assert from_fat(drive, "EFI/Boot/bootx64.efi") == newer
    assert from_fat(drive, "EFI/Microsoft/Boot/Fonts/wharf.ttf") == b"f" * 900


def test_an_answer_file_is_taken_along(wim: Path, tmp_path: Path) -> None:
    answers = tmp_path / "answers.xml"
    answers.write_text(
        '<unattend xmlns="urn:schemas-microsoft-com:unattend"><settings pass="specialize"><component '
        'name="Microsoft-Windows-Shell-Setup" processorArchitecture="amd64" publicKeyToken="31bf3856ad364e35" '
        'language="neutral" versionScope="nonSxS"/></settings></unattend>'
    )
    drive = built(wim, tmp_path / "drive.img", "--answer-file", answers)
    assert from_ntfs(drive, "Windows\\Panther\\unattend.xml", tmp_path).read_bytes() == answers.read_bytes()


def test_which_edition_is_asked_in_a_terminal_only(tmp_path: Path) -> None:
    image = image_of(tmp_path, system(), system(bios=False))
    told = run("plan", image, "--purpose", "portable", code=2).stderr
    assert "1 Tidewell Crew 1, 2 Tidewell Crew 2" in told
    with Terminal([*PROGRAM, "plan", image, "--purpose", "portable"]) as seen:
        seen.wait_for("Which edition is to run from the drive? (1 to 2, q: quit)")
        seen.type("7\r")
        seen.wait_for("'7' is not one of the numbers")
        seen.type("2\r")
        seen.wait_for("2 Tidewell Crew 2")
        seen.wait_for("the edition has boot programs for no other")
    saved = tmp_path / "crew.toml"
    run("plan", image, "--purpose", "portable", "--edition", "Crew 2", "--save", saved)
    run("build", saved, "--onto", tmp_path / "drive.img", "--yes")
    assert check_file(tmp_path / "drive.img").findings == []


@pytest.mark.posix  # an image is held until its source is forgotten, and nothing of it can be removed before
@settings(max_examples=20)
@given(at=some.integers(0, 1 << 30))
def test_a_damaged_image_never_makes_a_finished_drive(at: int) -> None:
    whole = bytearray(install_image([system()], "none"))
    place = 208 + at % (len(whole) - 208)
    whole[place] ^= 0x41
    with TemporaryDirectory() as folder:
        path = Path(folder) / "image.wim"
        path.write_bytes(whole)
        try:
            image = compose_drive(make_plan(open_source(path), PORTABLE, DriveShape("T3ST", None)))
            drive = MemoryDrive(image.size)
            try:
                build(image, drive, silent)
            except SourceError:
                assert not any(drive.data[:512])
        except SourceError:
            return  # before anything was erased
