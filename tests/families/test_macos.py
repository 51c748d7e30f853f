"""macOS installers: every generation from every carrier, judged by another reader; and what cannot be built."""

from __future__ import annotations

import json
import plistlib
import random
import shutil
import struct
import subprocess
import zlib
from datetime import date
from functools import partial
from pathlib import Path
from urllib.parse import unquote

import pyfshfs
import pytest

from lucky_keystone.checking.check import check_drive
from lucky_keystone.checking.codes import Code
from lucky_keystone.common.errors import KeystoneError, SourceError, UsageError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.content.tree import File, Folder, Special, UnixFacts
from lucky_keystone.demo import mac
from lucky_keystone.demo.apfs import ApfsPart
from lucky_keystone.demo.disk_image import Part, write_disk_image
from lucky_keystone.demo.mac import FOR_SILICON, MODELS, RELEASES, noise
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.families.asking import asked_of
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.families import facts_of
from lucky_keystone.families.family import DriveShape
from lucky_keystone.families.macos.picker import GREYS, label_bitmap
from lucky_keystone.families.proving import verify_source
from lucky_keystone.machine.facts import read_machine
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.starting.mac import mac_start
from lucky_keystone.starting.mac_models import class_of
from lucky_keystone.starting.outlook import Outlook
from lucky_keystone.starting.reading import read_drive
from lucky_keystone.starting.trust import Machine

from ..helpers.drives import Built, MemoryDrive, build_drive, check_file
from ..helpers.hfsplus import studio, with_facts, write_volume
from ..helpers.judges import need
from ..helpers.mac import CARRIERS, app_of, carried, facts_on_disk, parts_of
from ..helpers.program import run

FLIPS = 30
"""A sample; by hand 300 were run."""
LOADER = "System/Library/CoreServices/boot.efi"
CONFIGURATION = "Library/Preferences/SystemConfiguration/com.apple.Boot.plist"


class Window:
    """A part of a file, as the other reader wants it."""

    def __init__(self, path: Path, offset: int, size: int) -> None:
        self._stream, self._offset, self._size = path.open("rb"), offset, size
        self.seek(0)

    def read(self, size: int = -1) -> bytes:
        return self._stream.read(size)

    def seek(self, offset: int, whence: int = 0) -> int:
        base = {0: 0, 1: self.tell(), 2: self._size}[whence]
        self._stream.seek(self._offset + base + offset)
        return base + offset

    def tell(self) -> int:
        return self._stream.tell() - self._offset

    def get_size(self) -> int:
        return self._size

    def close(self) -> None:
        self._stream.close()


def seen_on(built: Built) -> dict[str, tuple[int, bytes]]:
    """Return {path: (mode, bytes or where a link points)} of the HFS+ volume, through another reader."""
    planned = built.plan.volumes[-1].planned
    volume, window = pyfshfs.volume(), Window(built.path, planned.start, planned.size)
    volume.open_file_object(window)
    found: dict[str, tuple[int, bytes]] = {}
    waiting = [("", volume.get_root_directory())]
    while waiting:
        prefix, folder = waiting.pop()
        for entry in folder.sub_file_entries:
            path, kind = prefix + entry.name, entry.file_mode & 0o170000
            data = entry.read_buffer_at_offset(entry.size, 0) if kind == 0o100000 and entry.size else b""
            found[path] = (entry.file_mode, entry.symbolic_link_target.encode() if kind == 0o120000 else data)
            if kind == 0o040000:
                waiting.append((path + "/", entry))
    window.close()
    return found


@pytest.fixture(scope="session")
def apps(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("apps")
    return {release: app_of(release, folder) for release in RELEASES}


CASES = [
    *((release, carrier) for release in RELEASES for carrier in CARRIERS[:3]),
    *((release, CARRIERS[3]) for release in ("10.12", "11")),
    *((release, CARRIERS[4]) for release in ("11", "14")),
]


@pytest.mark.posix  # modes and links, which an app on Windows has lost
@pytest.mark.parametrize(("release", "carrier"), CASES)
def test_every_generation_from_every_carrier(release: str, carrier: str, apps: dict[str, Path], tmp_path: Path) -> None:
    made, app = RELEASES[release], apps[release]
    source = open_source(carried(app, carrier, tmp_path))
    facts = facts_of(source)
    assert (facts.family, facts.release, facts.damage) == ("macos-installer", made.version, ())
    assert facts.mac is not None
    assert (facts.mac.build, facts.mac.models) == (made.build, MODELS)
    ends = {"whole": "2019-04-14", "container": "2019-04-14", "beside": "2034-04-14", "asset": ""}
    assert facts.mac.certified_until == ends[made.generation]
    # Deflated members are decoded once from their beginning, which is told.
    if carrier == "zip archive":
        assert any("decoded once" in note for note in facts.notes)
    said = {
        decision.topic: decision.value for decision in make_plan(source, Choices(), DriveShape("x", None)).decisions
    }
    assert said.get("installer runs", "until ") == f"until {ends[made.generation]}"
    built = build_drive(source, tmp_path / "drive.img", size=400 << 20)
    seen = seen_on(built)

    # The app is on it, bytes, permissions and links.
    if made.generation != "whole":
        wanted = {f"{made.app}/{path}": entry for path, entry in facts_on_disk(app).items()}
        assert {path: entry for path, entry in seen.items() if path.startswith(f"{made.app}/")} == wanted
    # The header names the loader: TN1150's finderInfo, words 0, 1 and 5, by the catalog's own numbers.
    with built.path.open("rb") as stream:
        stream.seek(built.plan.volumes[-1].planned.start + 1024)
        header = stream.read(512)
    volume, window = pyfshfs.volume(), Window(built.path, built.plan.volumes[-1].planned.start, 1 << 30)
    volume.open_file_object(window)
    loader = volume.get_file_entry_by_path("/" + LOADER)
    words = struct.unpack(">6I", header[80:104])
    assert words == (loader.parent_identifier, loader.identifier, 0, 0, 0, loader.parent_identifier)
    window.close()
    # What the boot configuration names is there.
    flags = plistlib.loads(seen[CONFIGURATION][1])["Kernel Flags"]
    for word in flags.split():
        key, _, address = word.partition("=file:///")
        if key == "root-dmg" and "container-dmg" in flags:
            continue
        assert unquote(address) in seen
    assert seen[made.kernel][1]
    assert seen["System/Library/CoreServices/.disk_label"][1][0] == 1
    if made.generation == "beside":
        assert "System/Library/CoreServices/boot.efi.tdw7.im4m" in seen  # goes along under the same stem
        assert plistlib.loads(seen[".IAPhysicalMedia"][1])["ProductBuildVersion"] == made.build
    if made.generation in ("beside", "asset"):  # what Macs with a T2 chip read, where the base system has it
        place = "System/Library/" + ("PrelinkedKernels" if made.generation == "beside" else "CoreServices")
        for name in ("immutablekernel", "immutablekernel.tdw7.im4m", "BridgeVersion.bin"):
            assert seen[f"{place}/{name}"][1] == seen[f".IABootFiles/{name}"][1] != b""
    # What the asset has for Apple silicon goes along, and nothing of Intel's beside it.
    objects = (
        {path: noise(path, 9000) for path in FOR_SILICON} if made.generation == "asset" and release != "11" else {}
    )
    assert {path: data for path, (_, data) in seen.items() if data and path.startswith("boot/")} == {
        f"boot/{path}": data for path, data in objects.items()
    }
    silicon = next(row for row in built.plan.forecast if row.firmware == "Mac, Apple silicon")
    assert ("boot files for it are on the drive" in silicon.reason) == bool(objects)

    # Their certificates' end is weighed by the clock of who asks; without one nothing is said.
    day = date(2026, 11, 28)
    expired = {"2019-04-14": [Code.START_MAC_EXPIRED]}.get(ends[made.generation], [])
    with ImageFile(built.path) as medium:
        aged = check_drive(medium, silent, machine=Machine(today=day))
    assert [finding.code for finding in aged.findings if finding.level != "note"] == expired
    planned = make_plan(source, Choices(), DriveShape("x", None), machine=Machine(today=day)).forecast
    for rows in (aged.starts, planned):
        intel = next(row for row in rows if row.firmware == "Mac, Intel")
        assert ("expired on 2019-04-14" in intel.reason) == bool(expired)
        assert intel.verdict == "starts"
    # 128 MiB stay free before the backup table; a volume that starts by itself keeps its name.
    last = built.plan.volumes[-1].planned
    assert built.path.stat().st_size - last.end - 33 * 512 >= 128 << 20
    assert last.label == ("Tidewell Install ESD" if made.generation == "whole" else f"Install {made.title}")
    assert plistlib.loads(seen[".IAPhysicalMedia"][1])["AppName"] == made.app
    report = check_file(built.path)
    assert [finding for finding in report.findings if finding.level != "note"] == []
    assert {row.firmware: row.verdict for row in report.starts}["Mac, Intel"] == "starts"
    assert report.starts == built.plan.forecast or [row.verdict for row in report.starts] == [
        row.verdict for row in built.plan.forecast
    ]


@pytest.mark.posix  # the same
@pytest.mark.parametrize(
    ("model", "verdict"), [("", "starts"), (MODELS[0], "starts"), ("TidewellBook1,1", "will not start")]
)
def test_models_by_the_sources_own_list(model: str, verdict: str, apps: dict[str, Path]) -> None:
    plan = make_plan(open_source(apps["10.13"]), Choices(), DriveShape("x.img", None), machine=Machine(model=model))
    rows = {row.firmware: row for row in plan.forecast}
    assert rows["Mac, Intel"].verdict == verdict
    assert rows["Mac, Intel with T2 chip"].verdict == "not known"
    assert rows["Mac, Apple silicon"].verdict == "will not start"


@pytest.mark.parametrize(
    ("model", "kind", "rows"),
    [
        ("MacBookPro14,1", "Intel", ["Mac, Intel"]),
        ("MacBookPro15,1", "T2", ["Mac, Intel with T2 chip"]),
        ("iMacPro1,1", "T2", ["Mac, Intel with T2 chip"]),
        ("MacBookAir10,1", "Apple silicon", ["Mac, Apple silicon"]),
        ("Mac16,7", "Apple silicon", ["Mac, Apple silicon"]),
        ("TidewellBook7,1", None, ["Mac, Intel", "Mac, Intel with T2 chip", "Mac, Apple silicon"]),
        ("Tidewell Pro", None, ["Mac, Intel", "Mac, Intel with T2 chip", "Mac, Apple silicon"]),
    ],
)
def test_one_row_for_a_model_of_a_known_class(
    model: str, kind: str | None, rows: list[str], apps: dict[str, Path]
) -> None:
    assert class_of(model) == kind
    forecast = make_plan(
        open_source(apps["14"]), Choices(), DriveShape("x.img", None), machine=Machine(model=model)
    ).forecast
    assert [row.firmware for row in forecast if row.kind == "mac"] == rows
    assert (kind == "Apple silicon") == all(row.verdict == "not known" for row in forecast if row.kind == "mac")
    told = json.loads(run("inspect", apps["14"], "--for", model, "--json").stdout)["model"]
    listed = "met" if kind == "Apple silicon" or model == "TidewellBook7,1" else "not met"
    assert (told["met"], model in told["has"]) == (listed, True)


@pytest.mark.parametrize(
    ("model", "board", "met"),
    [
        ("TidewellBook7,1", "", "met"),
        ("", "Mac-Tidewell7", "met"),
        ("TidewellBook1,1", "Mac-Tidewell7", "met"),
        ("", "Mac-Tidewell1", "not met"),
        ("TidewellBook1,1", "Mac-Tidewell1", "not met"),
        ("", "", "not known"),
    ],
)
def test_a_release_lists_macs_by_model_or_board(
    model: str, board: str, met: str, apps: dict[str, Path], tmp_path: Path
) -> None:
    (tmp_path / "mac.toml").write_text(f'machine = 1\nmodel = "{model}"\nboard = "{board}"\n')
    source = open_source(apps["14"])
    assert [each.met for each in asked_of(read_machine(tmp_path / "mac.toml"), facts_of(source))] == [met]
    machine = Machine(model=model, board=board)
    forecast = make_plan(source, Choices(), DriveShape("x.img", None), machine=machine).forecast
    intel = next(row for row in forecast if row.kind == "mac")
    assert intel.verdict == ("will not start" if met == "not met" else "starts")
    if bool(model) != bool(board):
        told = json.loads(run("inspect", apps["14"], "--for", model or board, "--json").stdout)["model"]
        assert told["met"] == met


@pytest.mark.parametrize(("file", "what"), [(LOADER, "loader"), (CONFIGURATION, "configuration"), (None, "base")])
def test_damage_on_the_way_is_found(file: str | None, what: str, apps: dict[str, Path], tmp_path: Path) -> None:
    """The manifest finds every changed byte; here it is the walk that has to, on a drive without one."""
    built = build_drive(open_source(apps["10.13"]), tmp_path / "drive.img", size=400 << 20)
    drive = MemoryDrive.of(built.path)
    tree, layout = built.plan.tree, built.plan.volumes[-1].planned.layout  # type: ignore[attr-defined]
    path = file or f"{RELEASES['10.13'].app}/Contents/SharedSupport/BaseSystem.dmg"
    number = next(node.number for node in layout.catalogue.nodes if node.path == path)
    first, size = layout.places[number, b""]
    start = built.plan.volumes[-1].planned.start + first * 4096
    at = start + (size // 2 if what == "base" else 0)
    drive.data[at : at + 64] = bytes(64)
    manifest = built.plan.manifest_offset or 0
    drive.data[manifest : manifest + 512] = bytes(512)
    assert tree.find_file(path) is not None
    report = check_drive(drive, silent)
    found = {finding.code for finding in report.findings}
    wanted = {"loader": Code.START_MAC_LOADER, "configuration": Code.START_MAC_CONFIGURATION}
    assert wanted.get(what, Code.START_MAC_BASE) in found


def test_a_drive_whose_header_names_nothing(apps: dict[str, Path], tmp_path: Path) -> None:
    built = build_drive(open_source(apps["10.13"]), tmp_path / "drive.img", size=400 << 20)
    planned = built.plan.volumes[-1].planned
    with built.path.open("r+b") as stream:
        for place in (planned.start + 1024 + 80, planned.end - 1024 + 80):
            stream.seek(place)
            stream.write(bytes(24))
    codes = {finding.code for finding in check_file(built.path).findings}
    assert {Code.START_MAC_NAMES_NONE, Code.CONTENT_CHANGED} <= codes
    with built.path.open("r+b") as stream:
        stream.seek(planned.start + 1024 + 80)
        stream.write(struct.pack(">2I", 2, 4711))
    assert Code.HFSPLUS_BLESSING in {finding.code for finding in check_file(built.path).findings}


def test_a_lost_header_is_read_from_the_alternate(apps: dict[str, Path], tmp_path: Path) -> None:
    built = build_drive(open_source(apps["10.13"]), tmp_path / "drive.img", size=400 << 20)
    drive, start = MemoryDrive.of(built.path), built.plan.volumes[-1].planned.start
    drive.data[start + 1024 : start + 1536] = bytes(512)
    report = check_drive(drive, silent)
    lost = next(finding for finding in report.findings if finding.code == Code.VOLUME_BOOT_SECTOR)
    assert "the HFS+ volume header is lost; its copy at byte" in lost.what
    assert report.volumes[1].file_count == sum(1 for _ in built.plan.tree.files())
    assert Code.START_NOTHING in {finding.code for finding in report.findings}  # no firmware looks at the copy


def test_what_a_fat_stick_did_to_an_app(apps: dict[str, Path], tmp_path: Path) -> None:
    """Copied over FAT: no permissions, links as copies, and what FAT cannot hold in files beside."""
    app = tmp_path / apps["10.13"].name
    shutil.copytree(apps["10.13"], app)
    info = app / "Contents" / "Info.plist"
    double = struct.pack(">2I16sH", 0x51607, 0x20000, bytes(16), 2)
    attributes = struct.pack(">4s4I12xHH", b"ATTR", 1, 152, 144, 8, 0, 1)
    attributes += struct.pack(">2IHB13s", 144, 8, 0, 13, b"town.landing\0") + b"PIER FOUR"[:8]
    double += struct.pack(">6I", 9, 50, 102, 2, 152, 9) + b"TEXTttxt".ljust(34, b"\0") + attributes + b"RESOURCES"
    (info.parent / "._Info.plist").write_bytes(double)
    overlong = double[:120] + struct.pack(">2I", 144, 9) + double[128:]  # reaches into what follows the attributes
    (info.parent / "._PkgInfo").write_bytes(overlong)
    for place in app.rglob("*"):
        place.chmod(0o777 if place.is_dir() else 0o755)
    built = build_drive(open_source(app), tmp_path / "drive.img", size=400 << 20)
    seen = seen_on(built)
    assert seen[f"{app.name}/Contents/MacOS/InstallAssistant"][0] == 0o100755
    assert seen[f"{app.name}/Contents/PkgInfo"][0] == 0o100644
    assert [path.rpartition("/")[2] for path in seen if "._" in path] == ["._PkgInfo"]  # damaged: kept as it is
    file = built.plan.tree.find_file(f"{app.name}/Contents/Info.plist")
    assert file is not None
    assert file.special.unix.finder_info[:8] == b"TEXTttxt"
    assert file.special.unix.resource.size == 9
    assert file.special.unix.attributes == {"town.landing": b"PIER FOU"}
    decisions = {decision.topic: decision for decision in built.plan.decisions}
    assert "0755" in decisions["permissions"].reason
    assert decisions["links"].value == "missing"
    for rows in (built.plan.forecast, check_file(built.path).starts):
        assert {row.firmware: row.verdict for row in rows}["Mac, Intel"] == "not known"


@pytest.mark.parametrize("packed", [False, True], ids=["image", "image in a package"])
def test_an_app_from_its_parts(packed: bool, apps: dict[str, Path], tmp_path: Path) -> None:
    """The same drive as from the app, but for the list of parts where its payload was a package."""
    parts = parts_of(apps["10.13"], tmp_path, packed=packed)
    source = open_source(parts)
    facts = facts_of(source)
    assert (facts.family, facts.release, facts.damage) == ("macos-installer", "10.13.6", ())
    built, whole = build_drive(source, tmp_path / "a.img"), build_drive(open_source(apps["10.13"]), tmp_path / "b.img")
    ours, its = ({path: data for path, (_, data) in seen_on(each).items()} for each in (built, whole))
    assert ours.keys() == its.keys()
    assert {path for path in ours if ours[path] != its[path]} <= {
        f"{RELEASES['10.13'].app}/Contents/SharedSupport/InstallInfo.plist"
    }
    assert {row.firmware: row.verdict for row in check_file(built.path).starts}["Mac, Intel"] == "starts"
    (parts / "InstallAssistantAuto.pkg").unlink()
    bare = open_source(parts)
    assert any("no package with the installer's app" in note for note in bare.notes)
    assert facts_of(bare).family == "macos-installer"


def test_a_payload_image_by_itself_is_forecast_as_it_is_checked(apps: dict[str, Path], tmp_path: Path) -> None:
    """Of 10.8 it is a volume that starts by itself, with the packages whose certificates have ended."""
    source = open_source(apps["10.8"] / "Contents/SharedSupport/InstallESD.dmg")
    assert facts_of(source).mac.certified_until == "2019-04-14"  # type: ignore[union-attr]
    machine = Machine(today=date(2026, 11, 28))
    planned = make_plan(source, Choices(), DriveShape("x", None), machine=machine).forecast
    built = build_drive(source, tmp_path / "a.img")
    with ImageFile(built.path) as medium:
        found = check_drive(medium, silent, machine=machine).starts
    assert [(row.firmware, row.verdict) for row in planned] == [(row.firmware, row.verdict) for row in found]
    for rows in (planned, found):
        assert "expired on 2019-04-14" in next(row.reason for row in rows if row.firmware == "Mac, Intel")


def test_chunk_lists_are_compared(tmp_path: Path) -> None:
    """Beside an image in the app, and beside the base image that goes onto the drive: by the source, and by a check."""
    app = app_of("10.13", tmp_path / "apps")
    image = app / "Contents/SharedSupport/BaseSystem.dmg"
    sums = image.with_suffix(".chunklist")
    assert any("piece by piece" in line for line in verify_source(open_source(app), None, silent, integrity=True))
    built = build_drive(open_source(app), tmp_path / "good.img")
    assert any("as its chunk list says" in line for line in check_file(built.path).looked_at)
    right = sums.read_bytes()
    sums.write_bytes(right[:60] + bytes((right[60] ^ 1,)) + right[61:])
    with pytest.raises(SourceError, match=r"bytes 0 to [\d,]+ have another SHA-256 than .*BaseSystem.chunklist says"):
        verify_source(open_source(app), None, silent, integrity=True)
    refused = run("build", app, "--onto", tmp_path / "bad.img", code=4).stderr
    assert "have another SHA-256 than" in refused
    # A drive that was made with it: its manifest finds nothing, the list does.
    data = built.path.read_bytes()
    built.path.write_bytes(data.replace(right, sums.read_bytes()))
    found = [finding.code for finding in check_file(built.path).findings if finding.level == "fault"]
    assert Code.START_MAC_BASE in found
    # One that is another image's, one that is cut, and one of a form that nobody described.
    for wrong, words in (
        (right[:36] + (5).to_bytes(4, "little") + right[40:], "is of an image of"),
        (right[:80].replace(b"\x01\0\0\0\0\0\0\0", b"\x09\0\0\0\0\0\0\0", 1), "sums lie outside of it"),
    ):
        sums.write_bytes(wrong)
        assert words in facts_of(open_source(app)).damage[0]
    sums.write_bytes(b"SUMS" + right[4:])
    facts = facts_of(open_source(app))
    assert (facts.damage, [note for note in facts.notes if "unknown form" in note] != []) == ((), True)


def test_what_macs_with_a_t2_chip_look_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def row(release: str, name: str) -> Outlook:
        built = build_drive(open_source(app_of(release, tmp_path / name)), tmp_path / f"{name}.img")
        rows = [
            next(row for row in rows if "T2" in row.firmware)
            for rows in (built.plan.forecast, check_file(built.path).starts)
        ]
        assert rows[0] == rows[1]
        return rows[0]

    assert row("10.12", "old").verdict == "will not start"
    assert "not on it" not in row("10.13", "whole").reason
    monkeypatch.setattr(mac, "T2_FILES", ("immutablekernel",))
    assert "BridgeVersion.bin, which their firmware looks for, is not on it" in row("10.13", "half").reason


def test_what_cannot_be_built_is_explained(
    apps: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def copy(release: str, name: str) -> Path:
        shutil.copytree(apps[release], tmp_path / name / apps[release].name, symlinks=True)
        return tmp_path / name / apps[release].name

    stub = copy("10.13", "stub")
    shutil.rmtree(stub / "Contents" / "SharedSupport")
    (stub / "Contents" / "SharedSupport").mkdir()
    half = copy("10.13", "half")
    (half / "Contents/SharedSupport/InstallESD.dmg").unlink()
    cut = copy("11", "cut")
    image = cut / "Contents/SharedSupport/SharedSupport.dmg"
    image.write_bytes(image.read_bytes()[:-100_000])
    monkeypatch.setattr(mac, "ApfsPart", partial(ApfsPart, encrypted=True))
    locked = app_of("15", tmp_path / "locked")
    with pytest.raises(
        SourceError, match=r"BootKernelExtensions.kc of 15.1 is only available from the base system .* is encrypted"
    ):
        make_plan(open_source(locked), Choices(), DriveShape("x.img", None))
    for path, words, helps in (
        (stub, "is a stub", False),
        (half, "contains no InstallESD.dmg", True),
        (cut, "is cut or damaged: it has no trailer", False),
    ):
        source = open_source(path)
        facts = facts_of(source)
        assert words in (*facts.damage, facts.unusable)[0]
        with pytest.raises(SourceError, match=words) as refused:
            make_plan(source, Choices(), DriveShape("x.img", None))
        assert ("--as-is" in refused.value.advice) == helps
        if not helps:
            with pytest.raises(SourceError, match=words):
                make_plan(source, Choices(as_is=True), DriveShape("x.img", None))


@pytest.mark.parametrize(
    "choices", [Choices(table="mbr"), Choices(firmware="bios"), Choices(file_system="ntfs"), Choices(part_size=1 << 30)]
)
def test_choices_that_macs_rule_out(choices: Choices, apps: dict[str, Path]) -> None:
    with pytest.raises(UsageError):
        make_plan(open_source(apps["11"]), choices, DriveShape("x.img", None))


def test_nothing_is_added_to_an_app(apps: dict[str, Path], tmp_path: Path) -> None:
    (tmp_path / "more").mkdir()
    (tmp_path / "more" / "note.txt").write_text("Pier 4")
    with pytest.raises(UsageError, match="signed as a whole"):
        make_plan(open_source(apps["11"], [tmp_path / "more"]), Choices(), DriveShape("x.img", None))


def test_sectors_of_4096_bytes_and_a_label(apps: dict[str, Path], tmp_path: Path) -> None:
    choices = Choices(label="Plakatstudio Überfahrt")
    built = build_drive(open_source(apps["11"]), tmp_path / "drive.img", choices, size=800 << 20, sector_size=4096)
    assert "BaseSystem/BaseSystem.dmg" in seen_on(built)
    with ImageFile(built.path) as drive:
        report = check_drive(drive, silent)
    assert [finding for finding in report.findings if finding.level != "note"] == []


def test_images_in_an_app_are_compared_with_their_checksums(apps: dict[str, Path], tmp_path: Path) -> None:
    """By --verify-source all of them; by a build those it copies whole, and nothing that looks finished is left."""
    app = tmp_path / apps["10.13"].name
    shutil.copytree(apps["10.13"], app, symlinks=True)
    proofs = verify_source(open_source(app), None, silent, integrity=True)
    assert sum("are right" in line for line in proofs) == 2
    image = app / "Contents/SharedSupport/InstallESD.dmg"
    data = bytearray(image.read_bytes())
    data[len(data) // 2] ^= 1
    image.write_bytes(data)
    with pytest.raises(SourceError, match="is damaged"):
        verify_source(open_source(app), None, silent, integrity=True)
    drive = tmp_path / "drive.img"
    refused = run("build", app, "--onto", drive, code=4).stderr
    assert "InstallESD.dmg is damaged: the checksum of its stored blocks is" in refused
    assert drive.read_bytes()[:512] == bytes(512)


def test_checksums_of_a_disk_image_are_verified(apps: dict[str, Path], tmp_path: Path) -> None:
    path = carried(apps["10.13"], "disk image", tmp_path)
    assert any("checksum" in line for line in verify_source(open_source(path), None, silent, integrity=True))
    data = bytearray(path.read_bytes())
    data[len(data) // 3] ^= 0x10
    path.write_bytes(data)
    with pytest.raises(KeystoneError):
        verify_source(open_source(path), None, silent, integrity=True)


def test_a_base_system_by_itself(apps: dict[str, Path], tmp_path: Path) -> None:
    """Its volume becomes the drive's; the header names its loader."""
    app = RELEASES["10.13"].app
    source = open_source(apps["10.13"] / "Contents" / "SharedSupport" / "BaseSystem.dmg")
    assert facts_of(source).release == "10.13.6"
    built = build_drive(source, tmp_path / "drive.img", size=400 << 20)
    seen = seen_on(built)
    assert seen["System/Installation/Studio.txt"][1] == b"The base system.\n" * 9000
    assert app not in seen
    assert {row.firmware: row.verdict for row in check_file(built.path).starts}["Mac, Intel"] == "starts"
    assert source.root.find_file("System/Library/CoreServices/.disk_label") is None  # the source stays as it is


def test_against_the_app(apps: dict[str, Path], tmp_path: Path) -> None:
    """Every file that was made from the app is compared; the label is the drive's own."""
    drive = tmp_path / "drive.img"
    run("build", apps["11"], "--onto", drive, "--label", "Plakate", "--size", "400MB")
    told = json.loads(run("check", drive, "--against", apps["11"], "--json").stdout)
    assert [finding["code"] for finding in told["findings"]] == ["against.extra"]
    assert told["findings"][0]["what"].count(".disk_label") == 3
    told = json.loads(run("check", drive, "--against", apps["14"], "--json", code=1).stdout)
    assert "against.different" in {finding["code"] for finding in told["findings"]}


def test_a_whole_disk_in_a_disk_image_is_restored_as_it_is(apps: dict[str, Path], tmp_path: Path) -> None:
    """A drive of another installer, its first sector and all, packed into a disk image and written back from it."""
    plain, path = tmp_path / "plain.img", tmp_path / "disk.dmg"
    write_volume(studio(5), plain, start=1 << 20, size=8 << 20)
    content = SourceFile(plain)
    write_disk_image(path, [Part("whole disk", FileRange(content, 0, content.size))], ["zlib", "LZFSE"])
    source = open_source(path)
    assert facts_of(source).family == "raw-image"
    build_drive(source, tmp_path / "second.img")
    assert (tmp_path / "second.img").read_bytes() == plain.read_bytes()


def test_a_payload_of_an_unknown_form_is_refused(tmp_path: Path) -> None:
    parts = tmp_path / "parts"
    (parts / "Studio.pkg").mkdir(parents=True)
    (parts / "Studio.pkg" / "Payload").write_bytes(b"pbzy" + bytes(4000))
    (parts / "Studio.pkg" / "SharedSupport.dmg").write_bytes(bytes(4000))
    package = tmp_path / "Studio.pkg"
    subprocess.run([need("bsdtar"), "-c", "--format", "xar", "-f", package, "-C", parts, "Studio.pkg"], check=True)
    with pytest.raises(SourceError, match="form of this payload is unknown") as refused:
        open_source(package)
    assert "copy the app from there" in (refused.value.advice or "")


@pytest.mark.posix  # the same
def test_a_combined_drive(apps: dict[str, Path], disc: Path, tmp_path: Path) -> None:
    """Windows first, then what Macs need, a row of the forecast for each; with BIOS it is an MBR drive of type AFh."""
    source = open_source(disc, further=[apps["11"], apps["10.13"]])
    built = build_drive(source, tmp_path / "drive.img", Choices(part_size=5 << 20), size=800 << 20)
    kinds = [volume.planned.kind.name for volume in built.plan.volumes]
    assert kinds == ["fat32", "fat32", "hfsplus", "hfsplus"]
    assert built.plan.volumes[0].wish.takes_rest
    rows = {row.firmware: row.verdict for row in built.plan.forecast}
    assert (rows["UEFI 64-bit"], rows["Mac, Intel, 11.7"], rows["Mac, Intel, 10.13.6"]) == ("starts",) * 3
    report = check_file(built.path)
    assert [finding for finding in report.findings if finding.level != "note"] == []
    assert [row.verdict for row in report.starts] == [row.verdict for row in built.plan.forecast]

    with pytest.raises(UsageError, match="has no edition that is not there already"):
        make_plan(open_source(disc, further=[disc]), Choices(), DriveShape("x.img", None))
    assert facts_of(open_source(built.path)).family == "raw-image"  # a whole disk is written as it is
    plan = make_plan(open_source(disc, further=[apps["11"]]), Choices(firmware="both"), DriveShape("x.img", None))
    assert (plan.table, plan.volumes[-1].wish.use.value.mbr) == ("mbr", 0xAF)
    rows = {row.firmware: row.verdict for row in plan.forecast}
    assert (rows["BIOS"], rows["Mac, Intel"]) == ("starts", "not known")


def test_flipped_bits_are_found(apps: dict[str, Path], tmp_path: Path) -> None:
    """Anywhere in what was written: no host has mounted the volume, so nothing can be use."""
    built = build_drive(open_source(apps["10.13"]), tmp_path / "drive.img", size=300 << 20)
    drive, chance, start = MemoryDrive.of(built.path), random.Random(11), built.plan.volumes[-1].planned.start
    for _ in range(FLIPS):
        region = chance.choice([region for region in built.image.regions if region.offset >= start])
        at, bit = region.offset + chance.randrange(region.size), 1 << chance.randrange(8)
        drive.data[at] ^= bit
        assert check_drive(drive, silent).exit_code == 1, f"{region.kind}, byte {at}"
        drive.data[at] ^= bit


def test_an_update_to_the_next_release(apps: dict[str, Path], tmp_path: Path) -> None:
    """Files that stay keep their place; the result is the tree of the new release, and whole."""
    drive = tmp_path / "drive.img"
    run("build", apps["11"], "--onto", drive, "--size", "400MB")
    told = json.loads(run("build", apps["14"], "--onto", drive, "--update", "--yes", "--json").stdout)
    assert told["drives"][0]["result"]["bytes_found_right"] > 0
    run("check", drive, "--against", apps["14"])
    again = json.loads(run("build", apps["14"], "--onto", drive, "--update", "--yes", "--json").stdout)
    assert again["drives"][0]["result"]["bytes_written"] == 0


def test_the_pickers_label_is_black_on_white_in_the_old_system_palette() -> None:
    """The palette by its description: a cube from white on, ramps of red, green, blue and grey, black at the end."""
    steps = [0xFF - 0x33 * number for number in range(6)]
    ramp = [each for number in range(14, 0, -1) if (each := 0x11 * number) % 0x33]
    cube = [(red, green, blue) for red in steps for green in steps for blue in steps][:-1]
    of_one = [tuple(level if place == at else 0 for at in range(3)) for place in range(3) for level in ramp]
    palette = [*cube, *of_one, *((level,) * 3 for level in ramp), (0, 0, 0)]
    assert len(palette) == 256
    assert [palette[index] for index in GREYS] == [(0xFF - 0x11 * number,) * 3 for number in range(16)]
    label = label_bitmap("Überfahrt 11", 1)
    width, height, pixels = int.from_bytes(label[1:3], "big"), int.from_bytes(label[3:5], "big"), label[5:]
    assert (height, len(pixels)) == (12, width * height)
    shown = [palette[index] for index in pixels]
    assert {shown[0], shown[-1], shown[width - 1]} == {(0xFF, 0xFF, 0xFF)}
    assert (0, 0, 0) in shown and all(red == green == blue for red, green, blue in shown)


def test_what_a_start_reads_lies_in_data_forks(apps: dict[str, Path], tmp_path: Path) -> None:
    """A system's volume whose boot files are kept compressed, as systems keep them: firmware would find empty files."""
    given = make_plan(open_source(apps["10.12"]), Choices(), DriveShape("x", None)).tree

    def packed(path: str, most: int) -> File:
        found = given.find_file(path)
        assert found is not None
        whole[path] = data = b"".join(map(bytes, stream(found.content)))[:most]
        attribute = struct.pack("<4sIQ", b"fpmc", 3, len(data)) + zlib.compress(data)
        return with_facts(found.name, data, mode=0o644, flags=0x20, attributes={"com.apple.decmpfs": attribute})

    whole: dict[str, bytes] = {}
    root = Folder("")
    kernel = RELEASES["10.12"].kernel
    for path, most in ((LOADER, 1 << 20), (kernel, 2000)):  # what does not fit an attribute lies in the resource fork
        root.put(path, packed(path, most))
    version = given.find_file("System/Library/CoreServices/SystemVersion.plist")
    assert version is not None
    root.put("System/Library/CoreServices/SystemVersion.plist", version)
    root.special = Special(unix=UnixFacts(mode=0o755, starts_with=LOADER))
    write_volume(root, tmp_path / "system.img")
    with ImageFile(tmp_path / "system.img") as medium:
        walked = read_drive(medium, 512, "the drive")
        (start,) = (mac_start(volume) for volume in walked.volumes)
    assert start is not None
    assert {(fault.role, fault.path) for fault in start.faults} >= {("loader", LOADER), ("kernel", kernel)}

    built = build_drive(open_source(tmp_path / "system.img"), tmp_path / "drive.img")
    with ImageFile(built.path) as medium:
        volume = next(each for each in read_drive(medium, 512, "the drive").volumes if each.kind.names_loaders)
        for path in (LOADER, kernel):
            entry = volume.volume.find(path)
            assert (entry.packed, entry.data.size) == (None, entry.size)
            assert b"".join(volume.volume.pieces(entry)) == whole[path]
    assert {row.firmware: row.verdict for row in check_file(built.path).starts}["Mac, Intel"] == "starts"
