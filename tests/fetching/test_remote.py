"""Drives straight from a link: the same as from the file, or none that looks finished."""

from __future__ import annotations

import hashlib
import lzma
import random
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path

import pytest

from lucky_keystone.building.compose import compose_drive
from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.common.progress import silent
from lucky_keystone.doing.work import Work, build_or_update
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.drives.retrying import Retrying
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.fetching import remote as remote_module
from lucky_keystone.fetching.link import Place, parse_link
from lucky_keystone.fetching.remote import RemoteFile, Terms
from lucky_keystone.manifest.shelf import NoShelf
from lucky_keystone.manifest.unfinished import read_unfinished
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source

from ..helpers.clocks import Tireless
from ..helpers.drives import small_disc
from ..helpers.judges import need
from ..helpers.mac import app_of, carried, packaged
from ..helpers.program import run, run_json
from .server import Served, Server


@pytest.fixture
def server(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Server]:
    monkeypatch.setattr(remote_module, "RealClock", Tireless)
    (tmp_path / "net").mkdir()
    with Server(tmp_path / "net") as made:
        yield made


def work_on(place: Place, path: Path, choices: Choices, sha256: str = "", further: Sequence[Path] = ()) -> Work:
    """Build a drive as the command does, from a file or a link."""
    terms = Terms(sha256)
    source = open_source(place, (), silent, further, terms=terms)
    image = compose_drive(make_plan(source, choices, DriveShape("crew", None)))
    medium = ImageFile(path, write=True) if path.exists() else ImageFile.make(path, image.size)
    with closing(Retrying(medium)) as target:
        work = Work(
            name="crew",
            source=source,
            image=image,
            medium=target,
            shelf=NoShelf(),
            needed=0,
            may_be_fake=False,
        )
        build_or_update([work], lambda _: silent, verify=True, resume=True, probe=False)
    for file in source.remote_files:
        file.close()
    return work


def sum_of(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def is_finished(path: Path) -> bool:
    with path.open("rb") as stream:
        return any(stream.read(512))


@pytest.fixture(scope="module")
def images(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Sources that are one file, by family and form."""
    folder = tmp_path_factory.mktemp("images")
    disc = small_disc(folder / "crew.iso", filling=24)
    app = app_of("10.13", folder / "app")
    raw = folder / "rescue.img"
    made = work_on(disc, raw, Choices(table="gpt"))
    assert made.error is None
    packed = folder / "rescue.img.xz"
    packed.write_bytes(lzma.compress(raw.read_bytes()))
    return {
        "disc": disc,
        "raw": raw,
        "raw, packed": packed,
        "disk image": carried(app, "disk image", folder),
        "zip archive": carried(app, "zip archive", folder),
        "package": packaged(app, folder),
    }


SHAPES: dict[str, tuple[str, Choices]] = {
    "fat32": ("disc", Choices(part_size=5 << 20)),
    "gpt": ("disc", Choices(table="gpt")),
    "ntfs": ("disc", Choices(file_system="ntfs")),
    "pair": ("disc", Choices(file_system="fat32+ntfs")),
    "raw": ("raw", Choices()),
    "raw, packed": ("raw, packed", Choices()),
    "disk image": ("disk image", Choices()),
    "zip archive": ("zip archive", Choices()),
    "package": ("package", Choices()),
    "combined": ("disc", Choices()),
}


@pytest.mark.parametrize("shape", SHAPES)
def test_the_same_drive_as_from_the_file(shape: str, images: dict[str, Path], server: Server, tmp_path: Path) -> None:
    """Also when the connection is cut 20 times; all bytes are proven, and hardly any come twice."""
    name, choices = SHAPES[shape]
    path = images[name]
    data, expected = path.read_bytes(), tmp_path / "expected.img"
    further = [images["zip archive"]] if shape == "combined" else []
    assert work_on(path, expected, choices, further=further).error is None
    chance = random.Random(shape)
    served = Served(data, cuts=[chance.randrange(100_000, max(len(data) // 10, 200_000)) for _ in range(20)])
    server.files[f"/{path.name}"] = served
    made = tmp_path / "made.img"
    work = work_on(parse_link(server.link(f"/{path.name}?key=secret")), made, choices, sum_of(data), further)
    assert work.error is None
    assert made.read_bytes() == expected.read_bytes()
    assert [file.proven for file in work.source.remote_files] == [True]
    if name == "disc" and shape not in ("pair", "combined"):
        assert served.sent < 1.1 * len(data) + (22 << 20)  # what was on its way when it was cut


def test_planning_reads_little(server: Server, tmp_path: Path) -> None:
    disc = small_disc(tmp_path / "large.iso", filling=120)
    served = server.files["/large.iso"] = Served(disc.read_bytes())
    terms = Terms(sum_of(served.data))
    source = open_source(parse_link(server.link("/large.iso")), terms=terms)
    make_plan(source, Choices(), DriveShape("crew", None))
    assert len(served.asked) <= 20
    assert served.sent < 0.01 * len(served.data)
    source.remote_files[0].close()


REFUSED = {
    "another sum": (Served(b""), "its SHA-256 is"),
    "other bytes, same tag": (Served(b"", becomes=(5 << 20, b"", '"first"')), "its SHA-256 is|changed on the server"),
    "another tag": (Served(b"", becomes=(5 << 20, b"", '"second"')), "changed on the server"),
    "no tag, other bytes": (Served(b"", tag="", becomes=(5 << 20, b"", "")), "its SHA-256 is|changed on the server"),
    "expired on the way": (Served(b""), "fresh link"),
    "cut short": (Served(b""), "changed on the server"),
}


@pytest.mark.parametrize("fault", REFUSED)
def test_a_wrong_image_never_becomes_a_finished_drive(
    fault: str, images: dict[str, Path], server: Server, tmp_path: Path
) -> None:
    served, told = REFUSED[fault]
    data = images["disc"].read_bytes()
    half = len(data) // 2
    other = data[:half] + bytes([data[half] ^ 1]) + data[half + 1 :]
    served.data, served.cuts = data, [12_000_000] * 20
    wanted = sum_of(data)
    if fault == "another sum":
        wanted = sum_of(b"")
    elif fault == "cut short":
        served.becomes = (5 << 20, data[:-4096], served.tag)
    elif served.becomes is not None:
        served.becomes = (served.becomes[0], other, served.becomes[2])
    elif fault == "expired on the way":
        served.later = (5 << 20, 403)
    server.files["/crew.iso"] = served
    made = tmp_path / "made.img"
    try:
        error: KeystoneError | None = work_on(parse_link(server.link("/crew.iso")), made, Choices(), wanted).error
    except KeystoneError as raised:  # while planning
        error = raised
    assert error is not None
    assert any(word in str(error) + error.advice for word in told.split("|")), error
    assert not made.exists() or not is_finished(made)


def test_servers_that_cannot_be_built_from(server: Server, tmp_path: Path) -> None:
    data = random.Random(1).randbytes(1 << 20)
    cases = {
        "/whole.iso": (Served(data, ranges=False), "only as a whole"),
        "/other.iso": (Served(data, off_by=7), "another range"),
        "/page.iso": (Served(b"<html><title>Log in</title>", kind="text/html"), "Log in"),
        "/gone.iso": (Served(data, answers=[404]), "nothing at that link"),
        "/lying.iso": (Served(data, whole=1 << 60), "too many for an image"),
        "/coded.iso": (Served(data, coding="gzip"), "compresses what it sends"),
        "/busy.iso": (Served(data, answers=[503] * 20), "without progress"),
    }
    for path, (served, told) in cases.items():
        server.files[path] = served
        with pytest.raises(KeystoneError, match=told):
            RemoteFile(parse_link(server.link(path)), Terms(sum_of(data)))
    with pytest.raises(KeystoneError, match="plain http proves nothing"):
        RemoteFile(parse_link(server.link("/busy.iso")), Terms())


def test_any_read_in_any_order(server: Server) -> None:
    """By several reads at random places, with streams and without, always the file's own bytes."""
    chance = random.Random(4)
    data = chance.randbytes(30_000_001)
    server.files["/a.iso"] = Served(data, cuts=[3_000_000] * 5)
    remote = RemoteFile(parse_link(server.link("/a.iso")), Terms(sum_of(data)))
    for number in range(150):
        if number == 75:
            remote.read_in_order([(10_000_000, 12_000_000)])
        size = int(10 ** chance.uniform(0, 6.5))
        at = chance.randrange(len(data) - size)
        view = memoryview(bytearray(size))
        remote.readinto_at(0, at, view)
        assert view == data[at : at + size]
    remote.prove(silent)
    assert remote.proven
    remote.close()


def test_the_commands(images: dict[str, Path], tmp_path: Path) -> None:
    """inspect, plan, build, check --against and split take a link; a plan keeps no secret and takes a fresh link."""
    (tmp_path / "net").mkdir()
    data = images["disc"].read_bytes()
    with Server(tmp_path / "net", tls=True) as server:
        server.files["/crew.iso"] = server.files["/new/crew.iso"] = Served(data)
        link, trusted = server.link("/crew.iso?key=hidden"), ["--authority", server.authority]
        wanted = ["--sha256", sum_of(data)]
        shown = run("inspect", link, *trusted)
        assert "hidden" not in shown.stdout + shown.stderr
        assert "Proof           none" in shown.stdout
        plan = tmp_path / "crew.toml"
        run("plan", link, *trusted, *wanted, "--save", plan)
        assert "hidden" not in plan.read_text()
        assert sum_of(data) in plan.read_text()
        made, fresh = tmp_path / "made.img", server.link("/new/crew.iso?key=fresh")
        done = run_json("build", plan, "--link", fresh, *trusted, "--onto", made)
        assert done["proofs"] == ["crew.iso has the SHA-256 given"]
        again = tmp_path / "again.img"
        run("build", images["disc"], "--onto", again, "--identity", "made.img")
        assert made.read_bytes() == again.read_bytes()
        run("check", made, "--against", link, *trusted)
        once = server.files["/crew.iso"] = Served(data)
        for place, source in (("link", [link, *trusted, *wanted]), ("file", [images["disc"]])):
            (tmp_path / place).mkdir()
            drives = [tmp_path / place / f"{name}.img" for name in "abc"]
            with drives[2].open("wb") as larger:  # its clusters are larger: it is laid out differently
                larger.truncate(9 << 30)
            run("build", *source, "--yes", *(word for drive in drives for word in ("--onto", drive)))
        assert once.sent < 1.1 * len(data)
        for name in "abc":
            made, expected = (tmp_path / place / f"{name}.img" for place in ("link", "file"))
            subprocess.run([need("cmp"), made, expected], check=True)
        wim = run_json("inspect", images["disc"])
        assert wim["facts"]["images"]
        run("build", link, *trusted, "--sha256", "0" * 64, "--onto", tmp_path / "wrong.img", code=4)
        assert not is_finished(tmp_path / "wrong.img")


@pytest.mark.parametrize("damage", [False, True])
def test_a_killed_build_continues_without_downloading_again(damage: bool, tmp_path: Path) -> None:
    """What the drive took is read from it; where that is damaged, all is downloaded again. A fresh link will do."""
    (tmp_path / "net").mkdir()
    disc = small_disc(tmp_path / "crew.iso", filling=160)
    data, made, expected = disc.read_bytes(), tmp_path / "made.img", tmp_path / "expected.img"
    assert work_on(disc, expected, Choices()).error is None
    with Server(tmp_path / "net", tls=True) as server:
        stalled = server.files["/crew.iso"] = Served(data, stalls_at=150 << 20)
        line = ["build", "--sha256", sum_of(data), "--authority", server.authority, "--identity", "crew"]
        onto = [server.link("/crew.iso?key=old"), "--onto", made]
        child = subprocess.Popen(
            [sys.executable, "-m", "lucky_keystone", *map(str, line + onto)], stderr=subprocess.DEVNULL
        )
        until = time.monotonic() + 600
        while time.monotonic() < until and taken(made) < 64 << 20:
            time.sleep(0.1)
        child.send_signal(signal.SIGKILL)
        child.wait()
        assert stalled.sent
        assert not is_finished(made)
        if damage:
            with made.open("r+b") as drive:
                drive.seek(40 << 20)
                drive.write(b"lost")
        fresh = server.files["/crew.iso"] = Served(data)
        run(*line, server.link("/crew.iso?key=new"), "--onto", made)
        assert made.read_bytes() == expected.read_bytes()
        assert (fresh.sent > len(data)) if damage else (fresh.sent < len(data) - (56 << 20))


def taken(drive: Path) -> int:
    """Return how many bytes an unfinished drive says that it took."""
    if not drive.exists() or drive.stat().st_size < 1 << 20:
        return 0
    with ImageFile(drive) as medium:
        state = read_unfinished(medium, 512)
    return state.taken if state is not None else 0


def test_many_readers_at_once(server: Server) -> None:
    """More of them than there are streams, each front to back from a place of its own: nobody is left without bytes."""
    data = random.Random(5).randbytes(24_000_000)
    server.files["/a.iso"] = Served(data)
    remote = RemoteFile(parse_link(server.link("/a.iso")), Terms(sum_of(data)))
    remote.read_in_order([(at, 3_000_000) for at in range(0, len(data), 3_000_000)])
    wrong: list[int] = []

    def read(start: int) -> None:
        for at in range(start, start + 3_000_000, 500_000):
            view = memoryview(bytearray(500_000))
            remote.readinto_at(0, at, view)
            if view != data[at : at + 500_000]:
                wrong.append(at)

    readers = [threading.Thread(target=read, args=(at,)) for at in range(0, len(data), 3_000_000)]
    for reader in readers:
        reader.start()
    for reader in readers:
        reader.join()
    assert not wrong
    remote.prove(silent)
    assert remote.proven
    remote.stop()
    with pytest.raises(KeystoneError, match="Stopped before the end"):
        remote.readinto_at(0, 12_345_678, memoryview(bytearray(3_000_000)))
    remote.close()
