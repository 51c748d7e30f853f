"""Building: repeatable, in the promised order, without a seal until all is written, whatever goes wrong."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.common.errors import SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.doing.work import Work, build_or_update
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.drives.retrying import Retrying
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.tables.mbr import MasterBootRecord
from lucky_keystone.volumes.fat32.records import BootSector

from ..helpers.drives import Built, MemoryDrive, build_drive
from ..helpers.judges import assert_checker_is_silent, theirs
from ..helpers.program import run


def test_the_same_build_twice_gives_the_same_drive_and_another_identity_another(built: Built, tmp_path: Path) -> None:
    choices = Choices(part_size=8 << 20)
    (tmp_path / "again").mkdir()
    again = build_drive(built.source, tmp_path / "again" / built.path.name, choices)
    other = build_drive(built.source, tmp_path / "crew.img", choices)

    one, same, different = (path.read_bytes() for path in (built.path, again.path, other.path))
    assert one == same
    assert MasterBootRecord.unpack(one).disk_signature != MasterBootRecord.unpack(different).disk_signature
    assert BootSector.unpack(one, 1 << 20).BS_VolID != BootSector.unpack(different, 1 << 20).BS_VolID


def test_what_was_on_the_drive_before_leaves_no_signature(built: Built, tmp_path: Path) -> None:
    """A drive full of old bytes: its ends are cleared, and everything composed is as on a new image file."""
    used = tmp_path / built.path.name
    plan = make_plan(built.source, Choices(use="needed"), DriveShape(used.name, 48 << 20))
    fresh = tmp_path / "fresh" / built.path.name
    fresh.parent.mkdir()
    image = compose_drive(plan)
    used.write_bytes(b"\xa5" * (48 << 20))
    for path in (used, fresh):
        with ImageFile(path, write=True) if path.exists() else ImageFile.make(path, 48 << 20) as target:
            build(image, target, silent)
    old, new = used.read_bytes(), fresh.read_bytes()

    assert old[: image.first_content] == new[: image.first_content]
    assert old[-(1 << 20) :] == bytes(1 << 20)
    for region in image.regions:
        assert old[region.offset : region.offset + region.size] == new[region.offset : region.offset + region.size], (
            region.kind
        )


def test_independent_judges_see_the_built_drive_alike(built: Built, tmp_path: Path) -> None:
    """The system's checker is silent, and another reader finds the same tree and bytes as the plan's."""
    expected = {
        path: b"".join(bytes(piece) for piece in stream(file.content)) for path, file in built.plan.tree.files()
    }

    assert_checker_is_silent(built.path, built.plan.volumes[0].planned.geometry, tmp_path)
    assert theirs(built.path, built.plan.volumes[0].planned.geometry) == expected


WATCH = """
import os, sys
written = set()
def hook(event, arguments):
    if event == "open" and isinstance(arguments[0], str) and arguments[2] & (os.O_WRONLY | os.O_RDWR | os.O_CREAT):
        written.add(os.path.realpath(arguments[0]))
sys.addaudithook(hook)
from lucky_keystone.cli.main import main
sys.dont_write_bytecode = True
code = main(sys.argv[1:])
print("WRITTEN", sorted(written), file=sys.stderr)
sys.exit(code)
"""


@pytest.mark.posix
def test_nothing_but_the_target_is_opened_for_writing(disc: Path, tmp_path: Path) -> None:
    """No temporary file, nowhere: the interpreter reports every file that is opened."""
    drive = tmp_path / "drive.img"
    command = [sys.executable, "-B", "-c", WATCH, "build", disc, "--onto", drive, "--part-size", "8MiB"]
    done = subprocess.run(command, capture_output=True, text=True, check=True)

    assert f"WRITTEN ['{drive.resolve()}']" in done.stderr


def test_the_order_of_writing(built: Built) -> None:
    """Ends cleared, flushed; data rising; flushed; read back; manifest, flushed; sector 0 last, flushed."""
    witness = MemoryDrive(built.image.size)
    build(built.image, witness, silent)
    log = witness.log
    log = log[log.index(("write", 0, 512)) :]  # before that it was only looked at

    data_start = log.index(next(step for step in log if step[0] == "write" and step[1] >= built.image.first_content))
    assert log[:data_start] == [
        ("write", 0, 512),
        ("flush", 0, 0),
        ("zero", 512, built.image.first_content - 512),
        ("zero", built.image.size - (1 << 20), 1 << 20),
        ("write", 512, 512),  # the record of progress: what was begun
        ("flush", 0, 0),
    ]
    offsets = [
        offset
        for what, offset, _ in log[data_start:]
        if what in ("write", "zero") and offset >= built.image.first_content
    ]
    assert offsets == sorted(offsets)
    first_read = log.index(next(step for step in log if step[0] == "read"))
    assert log[first_read - 1][0] == "flush"
    assert [step[:2] for step in log[-6:]] == [
        ("write", 512),
        ("flush", 0),
        ("read", 512),
        ("write", 0),
        ("flush", 0),
        ("read", 0),
    ]
    assert [step[:2] for step in log[-9:-6]] == [("write", 1024), ("flush", 0), ("read", 1024)], (
        "the manifest's first sector is not last"
    )
    assert [step for step in log if step[:2] == ("write", 0)] == [("write", 0, 512)] * 2
    assert bytes(witness.data) == built.path.read_bytes()


def test_a_source_that_shrinks_meanwhile_is_told_of(disc: Path, tmp_path: Path) -> None:
    short = tmp_path / "short.iso"
    shutil.copyfile(disc, short)
    image = compose_drive(make_plan(open_source(short), Choices(), DriveShape("x", None)))
    with short.open("r+b") as stream:
        stream.truncate(short.stat().st_size // 2)
    witness = MemoryDrive(image.size)

    with pytest.raises(SourceError, match=r"short\.iso (ends at byte|changed or was replaced)"):
        build(image, witness, silent)
    assert bytes(witness.data[:512]) == bytes(512)


def test_a_full_disk_under_the_image_file_is_told_of(disc: Path, tmp_path: Path) -> None:
    """A limit on file size stands for a full disk: the system refuses to write on, in the middle of the work."""
    resource = pytest.importorskip("resource")

    def limit() -> None:
        signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        resource.setrlimit(resource.RLIMIT_FSIZE, (20 << 20, 20 << 20))

    drive = tmp_path / "drive.img"
    with drive.open("wb") as stream:
        stream.truncate(64 << 20)
    command = [sys.executable, "-m", "lucky_keystone", "build", str(disc), "--onto", str(drive), "--yes"]
    done = subprocess.run(command, preexec_fn=limit, capture_output=True, text=True, check=False)

    assert done.returncode == 5
    assert "drive.img, writing at byte" in done.stderr
    assert "make room there first" in done.stderr
    assert drive.read_bytes()[:512] == bytes(512)


@pytest.mark.skipif(sys.platform == "win32", reason="signals are sent to the process")
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, getattr(signal, "SIGHUP", 1)])
def test_ctrl_c_and_its_relatives_leave_no_seal_and_say_so(number: signal.Signals, disc: Path, tmp_path: Path) -> None:
    drive = tmp_path / "drive.img"
    command = [sys.executable, "-m", "lucky_keystone", "build", str(disc), "--onto", str(drive), "--size", "256MiB"]
    slow = "import lucky_keystone.building.stream as s, time, sys\n"
    slow += "w = s._Writer._write; s._Writer._write = lambda *a: (time.sleep(0.5), w(*a))\n"
    slow += "from lucky_keystone.cli.main import entry; entry()"
    child = subprocess.Popen(
        [sys.executable, "-c", slow, *command[3:]],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=lambda: signal.signal(number, signal.SIG_DFL),  # ignored where the tests run in the background
    )
    until = time.monotonic() + 600
    while not (drive.exists() and drive.stat().st_blocks * 512 > 4 << 20) and time.monotonic() < until:
        time.sleep(0.05)
    child.send_signal(number)
    _, told = child.communicate(timeout=600)

    assert child.returncode == 130
    assert "not finished" in told
    assert "writing: stopped at" in told  # how far it came, and not that all was done
    assert "Traceback" not in told
    assert drive.read_bytes()[:512] == bytes(512)


def test_the_probe_for_fakes_begins_by_removing_the_seal(built: Built) -> None:
    """A build that is cut off while marks are written must not leave a drive that looks finished."""
    memory = MemoryDrive.of(built.path)
    memory.data[440] ^= 1  # another build's: of what this very one has finished nothing is to be written
    medium = Retrying(memory)
    work = Work(
        name="T3ST",
        source=built.source,
        image=built.image,
        medium=medium,
        needed=built.plan.needed,
        may_be_fake=True,
    )
    build_or_update([work], lambda _: silent, verify=True, resume=True, probe=True)
    assert work.error is None
    changes = [step for step in memory.log if step[0] in ("write", "flush", "zero")]
    assert changes[:2] == [("write", 0, 512), ("flush", 0, 0)]
    assert changes[2][1] >= 1 << 20
    assert bytes(memory.data) == built.path.read_bytes()


def test_a_file_whose_making_was_cut_off_is_made_again(disc: Path, tmp_path: Path) -> None:
    """A kill while the file system is tried for holes leaves a file of an odd size without a byte in it."""
    whole, begun, other = (tmp_path / f"{name}.img" for name in ("whole", "begun", "other"))
    run("build", disc, "--onto", whole, "--identity", "crew")
    with begun.open("wb") as stream:
        stream.truncate((1 << 20) + 7)
    run("build", disc, "--onto", begun, "--identity", "crew")
    assert begun.read_bytes() == whole.read_bytes()
    other.write_bytes(bytes(1 << 20) + b"tickets")
    assert "does not fit" in run("build", disc, "--onto", other, "--identity", "crew", "--yes", code=4).stderr
    assert other.read_bytes()[-7:] == b"tickets"
