"""An installer's drive with some of its editions: what they hold is all there, what only the others need is not."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace

from lucky_keystone.common.errors import UsageError
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.sources.opening import open_source
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.split import divide, part_names
from lucky_keystone.wim.whole import WholeImage, verified

from ..helpers.drives import build_drive, check_file, files_on
from ..helpers.install_images import Item, install_image
from ..helpers.program import run, run_json
from ..helpers.releases import release, some


def installer(folder: Path, method: str = "none") -> Path:
    """An installer with three editions, of which each has large files of its own."""
    made = release(folder, build=26100)
    trees = [
        {"Windows": Item(None, {**{f"{n} {m}.dll": Item(some(f"{n} {m}", 150_000)) for m in range(6)},
                                "all.dll": Item(some("all", 4000))})}
        for n in range(3)
    ]  # fmt: skip
    (made / "sources/install.wim").write_bytes(install_image(trees, method, build=26100))
    return made


def held(image: WholeImage) -> dict[str, dict[str, bytes]]:
    """Return every edition's files with their proven bytes."""
    return {
        edition.name: {
            path: verified(image.content(entry, path), entry.sha1, path)
            for path, entry in image.tree(edition).walk()
            if not entry.is_folder
        }
        for edition in image.editions
    }


@pytest.mark.parametrize(
    ("choices", "method"),
    [
        (Choices(file_system="fat32"), "lzx"),
        (Choices(file_system="fat32", part_size=1 << 20), "none"),
        (Choices(file_system="ntfs"), "none"),
        (Choices(file_system="fat32+ntfs", firmware="uefi"), "none"),
    ],
)
def test_the_editions_on_the_drive_are_those_of_the_source(choices: Choices, method: str, tmp_path: Path) -> None:
    source = installer(tmp_path / "disc", method)
    whole = WholeImage([InstallImage(Literal((source / "sources/install.wim").read_bytes()), "install.wim")])
    built = build_drive(
        open_source(source), tmp_path / "drive.img", replace(choices, edition="3,tidewell crew 1"), size=200 << 20
    )
    assert check_file(built.path).healthy
    found = {path.lower(): data for (_, path), data in files_on(built.path).items()}
    names = [name for name in part_names("install.wim", 9) if f"sources/{name}" in found] or ["install.wim"]
    assert (len(names) > 1) == bool(choices.part_size)
    parts = [InstallImage(Literal(found[f"sources/{name}"]), name) for name in names]
    everything = held(whole)
    assert held(WholeImage(parts)) == {name: everything[name] for name in ("Tidewell Crew 1", "Tidewell Crew 3")}
    assert sum(len(found[f"sources/{name}"]) for name in names) < (source / "sources/install.wim").stat().st_size * 0.72
    said = next(each for each in built.plan.decisions if each.topic == "editions")
    assert said.value == "2 of 3 in sources/install.wim: Tidewell Crew 1, Tidewell Crew 3"
    again = build_drive(
        open_source(source), tmp_path / "again.img", replace(choices, edition="3,1", identity="drive.img"),
        size=200 << 20,
    )  # fmt: skip
    assert [each.value for each in again.plan.decisions if each.topic == "editions"] == [said.value]


def test_the_program_keeps_editions(tmp_path: Path) -> None:
    source, drive = installer(tmp_path / "disc"), tmp_path / "drive.img"
    line = ["build", source, "--onto", drive, "--size", "100MB", "--edition", "Tidewell Crew 2", "--edition", "1"]
    assert "No faults" in run(*line).stdout
    assert "No faults" in run("check", drive, "--against", source).stdout
    before = drive.read_bytes()
    assert run_json(*line, "--yes")["result"]["bytes_written"] == 0  # the same command, the same drive
    assert drive.read_bytes() == before
    saved = tmp_path / "crew.toml"
    run("plan", source, "--edition", "2", "--edition", "1", "--save", saved)
    assert 'edition = "2,1"' in saved.read_text()
    run("build", saved, "--onto", tmp_path / "planned.img")
    all_of_them = run_json("plan", source, "--edition", "1", "--edition", "2", "--edition", "3")
    assert not [each for each in all_of_them["decisions"] if each["topic"] == "editions"]


@pytest.mark.parametrize(
    ("what", "said"),
    [
        ("a name", "has no edition 'Studio'"),
        ("two architectures", "keeps nothing of arm64/sources/install.wim"),
        ("parts", "is in 2 parts"),
        ("a rescue disc", "has no editions to keep"),
    ],
)
def test_what_cannot_be_kept(what: str, said: str, tmp_path: Path) -> None:
    source = installer(tmp_path / "disc")
    image = source / "sources/install.wim"
    edition = "Studio" if what == "a name" else "1"
    if what == "two architectures":
        source = release(tmp_path / "two", build=26100, architectures=("x64", "arm64"))
        edition = "x64/1"
    if what == "parts":
        parts = divide(InstallImage(Literal(image.read_bytes()), "install.wim"), 2 << 20)
        for name, part in zip(part_names("install.wim", len(parts)), parts, strict=True):
            (source / "sources" / name).write_bytes(b"".join(bytes(piece) for piece in stream(part.content)))
        image.unlink()
    if what == "a rescue disc":
        image.unlink()
    with pytest.raises(UsageError) as caught:
        make_plan(open_source(source), Choices(edition=edition, as_is=True), DriveShape("x.img", None))
    assert said in caught.value.message
