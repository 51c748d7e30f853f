"""Sources: the same tree and bytes as what was put on the disc, by other programs and by ours; facts; bad input."""

from __future__ import annotations

import errno
import hashlib
import io
import os
import shutil
import struct
import subprocess
import sys
from pathlib import Path

import pycdlib
import pytest

import lucky_keystone.sources.folder
from lucky_keystone.cli.main import main
from lucky_keystone.common import positional
from lucky_keystone.common.errors import SourceError
from lucky_keystone.common.progress import silent
from lucky_keystone.content.contents import stream
from lucky_keystone.content.tree import Folder
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.families.families import facts_of
from lucky_keystone.families.proving import verify_source
from lucky_keystone.sources.opening import open_source

from ..helpers.drives import extract
from ..helpers.judges import need


def sums_of_tree(tree: Folder) -> dict[str, str]:
    return {
        path: hashlib.sha256(b"".join(bytes(p) for p in stream(file.content))).hexdigest()
        for path, file in tree.files()
    }


def sums_of_folder(folder: Path) -> dict[str, str]:
    return {
        path.relative_to(folder).as_posix(): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in folder.rglob("*")
        if path.is_file()
    }


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Thousands of files, long and foreign names, empty files, a deep folder."""
    folder = tmp_path_factory.mktemp("files") / "cargo"
    (folder / "a/b/c/d/e/f").mkdir(parents=True)
    (folder / "a/b/c/d/e/f" / "Überfahrt nach 東京 und zurück.txt").write_text("einmal hin und zurück")
    (folder / "empty.flag").touch()
    (folder / "many").mkdir()
    for number in range(2500):
        (folder / "many" / f"waybill number {number:05}.dat").write_bytes(b"%d" % number * (number % 700))
    return folder


@pytest.mark.parametrize(
    ("options", "form"),
    [
        (["-udf", "-J"], "disc image (UDF)"),
        (["-J", "-joliet-long"], "disc image (ISO 9660, Joliet names)"),
        (["-R"], "disc image (ISO 9660, Rock Ridge names)"),
    ],
)
def test_discs_of_another_program_read_as_the_folder_they_were_made_of(
    options: list[str], form: str, files: Path, tmp_path: Path
) -> None:
    disc = tmp_path / "disc.iso"
    subprocess.run(
        [need("genisoimage"), "-quiet", "-input-charset", "utf-8", *options, "-o", disc, files],
        check=True,
        capture_output=True,
    )
    source = open_source(disc)

    assert source.form == form
    assert sums_of_tree(source.root) == sums_of_folder(files)


@pytest.mark.parametrize("options", [["-udf", "-J"], ["-J"], ["-R"]])
def test_a_file_of_several_extents_is_read_whole(options: list[str], tmp_path: Path) -> None:
    """A UDF extent is shorter than 1 GiB, so that 2.5 GiB need three.

    Marks at their borders and at the end are found.
    """
    marks = {0: b"bow", (1 << 30) - 2: b"first border", (2 << 30) - 5: b"second border", (5 << 29) - 5: b"stern"}
    (tmp_path / "in").mkdir()
    with (tmp_path / "in" / "large.bin").open("wb") as out:
        for offset, mark in marks.items():
            out.seek(offset)
            out.write(mark)
    disc = tmp_path / "disc.iso"
    subprocess.run(
        [need("genisoimage"), "-quiet", *options, "-allow-limited-size", "-o", disc, tmp_path / "in"],
        check=True,
        capture_output=True,
    )
    (name, file), *others = open_source(disc).root.files()

    assert (name.lower(), file.size, others) == ("large.bin", 5 << 29, [])
    assert {offset: file.content.read_at(offset, len(mark)) for offset, mark in marks.items()} == marks  # type: ignore[attr-defined]


def test_an_independent_reader_sees_our_disc_alike(disc: Path) -> None:
    theirs: dict[str, str] = {}
    reader = pycdlib.PyCdlib()
    reader.open(str(disc))
    for folder, _, names in reader.walk(udf_path="/"):
        for name in names:
            data = io.BytesIO()
            path = f"{folder.rstrip('/')}/{name}"
            reader.get_file_from_iso_fp(data, udf_path=path)
            theirs[path.lstrip("/")] = hashlib.sha256(data.getvalue()).hexdigest()
    reader.close()

    assert theirs == sums_of_tree(open_source(disc).root)


def test_folders_are_laid_over_a_disc(disc: Path, tmp_path: Path) -> None:
    (tmp_path / "over" / "Sources").mkdir(parents=True)
    (tmp_path / "over" / "Sources" / "LANG.INI").write_bytes(b"replaced")
    (tmp_path / "over" / "drivers.txt").write_bytes(b"added")
    source = open_source(disc, [tmp_path / "over"])
    before = open_source(disc)

    assert source.root.find_file("sources/lang.ini").size == 8  # type: ignore[union-attr]
    assert source.root.find_file("drivers.txt") is not None
    assert facts_of(source).file_count == facts_of(before).file_count + 1
    assert source.fingerprint != before.fingerprint


def efi(machine: int) -> bytes:
    """The headers of a UEFI application for a PE machine type."""
    return (
        b"MZ"
        + bytes(58)
        + struct.pack("<I", 64)
        + b"PE\0\0"
        + struct.pack("<H", machine)
        + bytes(86)
        + struct.pack("<H", 10)
        + bytes(64)
    )


def test_facts_of_a_disc(disc: Path) -> None:
    facts = facts_of(open_source(disc))

    assert (facts.family, facts.label, facts.architectures, facts.languages) == (
        "windows-setup",
        "TIDEWELL_11",
        ("x64",),
        ("en-GB",),
    )
    assert (facts.release, facts.build) == ("11.2.30110.41", 30110)
    assert [(loader.path, loader.firmware, loader.architecture) for loader in facts.loaders] == [
        ("bootmgr", "bios", "x86"),
        ("efi/boot/bootx64.efi", "uefi", "x64"),
    ]
    assert [edition.name for edition in facts.images[0].editions] == [
        "Tidewell Counter",
        "Tidewell Crew",
        "Tidewell Bridge",
    ]


def test_facts_of_media_for_two_architectures(disc: Path, tmp_path: Path) -> None:
    """x64/sources and x86/sources hold an image each; the header of a loader counts, not its name."""
    root = open_source(disc).root
    for architecture in ("x64", "x86"):
        (tmp_path / architecture / "sources").mkdir(parents=True)
        for name in ("boot.wim", "install.wim"):
            file = root.find_file(f"sources/{name}")
            (tmp_path / architecture / "sources" / name).write_bytes(b"".join(bytes(p) for p in stream(file.content)))  # type: ignore[union-attr]
    (tmp_path / "efi/boot").mkdir(parents=True)
    for name, machine in (("bootx64.efi", 0x8664), ("bootia32.efi", 0x014C), ("bootaa64.efi", 0x8664)):
        (tmp_path / "efi/boot" / name).write_bytes(efi(machine))
    facts = facts_of(open_source(tmp_path))

    assert facts.family == "windows-setup"
    assert [image.path for image in facts.images] == ["x64/sources/install.wim", "x86/sources/install.wim"]
    assert {loader.path: loader.architecture for loader in facts.loaders} == {
        "efi/boot/bootaa64.efi": "x64", "efi/boot/bootia32.efi": "x86", "efi/boot/bootx64.efi": "x64",
    }  # fmt: skip


def test_a_source_is_proven_by_sum_and_integrity_table(disc: Path, tmp_path: Path) -> None:
    source = open_source(disc)
    good = hashlib.sha256(disc.read_bytes()).hexdigest()
    assert len(verify_source(source, good.upper(), silent, integrity=True)) == 3
    with pytest.raises(SourceError, match="SHA-256 is"):
        verify_source(source, "0" * 64, silent, integrity=False)

    damaged = tmp_path / "damaged.iso"
    shutil.copyfile(disc, damaged)
    image = source.root.find_file("sources/install.wim")
    offset = image.content.where()[1] + 300_000  # type: ignore[union-attr]
    with damaged.open("r+b") as stream_out:
        stream_out.seek(offset)
        stream_out.write(b"\x5a\xa5")
    with pytest.raises(SourceError, match=r"damaged\.iso: sources/install\.wim: bytes \d+ to \d+ do not match"):
        verify_source(open_source(damaged), None, silent, integrity=True)


@pytest.mark.parametrize("kept", [0, 40_000, 600_000, 20_000_000])
def test_a_disc_that_ends_early_is_refused(kept: int, disc: Path, tmp_path: Path) -> None:
    short = tmp_path / "short.iso"
    short.write_bytes(disc.read_bytes()[:kept])

    with pytest.raises(SourceError) as refusal:
        open_source(short)
    assert str(short) in refusal.value.message
    assert refusal.value.advice


@pytest.mark.skipif(sys.platform == "win32", reason="how much a file takes is said by st_blocks")
def test_a_sparse_disc_costs_no_room(tmp_path: Path) -> None:
    disc = tmp_path / "disc.iso"
    write_disc(disc, installer(hollow_size=256 << 20, hollow_count=1), LABEL, MOMENT, silent)

    assert disc.stat().st_size > 256 << 20
    assert disc.stat().st_blocks * 512 < 64 << 20


@pytest.mark.parametrize(("place", "failures"), [("sources/install.wim", 99), ("sources/install.wim", 2), ("end", 99)])
def test_bad_sectors_of_a_disc(
    place: str, failures: int, disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One that stays bad is named by the file it spoils; --add with that file continues without it.

    One that can be read in the end holds nobody up, and neither does one that belongs to no file.
    """
    source = open_source(disc)
    file = source.root.find_file("sources/install.wim")
    assert file is not None
    spoilt = file.content.offset + 3 * 2048 if place != "end" else disc.stat().st_size - 2048  # type: ignore[attr-defined]
    original, tries = positional.read_into, 0

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        nonlocal tries
        if offset <= spoilt < offset + len(view) and os.path.samestat(os.fstat(descriptor), disc.stat()):
            if spoilt > offset:  # as the system does: what lies in front of it comes first
                return original(descriptor, view[: spoilt - offset], offset)
            tries += 1
            if tries <= failures:
                raise OSError(errno.EIO, "Input/output error")
        return original(descriptor, view, offset)

    monkeypatch.setattr(positional, "read_into", read_into)
    command = ["build", str(disc), "--onto", str(tmp_path / "drive.img"), "--part-size", "6MiB"]
    fails = place != "end" and failures > 3
    assert main(command) == (4 if fails else 0)
    if fails:
        with pytest.raises(SourceError, match=r"sources/install.wim cannot be read at its byte 6,144 of .* in 4 tries"):
            verify_source(source, None, silent, integrity=True)
        copy = tmp_path / "copy/sources/install.wim"
        copy.parent.mkdir(parents=True)
        monkeypatch.undo()
        copy.write_bytes(b"".join(bytes(p) for p in stream(file.content)))
        monkeypatch.setattr(positional, "read_into", read_into)
        assert main([*command, "--add", str(tmp_path / "copy"), "--yes"]) == 0


@pytest.mark.parametrize("what", ["grown", "rewritten", "exchanged", *(["a pipe"] if hasattr(os, "mkfifo") else [])])
def test_a_source_that_changes_while_it_is_used_is_noticed(what: str, tmp_path: Path) -> None:
    path = tmp_path / "fares.bin"
    path.write_bytes(b"fares" * 1000)
    content = open_source(tmp_path).root.entries["fares.bin"].content  # type: ignore[union-attr]
    if what == "grown":
        with path.open("ab") as file:
            file.write(b"more")
    elif what == "rewritten":
        path.write_bytes(b"faked" * 1000)
    else:
        path.unlink()
        path.write_bytes(b"fares" * 1000) if what == "exchanged" else os.mkfifo(path)
    with pytest.raises(SourceError, match=r"changed or was replaced|neither a file nor a disk"):
        list(stream(content))


@pytest.mark.skipif(sys.platform == "win32", reason="links need a permission there")
def test_links_that_leave_a_folder_are_named_and_refused_under_sudo(
    disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = extract(disc, tmp_path / "installer")
    (tmp_path / "image.wim").write_bytes((folder / "sources/install.wim").read_bytes())
    (folder / "sources/install.wim").unlink()
    (folder / "sources/install.wim").symlink_to(tmp_path / "image.wim")
    assert f"sources/install.wim is a link to {tmp_path / 'image.wim'}" in " ".join(facts_of(open_source(folder)).notes)
    monkeypatch.setattr(lucky_keystone.sources.folder, "elevated_for", lambda: (1000, 1000))
    with pytest.raises(SourceError, match="is a link that leaves"):
        open_source(folder)


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ((b"B.TXT;1", b"A.TXT;1", 0), "'A.TXT' appears twice"),
        ((b"A.TXT;1", b"A.TXT;1", 0x80), "'A.TXT' continues in what is not its next extent"),
        ((b"B.TXT;1", b"B.TXT;1", 0x80), "'B.TXT' has no last extent"),
    ],
)
def test_folders_of_a_disc_that_lose_or_join_files(change: tuple[bytes, bytes, int], told: str, tmp_path: Path) -> None:
    """Two entries of one name, and marks that a file goes on where it does not: a file of either would be lost."""
    folder, image = tmp_path / "in", tmp_path / "disc.iso"
    folder.mkdir()
    for name in ("a.txt", "b.txt"):
        (folder / name).write_text(name)
    subprocess.run([need("genisoimage"), "-quiet", "-o", image, folder], check=True, capture_output=True)
    data = bytearray(image.read_bytes())
    old, new, flag = change
    at = data.index(old)
    data[at : at + len(new)] = new
    data[at - 33 + 25] |= flag  # ECMA-119 9.1.6: file flags
    image.write_bytes(data)
    with pytest.raises(SourceError, match=told):
        open_source(image)


def test_the_end_of_a_disc_in_a_drive_is_not_read(disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Behind the volume lies a run-out that drives often cannot read: what an image would show there is not asked."""
    path, size = tmp_path / "disc", disc.stat().st_size
    path.write_bytes(disc.read_bytes() + bytes(300 * 1024))
    original = positional.read_into

    def read_into(descriptor: int, view: memoryview, offset: int) -> int:
        if offset + len(view) > size:
            raise OSError(errno.EIO, "Input/output error")
        return original(descriptor, view, offset)

    monkeypatch.setattr(positional, "read_into", read_into)
    monkeypatch.setattr(Path, "is_block_device", lambda self: self == path)
    source = open_source(path)
    assert facts_of(source).family == "windows-setup"
    assert source.fingerprint == open_source(disc).fingerprint
