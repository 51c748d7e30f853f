"""An installer's drive with some of its editions: what they hold is all there, what only the others need is not."""

from __future__ import annotations

from pathlib import Path
from typing import Any

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
    other = older(tmp_path / "older")
    joined = ["build", source, "--with", other, "--onto", tmp_path / "both.img", "--size", "100MB"]
    assert "No faults" in run(*joined).stdout
    assert "No faults" in run("check", tmp_path / "both.img", "--against", source).stdout
    assert run_json(*joined, "--yes")["result"]["bytes_written"] == 0
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


def older(folder: Path, method: str = "none", **facts: Any) -> Path:
    """An installer of an earlier release; half of its files are those of the newer one."""
    made = release(folder, build=22000, **facts)
    trees = [
        {"Windows": Item(None, {**{f"{n} {m}.dll": Item(some(f"{n} {m}", 150_000)) for m in range(3)},
                                f"older {n}.dll": Item(some(f"older {n}", 70_000))})}
        for n in range(2)
    ]  # fmt: skip
    if "architectures" not in facts:
        (made / "sources/install.wim").write_bytes(install_image(trees, method, build=22000))
    return made


@pytest.mark.parametrize(
    ("choices", "kept"),
    [
        (Choices(file_system="fat32"), None),
        (Choices(file_system="fat32", part_size=1 << 20), None),
        (Choices(file_system="ntfs"), None),
        (Choices(file_system="ntfs"), [0, 2, 4]),
    ],
)
def test_editions_of_two_releases_in_one_list(choices: Choices, kept: list[int] | None, tmp_path: Path) -> None:
    places = [installer(tmp_path / "newer"), older(tmp_path / "older")]
    wholes = [WholeImage([InstallImage(Literal((each / "sources/install.wim").read_bytes()), "i")]) for each in places]
    if kept is not None:
        choices = replace(choices, edition=",".join(str(number + 1) for number in kept))
    source = open_source(places[0], further=[places[1]])
    built = build_drive(source, tmp_path / "drive.img", choices, size=200 << 20)
    assert check_file(built.path).healthy
    found = {path.lower(): data for (_, path), data in files_on(built.path).items()}
    names = [name for name in part_names("install.wim", 9) if f"sources/{name}" in found] or ["install.wim"]
    image = WholeImage([InstallImage(Literal(found[f"sources/{name}"]), name) for name in names])
    everything = [files for whole in wholes for files in held(whole).values()]
    assert list(held(image).values()) == [everything[n] for n in (kept if kept is not None else range(5))]
    versions = [edition.build for edition in image.editions]
    assert versions == [([26100] * 3 + [22000] * 2)[n] for n in (kept if kept is not None else range(5))]
    assert len({edition.name for edition in image.editions}) == len(versions)
    size = sum(len(found[f"sources/{name}"]) for name in names)
    assert size < sum((each / "sources/install.wim").stat().st_size for each in places) * 0.8  # what both have is once
    said = next(each for each in built.plan.decisions if each.topic == "editions")
    assert said.value.startswith(f"{len(versions)} of 5 in sources/install.wim: ")
    assert "not proven here" in said.reason


@pytest.mark.parametrize(
    ("what", "said"),
    [
        ("the older one first", "is newer than"),
        ("packed otherwise", "one image has one packing"),
        ("a rescue disc", "Name the installer first"),
        ("the same once more", "has no edition that is not there already"),
    ],
)
def test_releases_that_do_not_go_together(what: str, said: str, tmp_path: Path) -> None:
    newer = installer(tmp_path / "newer", "lzx" if what == "packed otherwise" else "none")
    other = older(tmp_path / "older", "xpress" if what == "packed otherwise" else "none")
    if what == "a rescue disc":
        for name in ("sources/install.wim", "setup.exe"):
            (other / name).unlink()
    if what == "the same once more":
        other = newer
    first, second = (other, newer) if what in ("the older one first", "a rescue disc") else (newer, other)
    told = run("plan", first, "--with", second, code=4 if what == "packed otherwise" else 2).stderr
    assert said in told


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
