"""Loop devices stand for real drives: listed, guarded, built, checked, updated, reclaimed, as a technician types it."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from lucky_keystone.drives.linux.host import LinuxHost

from ..helpers.amount import sample_of
from ..helpers.drives import extract, small_disc
from ..helpers.judges import need
from ..helpers.program import run, run_json

pytestmark = pytest.mark.skipif(
    os.name != "posix" or os.geteuid() != 0, reason="loop devices want the right to make them"
)
MIB = 1 << 20
Loop = Callable[..., Path]


@pytest.fixture
def loop(tmp_path: Path) -> Iterator[Loop]:
    """Make loop devices over new image files."""
    tool, made = need("losetup"), []

    def make(name: str, size: int = 64 * MIB, *options: str) -> Path:
        file = tmp_path / name
        if not file.exists():
            with file.open("wb") as stream:
                stream.truncate(size)
        done = subprocess.run(
            [tool, "--find", "--show", *options, str(file)], capture_output=True, text=True, check=False
        )
        if done.returncode:
            pytest.skip(f"no loop device can be made here: {done.stderr.strip()}")
        made.append(done.stdout.strip())
        return Path(made[-1])

    yield make
    for device in made:
        subprocess.run(["partx", "--delete", device], capture_output=True, check=False)
        subprocess.run([tool, "--detach", device], capture_output=True, check=False)


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return small_disc(tmp_path_factory.mktemp("loops") / "small.iso", filling=8)


def tag_of(device: Path) -> str:
    return next(drive.tag for drive in LinuxHost().drives() if drive.path == device)


@pytest.mark.parametrize("sector", sample_of([512, 4096], [4096]))
def test_the_whole_life_of_a_drive(
    sector: int, loop: Loop, small: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("LUCKY_KEYSTONE_LOG", str(tmp_path / "log.sqlite"))
    device = loop("stick.img", (64 if sector == 512 else 320) * MIB, "--sector-size", str(sector))
    tag = tag_of(device)
    listed = next(drive for drive in run_json("drives")["drives"] if drive["tag"] == tag)
    assert (listed["path"], listed["sector_size"], listed["held_back"], listed["contents"]) == (
        str(device),
        sector,
        [],
        "empty",
    )

    built = run_json("build", small, "--onto", tag, "--yes")
    assert (built["check"]["healthy"], built["retries"]) == (True, 0)
    assert any("the new table" in note or "one by one" in note or "cannot parse" in note for note in built["notes"])
    image = tmp_path / "same.img"
    size = str(device_size(device))
    run("build", small, "--onto", image, "--size", size, "--sector-size", sector, "--identity", tag)
    assert (tmp_path / "stick.img").read_bytes() == image.read_bytes(), "a device is built otherwise than an image file"
    assert run_json("check", device)["healthy"] is True

    assert run_json("build", small, "--onto", tag, "--update", "--yes")["result"]["bytes_written"] == 0
    extra = tmp_path / "drivers"
    extra.mkdir()
    (extra / "printer.inf").write_text("a driver")
    updated = run_json("build", small, "--add", extra, "--onto", device, "--update", "--yes")
    assert 0 < updated["result"]["bytes_written"] < 2 * MIB
    assert run_json("check", tag)["volumes"][0]["file_count"] == built["check"]["volumes"][0]["file_count"] + 1

    assert run_json("gauge", tag)["capacity"] == "not known"
    assert run_json("gauge", tag, "--marks", "--yes")["capacity"] == "holds"
    assert run_json("check", tag)["healthy"] is True
    with device.open("r+b") as stream:
        seal = stream.read(sector)
        stream.seek(0)
        stream.write(bytes(sector))
    mended = run_json("mend", tag, "--yes")
    assert [remedy["finding"]["code"] for remedy in mended["remedies"]] == ["table.missing"]
    assert (device_head(device, sector)[:440], mended["bytes_written"]) == (seal[:440], sector)
    run("mend", tag, "--undo", Path(mended["journal"]).name, "--yes")
    assert device_head(device, sector) == bytes(sector)
    run("reclaim", tag, "--label", "timetables", "--yes", "--eject")
    assert not any(drive.path == device for drive in LinuxHost().drives()), "it was not released"
    with (tmp_path / "stick.img").open("rb") as stream:
        stream.seek(MIB)
        assert b"TIMETABLES" in stream.read(512)
    entries = run_json("log", "--drive", tag)["entries"]
    done = [entry["command"] for entry in reversed(entries)]
    assert done.count("check") == 3
    assert [command for command in done if command != "check"] == [
        "build",
        "update",
        "update",
        "gauge",
        "gauge",
        "mend",
        "mend --undo",
        "reclaim",
    ]
    assert {entry["result"] for entry in entries} == {"done"}


def device_head(device: Path, size: int) -> bytes:
    descriptor = os.open(device, os.O_RDONLY)
    try:
        os.posix_fadvise(descriptor, 0, 0, os.POSIX_FADV_DONTNEED)
        return os.read(descriptor, size)
    finally:
        os.close(descriptor)


def device_size(device: Path) -> int:
    with device.open("rb") as stream:
        return stream.seek(0, os.SEEK_END)


def test_a_drive_in_use_is_held_back_until_it_is_unmounted(loop: Loop, small: Path, tmp_path: Path) -> None:
    """A volume that this kernel knows lies on the device; it is mounted, and then open in a program as well."""
    maker = need("mkfs.ext4")
    device, place = loop("used.img"), tmp_path / "mounted"
    subprocess.run([maker, "-q", str(device)], check=True)
    place.mkdir()
    if subprocess.run(["mount", str(device), str(place)], capture_output=True, check=False).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        tag = tag_of(device)
        told = run("build", small, "--onto", tag, "--yes", code=3).stderr
        assert f"is in use: {place}" in told
        assert "add --unmount" in told
        with (place / "timetable.txt").open("w") as busy:
            busy.write("open")
            told = run("build", small, "--onto", tag, "--yes", "--unmount", code=3).stderr
            assert "is in use by a program" in told
        assert run_json("build", small, "--onto", tag, "--yes", "--unmount")["check"]["healthy"] is True
        assert not place.is_mount()
    finally:
        subprocess.run(["umount", str(place)], capture_output=True, check=False)


def test_a_device_that_another_program_holds_is_left_alone(loop: Loop, small: Path) -> None:
    device = loop("held.img")
    holder = os.open(device, os.O_RDWR | os.O_EXCL)
    try:
        assert "in use by the system or another program" in run("reclaim", device, "--yes", code=3).stderr
    finally:
        os.close(holder)
    assert "read-only" in run("reclaim", loop("sealed.img", 64 * MIB, "--read-only"), "--yes", code=3).stderr


def test_a_partition_or_any_other_node_is_no_drive(small: Path) -> None:
    assert (
        "neither a whole drive nor an image file" in run("build", small, "--onto", "/dev/null", "--yes", code=3).stderr
    )


def test_a_device_is_a_source_and_its_disk_is_guarded(loop: Loop, small: Path, tmp_path: Path) -> None:
    """A disc in a drive: a source like an image file; and what holds the source is never written."""
    disc = tmp_path / "disc.iso"
    disc.write_bytes(small.read_bytes())
    device = loop("disc.iso", 0, "--read-only")
    assert run_json("inspect", device)["facts"] == run_json("inspect", disc)["facts"]
    run("build", device, "--onto", tmp_path / "one.img", "--identity", "x")
    run("build", disc, "--onto", tmp_path / "two.img", "--identity", "x")
    assert (tmp_path / "one.img").read_bytes()[1 * MIB + 512 :] == (tmp_path / "two.img").read_bytes()[1 * MIB + 512 :]

    writable = loop("disc.iso")
    before = disc.read_bytes()
    assert "holds the source" in run("build", disc, "--onto", writable, "--yes", code=3).stderr
    assert disc.read_bytes() == before


def test_sudo_leaves_nothing_of_roots_in_the_users_folders(
    small: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SUDO_UID", "65534")
    monkeypatch.setenv("SUDO_GID", "65534")
    monkeypatch.setenv("LUCKY_KEYSTONE_LOG", str(tmp_path / "records/shop/log.sqlite"))
    run("plan", small, "--save", tmp_path / "p.toml", "--figure", tmp_path / "p.png")
    run("build", small, "--onto", tmp_path / "drive.img")
    run("gauge", tmp_path / "drive.img", "--figure", tmp_path / "g.svg")
    run("log", "--csv", tmp_path / "log.csv")
    made = list(tmp_path.rglob("*"))
    assert len(made) == 8, made
    assert {(path.stat().st_uid, path.stat().st_gid) for path in made} == {(65534, 65534)}


@pytest.fixture
def mounted(tmp_path: Path) -> Iterator[Callable[[Path, Path], None]]:
    """Mount volumes, and unmount them in the end."""
    points: list[Path] = []

    def mount(device: Path, point: Path) -> None:
        point.mkdir(parents=True, exist_ok=True)
        done = subprocess.run(["mount", str(device), str(point)], capture_output=True, text=True, check=False)
        if done.returncode:
            pytest.skip(f"nothing can be mounted here: {done.stderr.strip()}")
        points.append(point)

    yield mount
    for point in points:
        subprocess.run(["umount", str(point)], check=False)


def formatted(loop: Loop, name: str, *options: str) -> Path:
    device = loop(name, 64 * MIB, *options)
    subprocess.run([need("mkfs.ext4"), "-q", str(device)], check=True)
    return device


def test_a_file_that_a_loop_device_stands_for_is_no_target(
    loop: Loop, small: Path, tmp_path: Path, mounted: Callable[[Path, Path], None]
) -> None:
    """Under its own name, under a hard link's, and through a second loop device that begins further on."""
    device = formatted(loop, "records.img")
    mounted(device, tmp_path / "records")
    (tmp_path / "link.img").hardlink_to(tmp_path / "records.img")
    for name in ("records.img", "link.img"):
        refused = run("build", small, "--onto", tmp_path / name, "--yes", code=3).stderr
        assert f"is attached to this computer as {device}" in refused
    second = loop("link.img", 0, "--offset", str(MIB))
    assert "is in use: " in run("build", small, "--onto", second, "--yes", code=3).stderr


@pytest.mark.parametrize("how", ["link", "mount"])
def test_a_stick_that_holds_a_part_of_the_source_is_never_unmounted(
    how: str, loop: Loop, small: Path, tmp_path: Path, mounted: Callable[[Path, Path], None]
) -> None:
    """A file of the folder is a link onto the stick, or the stick is mounted below the folder."""
    folder = extract(small, tmp_path / "source")
    device = formatted(loop, "stick.img")
    mounted(device, folder / "drivers" if how == "mount" else tmp_path / "stick")
    if how == "link":
        shutil.move(folder / "sources/install.wim", tmp_path / "stick/install.wim")
        (folder / "sources/install.wim").symlink_to(tmp_path / "stick/install.wim")
    else:
        (folder / "drivers/harbour.cab").write_bytes(b"harbour")
        shutil.rmtree(folder / "drivers/lost+found")
    refused = run("build", folder, "--onto", device, "--unmount", "--yes", code=3).stderr
    assert "holds the source that is built from" in refused
    assert str(device) in Path("/proc/mounts").read_text()


@pytest.mark.parametrize("options", [["-udf"], []])
def test_the_run_out_of_a_disc_in_a_drive_is_no_part_of_it(options: list[str], loop: Loop, tmp_path: Path) -> None:
    """A drive shows more sectors than the disc's image has: the sum is taken over what the volume says."""
    folder, image = tmp_path / "in", tmp_path / "disc.iso"
    folder.mkdir()
    (folder / "timetable.txt").write_text("09:26 Steg 4")
    subprocess.run([need("genisoimage"), "-quiet", *options, "-o", image, folder], check=True, capture_output=True)
    data = image.read_bytes()
    (tmp_path / "disc").write_bytes(data + b"run-out " * (150 * 256))
    device = loop("disc", 0, "--read-only")
    proof = hashlib.sha256(data).hexdigest()
    assert "has the SHA-256 given" in run("inspect", device, "--sha256", proof, code=4).stdout
    assert "SHA-256 is" in run("inspect", device, "--sha256", "0" * 64, code=4).stderr
