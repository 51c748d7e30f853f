"""Sources that are not whole, or no sources at all: refused by name before anything is erased, or built as they are."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest

from lucky_keystone.content.contents import Literal
from lucky_keystone.demo.disk_image import Part, write_disk_image
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.facts import SourceFacts
from lucky_keystone.families.families import facts_of
from lucky_keystone.sources.opening import open_source
from lucky_keystone.wim.records import Header, ResourceHeader

from ..helpers.drives import build_drive, check_file, extract
from ..helpers.program import run, run_json

MIB = 1 << 20


@pytest.fixture(scope="module")
def whole(disc: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The disc's files in a folder."""
    return extract(disc, tmp_path_factory.mktemp("copied") / "whole")


@pytest.fixture
def copied(whole: Path, tmp_path: Path) -> Path:
    return shutil.copytree(whole, tmp_path / "copied")


def zeroed(path: Path, field: str) -> None:
    """Make a table of an install image zeros, as a broken download leaves it."""
    data = bytearray(path.read_bytes())
    place = ResourceHeader.unpack(getattr(Header.unpack(bytes(data[: Header.SIZE])), field))
    data[place.offset : place.offset + place.stored_size] = bytes(place.stored_size)
    path.write_bytes(data)


def cut(path: Path, size: int) -> None:
    path.write_bytes(path.read_bytes()[:size])


def split(folder: Path) -> None:
    """Leave the install image in parts of which one is missing, and one another image's."""
    parts = folder / "parts"
    run("split", folder / "sources/install.wim", "--into", parts, "--part-size", "6MiB")
    (folder / "sources/install.wim").unlink()
    for part in parts.iterdir():
        part.rename(folder / "sources" / part.name)
    parts.rmdir()
    (folder / "sources/install2.swm").unlink()
    (folder / "sources/install3.swm").write_bytes((folder / "sources/install.swm").read_bytes())


BROKEN: dict[str, tuple[Callable[[Path], object], str]] = {
    "cut": (lambda f: cut(f / "sources/install.wim", 5 * MIB), "sources/install.wim, lookup table: "),
    "header": (lambda f: cut(f / "sources/install.wim", 100), "sources/install.wim, header: "),
    "empty": (lambda f: cut(f / "sources/install.wim", 0), "sources/install.wim, header: only 0 bytes"),
    "lookup table": (lambda f: zeroed(f / "sources/install.wim", "lookup_table"), "lookup table entry 0"),
    "XML": (lambda f: zeroed(f / "sources/install.wim", "xml"), "sources/install.wim, XML: "),
    "integrity": (lambda f: zeroed(f / "sources/install.wim", "integrity"), "install.wim, integrity table: "),
    "setup": (lambda f: zeroed(f / "sources/boot.wim", "xml"), "sources/boot.wim, XML: "),
    "missing": (lambda f: (f / "sources/install.wim").unlink(), "There is no install image (install.wim"),
    "loader": (lambda f: (f / "bootmgr").write_bytes(bytes(9000)), "bootmgr holds only zeros"),
    "parts": (split, "sources/install2.swm is missing: sources/install.swm has 4 parts."),
    "foreign part": (split, "sources/install3.swm is not part 3"),
}


@pytest.mark.parametrize("what", BROKEN)
def test_a_source_that_cannot_be_whole_is_refused_by_name(what: str, copied: Path, tmp_path: Path) -> None:
    damage, told = BROKEN[what]
    damage(copied)
    drive = tmp_path / "drive.img"

    assert told in "\n".join(run_json("inspect", copied)["facts"]["damage"])
    assert "Incomplete or damaged" in run("inspect", copied).stdout
    for command in (["plan", copied], ["build", copied, "--onto", drive]):
        refused = run(*command, code=4).stderr
        assert "is incomplete or damaged: " in refused
        assert "--as-is" in refused
    assert not drive.exists()


def test_an_image_whose_second_half_never_came(disc: Path, tmp_path: Path) -> None:
    """Full length, the rest zeros: what a download into a file of full length leaves when it breaks."""
    half = bytearray(disc.read_bytes())
    half[len(half) // 2 :] = bytes(len(half) - len(half) // 2)
    (tmp_path / "half.iso").write_bytes(half)
    told = run("build", tmp_path / "half.iso", "--onto", tmp_path / "drive.img", code=4).stderr
    assert "sources/install.wim" in told
    assert not (tmp_path / "drive.img").exists()


def test_as_is_builds_it_and_every_later_check_says_so(copied: Path, tmp_path: Path) -> None:
    zeroed(copied / "sources/install.wim", "xml")
    drive, plan = tmp_path / "drive.img", tmp_path / "plan.toml"
    run("plan", copied, "--as-is", "--save", plan)
    run("build", plan, "--onto", drive)
    for _ in range(2):
        findings = run_json("check", drive)["findings"]
        assert [(found["code"], found["level"]) for found in findings] == [("source.not-whole", "note")]
        assert "sources/install.wim, XML" in findings[0]["what"]


def test_a_setup_environment_with_nothing_to_install_is_a_rescue_disc(copied: Path, tmp_path: Path) -> None:
    for name in ("sources/install.wim", "setup.exe", "sources/lang.ini"):
        (copied / name).unlink()
    source = open_source(copied)
    facts: SourceFacts = facts_of(source)
    assert (facts.family, facts.damage, len(facts.boot_images)) == ("windows-rescue", (), 1)
    assert "rescue disc" in run("inspect", copied).stdout
    drive = build_drive(source, tmp_path / "drive.img", Choices())
    assert check_file(drive.path).findings == []


def _disk_image() -> bytes:
    with TemporaryDirectory() as folder:
        path = Path(folder) / "mac.dmg"
        write_disk_image(path, [Part("nothing", Literal(b"\1" * MIB))], ["zlib"])
        return path.read_bytes()


STRANGE: list[tuple[str, bytes, str]] = [
    ("empty.iso", b"", "is empty"),
    ("short.iso", b"x" * 100, "has 100 bytes, too few"),
    ("zeros.iso", bytes(3 * MIB), "holds only zeros"),
    ("page.iso", b"\r\n<!DOCTYPE html><html>sign in</html>" + b" " * 600, "is a web page"),
    ("disc.iso.part", b"\x55" * 2 * MIB, "is an unfinished download of another program: 2,097,152 bytes are here"),
    ("studio.sparseimage", b"sprs" + b"\0\0\0\3" + bytes(4096), "is a sparse disk image of macOS"),
    ("disc.7z", b"7z\xbc\xaf\x27\x1c" + b"\x01" * 600, "is a 7z archive"),
    ("setup.exe", b"MZ" + b"\x01" * 600, "is a Windows program"),
    ("install.wim", b"MSWIM\0\0\0" + b"\x01" * 600, "is an install image on its own"),
    ("mac.dmg", _disk_image(), "is a macOS disk image, but holds no installer"),
    ("noise.iso", b"\x55" * 2 * MIB, "is neither a disc image nor an image with a partition table"),
]


@pytest.mark.parametrize(("name", "data", "told"), STRANGE)
def test_what_is_no_source_has_a_sentence_of_its_own(name: str, data: bytes, told: str, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(data)
    refused = run("build", tmp_path / name, "--onto", tmp_path / "drive.img", code=4).stderr
    assert f"{name} {told}" in refused
    assert "What next: " in refused


def test_a_disc_image_that_ends_before_its_volume(disc: Path, tmp_path: Path) -> None:
    """The files lie in front of the cut, so that only the volume's own size tells it."""
    import subprocess

    from ..helpers.judges import need

    folder = tmp_path / "files"
    for name in ("sources/boot.wim", "bootmgr"):
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(bytes(open_source(disc).root.find_file(name).content.read_at(0, 400)))  # type: ignore[union-attr, attr-defined]
    image = tmp_path / "plain.iso"
    subprocess.run([need("genisoimage"), "-quiet", "-o", image, folder], check=True, capture_output=True)
    data = bytearray(image.read_bytes())
    for offset, order in ((80, "little"), (84, "big")):  # ECMA-119 8.4.8: volume space size
        data[16 * 2048 + offset : 16 * 2048 + offset + 4] = (9000).to_bytes(4, order)  # type: ignore[arg-type]
    image.write_bytes(data)
    assert f"has 18,432,000 bytes, the image {len(data):,}" in " ".join(facts_of(open_source(image)).damage)


@pytest.mark.parametrize("wrong", ["no loaders", "damaged boot stores"])
def test_what_starts_nowhere_is_refused_before_anything_is_erased(wrong: str, copied: Path, tmp_path: Path) -> None:
    if wrong == "no loaders":
        shutil.rmtree(copied / "efi")
        (copied / "bootmgr").unlink()
    else:
        for path in ("boot/bcd", "efi/microsoft/boot/bcd"):
            (copied / path).write_bytes(b"regf" + b"rust" * 2048)
    stick = tmp_path / "stick.img"
    stick.write_bytes(b"\xa5" * (64 << 20))
    for line in (["plan", copied], ["build", copied, "--onto", stick, "--yes"]):
        told = run(*line, code=4).stderr
        assert "starts nowhere" in told
        assert "--as-is" in told
    assert stick.read_bytes() == b"\xa5" * (64 << 20)
    assert "starts nowhere" in run("inspect", copied).stdout
    run("build", copied, "--onto", stick, "--yes", "--as-is", code=1)
