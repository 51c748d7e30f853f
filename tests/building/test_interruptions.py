"""Power cuts, kills and faults at random moments.

Never a seal on an unfinished drive, always the same drive in the end.
"""

from __future__ import annotations

import random
import subprocess
import sys
import time
from contextlib import suppress
from pathlib import Path

import pytest

from lucky_keystone.building import stream
from lucky_keystone.building.build import build
from lucky_keystone.building.image import DriveImage
from lucky_keystone.common.errors import DriveError, DriveGone, Interrupted, KeystoneError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import BLOCK
from lucky_keystone.drives.faults import Faults, FaultyDrive
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.drives.retrying import Retrying

from ..helpers.amount import part_of
from ..helpers.drives import MemoryDrive, small_disc, small_image


@pytest.fixture(scope="module")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return small_disc(tmp_path_factory.mktemp("small") / "small.iso", filling=12)


@pytest.fixture(scope="module")
def image(disc: Path) -> DriveImage:
    return small_image(disc)


@pytest.fixture(scope="module")
def finished(image: DriveImage) -> bytes:
    drive = MemoryDrive(image.size)
    build(image, drive, silent)
    return bytes(drive.data)


@pytest.fixture(autouse=True)
def _flush_often(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(stream, "_LEAST_PAUSE", 0)
    monkeypatch.setattr(stream, "_LONGEST_PAUSE", 0)


def assert_sealed_only_when_finished(data: bytes | bytearray, finished: bytes) -> bool:
    sealed = data[:512] == finished[:512]
    assert not sealed or data == finished, "a seal stands on a drive that is not finished"
    return sealed


@pytest.mark.parametrize("part", range(4))
def test_power_cuts_at_random_moments(part: int, image: DriveImage, finished: bytes) -> None:
    """The cache loses, tears and reorders what was not flushed.

    Some builds are cut several times before they may end.
    """
    chance = random.Random(part)
    counting = FaultyDrive(MemoryDrive(image.size), Faults(volatile_cache=BLOCK))
    build(image, counting, silent)
    resumed = 0
    for cut in range(part_of(50)):
        memory = MemoryDrive(image.size)
        while True:
            faults = Faults(volatile_cache=chance.choice([64 << 10, BLOCK, 6 * BLOCK]))
            drive = FaultyDrive(memory, faults, seed=part * 1000 + cut)
            drive.cut_at = chance.randrange(counting.operations + 20)
            try:
                result = build(image, drive, silent, verify=chance.random() < 0.7)
            except DriveGone as gone:
                assert gone.exit_code == 5
                assert "same command" in gone.advice
                assert_sealed_only_when_finished(memory.data, finished)
                continue
            drive.close()
            resumed += result.bytes_found_right > 0
            break
        assert memory.data == finished
    assert resumed > part_of(50) // 10, "hardly any build went on from where it was cut"


def test_a_drive_that_lies_about_flushing_is_resumed_to_the_same_drive(image: DriveImage, finished: bytes) -> None:
    chance = random.Random(7)
    counting = FaultyDrive(MemoryDrive(image.size), Faults(volatile_cache=BLOCK))
    build(image, counting, silent)
    for seed in range(20):
        memory = MemoryDrive(image.size)
        drive = FaultyDrive(memory, Faults(volatile_cache=2 * BLOCK, lies_when_flushing=True), seed=seed)
        drive.cut_at = chance.randrange(counting.operations)
        with suppress(DriveGone):  # how often the flusher comes around differs: a late cut may come too late
            build(image, drive, silent)
        memory.data[: image.sector_size] = bytes(image.sector_size)  # a liar may have kept the seal and lost the rest
        build(image, memory, silent)
        assert memory.data == finished


KILLED = """
import os, sys
sys.path.insert(0, sys.argv[1])
from pathlib import Path
from lucky_keystone.building import stream
from lucky_keystone.building.build import build
from lucky_keystone.content.contents import BLOCK
from lucky_keystone.drives.image_file import ImageFile
from tests.helpers.drives import small_image
stream._LEAST_PAUSE = stream._LONGEST_PAUSE = 0
image = small_image(Path(sys.argv[2]))
for line in sys.stdin:
    child = os.fork()
    if child == 0:
        with ImageFile(Path(line.strip()), write=True) as target:
            build(image, target, lambda *_: None)
        os._exit(0)
    print(child, flush=True)
    print(os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]), flush=True)
"""


@pytest.mark.posix
def test_kills_on_an_image_file(disc: Path, image: DriveImage, finished: bytes, tmp_path: Path) -> None:
    chance = random.Random(3)
    path = tmp_path / "killed.img"
    root = str(Path(__file__).parents[2])
    kills, ended, longest = 0, 0, 0.0
    command = [sys.executable, "-c", KILLED, root, str(disc)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
        assert server.stdin is not None
        assert server.stdout is not None
        ImageFile.make(path, image.size).close()
        while kills < part_of(200):
            server.stdin.write(f"{path}\n")
            server.stdin.flush()
            child = int(server.stdout.readline())
            started = time.monotonic()
            if (kills + ended) % 20:  # one in twenty is not killed: it says how long a build takes at the moment
                time.sleep(chance.random() * longest)
                subprocess.run(["kill", "-9", str(child)], check=False, stderr=subprocess.DEVNULL)
            code = int(server.stdout.readline())
            longest = longest if (kills + ended) % 20 else time.monotonic() - started
            with path.open("rb") as stream:
                if any(stream.read(512)):
                    assert path.read_bytes() == finished
            if code == 0:
                ended += 1
                path.unlink()
                ImageFile.make(path, image.size).close()
            else:
                assert code == -9
                kills += 1
    with ImageFile(path, write=True) as target:
        build(image, target, silent)
    assert path.read_bytes() == finished
    assert ended > 1


@pytest.mark.parametrize("part", range(4))
def test_runs_with_faults_at_random(part: int, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Whatever is wrong with a drive.

    The right exit code, a message that says what next, and nothing that looks finished.
    """
    image = small_image(small_disc(tmp_path_factory.mktemp("tiny") / "tiny.iso"))
    sound = MemoryDrive(image.size)
    build(image, sound, silent)
    finished = bytes(sound.data)
    chance = random.Random(part)
    outcomes: dict[str, int] = {}
    for number in range(part_of(250)):
        memory = MemoryDrive(image.size)
        drive = Retrying(
            FaultyDrive(memory, _random_faults(chance, image.size), seed=number, wait=lambda _: None), pauses=(0, 0)
        )
        interrupt_at = chance.randrange(1, 30) if chance.random() < 0.2 else -1
        calls = iter(range(10_000))

        def progress(stage: str, done: int, total: int, calls=calls, interrupt_at=interrupt_at) -> None:
            if next(calls) == interrupt_at:
                raise KeyboardInterrupt

        outcome = "done"
        try:
            build(image, drive, progress)
            assert memory.data == finished
        except KeystoneError as error:
            outcome = type(error).__name__
            assert (error.exit_code, isinstance(error, DriveError)) in ((5, True), (130, False))
            assert error.message.endswith(".")
            assert "not finished" in error.advice
            assert (
                isinstance(error, Interrupted)
                or "byte" in error.message
                or "disconnected" in error.message
                or "flush" in error.message
            )
            assert_sealed_only_when_finished(memory.data, finished)
        outcomes[outcome] = outcomes.get(outcome, 0) + 1
        build(image, memory, silent)  # the fault is mended: the same command ends well
        assert memory.data == finished
    assert all(
        outcomes.get(kind, 0) > part_of(250) // 50 for kind in ("done", "DriveError", "DriveGone", "Interrupted")
    ), outcomes


def _random_faults(chance: random.Random, size: int) -> Faults:
    def places() -> list[tuple[int, int]]:
        return [(chance.choice([0, 512, 1 << 20, chance.randrange(12 << 20)]), chance.choice([1, 4096, 1 << 20]))]

    kind = chance.choice(["none", "reading", "writing", "passing", "forgets", "vanishes", "fake", "volatile"])
    return {
        "none": Faults(),
        "reading": Faults(fails_reading=places()),
        "writing": Faults(fails_writing=places()),
        "passing": Faults(fails_writing=places(), fails_reading=places(), failures=chance.choice([1, 2])),
        "forgets": Faults(forgets=places()),
        "vanishes": Faults(vanishes_after=chance.randrange(1, 12 << 20)),
        "fake": Faults(
            real_size=chance.choice([2, 4, 8]) << 20,
            beyond=chance.choice(["repeats", "lost", "ones", "noise", "fails"]),
        ),
        "volatile": Faults(volatile_cache=chance.choice([4096, BLOCK])),
    }[kind]
