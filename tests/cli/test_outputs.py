"""What is written for people never costs them a file: plans, figures, pictures, tables, parts of an image."""

from __future__ import annotations

from pathlib import Path

import pytest
from matplotlib.image import imread, imsave

from lucky_keystone.common.errors import ProtectError
from lucky_keystone.common.outputs import OutputKind, Replacing, refuse_output, with_maker
from lucky_keystone.common.progress import silent
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.wim.export import write_parts
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.split import divide

from ..helpers.drives import Built, extract
from ..helpers.program import run

COMMANDS = [
    ["plan", "{disc}", "--save", "{out}"],
    ["plan", "{disc}", "--figure", "{out}"],
    ["gauge", "{drive}", "--figure", "{out}"],
    ["log", "--csv", "{out}"],
]


@pytest.mark.posix
@pytest.mark.parametrize("command", COMMANDS, ids=lambda command: f"{command[0]} {command[-2]}")
def test_only_files_of_ours_are_replaced(command: list[str], disc: Path, built: Built, tmp_path: Path) -> None:
    out, log = tmp_path / "timetable.png", tmp_path / "log.sqlite"

    def call(code: int, *further: str) -> str:
        filled = [word.format(disc=disc, drive=built.path, out=out) for word in command]
        return run(*filled, *further, code=code, log=log).stderr

    out.write_bytes(b"not ours")
    assert f"{out} exists, and is not a " in call(3)
    assert out.read_bytes() == b"not ours"
    call(0, "--overwrite")
    first = out.read_bytes()
    call(0)  # one of ours, of this kind
    assert out.read_bytes()[:40] == first[:40]
    out.unlink()
    precious = tmp_path / "precious"
    precious.write_bytes(b"precious")
    out.symlink_to(precious)
    assert "is a link, a folder or a device" in call(3, "--overwrite")
    assert precious.read_bytes() == b"precious"
    assert [path.name for path in tmp_path.iterdir() if path.name.startswith(".")] == []


def test_what_a_command_works_with_is_never_an_output(disc: Path, built: Built, tmp_path: Path) -> None:
    """Not the source, not the drive, not the record; under no name and with no option."""
    log = tmp_path / "record.png"
    run("gauge", built.path, log=log)
    (tmp_path / "alias.png").hardlink_to(disc)
    for command in (
        ["plan", disc, "--save", disc],
        ["plan", disc, "--figure", tmp_path / "alias.png"],
        ["plan", disc, "--for", built.path, "--save", built.path],
        ["gauge", built.path, "--figure", log],
        ["log", "--csv", log],
    ):
        before = [path.stat().st_mtime_ns for path in (disc, built.path)]
        assert "an output never replaces it" in run(*command, "--overwrite", code=3, log=log).stderr
        assert [path.stat().st_mtime_ns for path in (disc, built.path)] == before


def test_a_picture_with_our_name_in_it_is_known_as_ours(tmp_path: Path) -> None:
    plain = tmp_path / "a.png"
    imsave(plain, [[0.0, 1.0]])
    with pytest.raises(ProtectError):
        refuse_output(plain, OutputKind.FIGURE, Replacing())
    (tmp_path / "b.png").write_bytes(with_maker(plain.read_bytes()))
    refuse_output(tmp_path / "b.png", OutputKind.FIGURE, Replacing())
    assert imread(tmp_path / "b.png").shape[:2] == (1, 2)


@pytest.mark.posix
def test_parts_have_names_of_their_own_until_they_are_whole(disc: Path, tmp_path: Path) -> None:
    """No link is followed at an unfinished name, and a part that came there meanwhile stays."""
    image = extract(disc, tmp_path / "files") / "sources/install.wim"
    file = SourceFile(image)
    parts = divide(InstallImage(FileRange(file, 0, file.size), "install.wim"), 6 << 20)
    folder = tmp_path / "parts"
    folder.mkdir()
    paths = [folder / f"part{number}" for number in range(len(parts))]
    precious = tmp_path / "precious"
    precious.write_bytes(b"precious")
    (folder / "part0.unfinished").symlink_to(precious)

    def meanwhile(stage: str, done: int, whole: int) -> None:
        if done == whole:
            paths[-1].write_bytes(b"another run's")

    with pytest.raises(ProtectError, match="was made meanwhile"):
        write_parts(parts, paths, meanwhile)
    assert precious.read_bytes() == b"precious"
    assert paths[-1].read_bytes() == b"another run's"
    for path in paths:
        path.unlink(missing_ok=True)
    write_parts(parts, paths, silent)
    assert sorted(path.name for path in folder.iterdir()) == sorted(
        ["part0.unfinished", *(path.name for path in paths)]
    )
