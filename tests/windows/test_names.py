"""What Windows' names, numbers and command lines mean: text alone, so judged on every system."""

from __future__ import annotations

import errno
from pathlib import Path

import pytest

from lucky_keystone.common import positional
from lucky_keystone.common.errors import DriveError, SourceError
from lucky_keystone.common.os_errors import Trouble, trouble
from lucky_keystone.common.shell import command_line
from lucky_keystone.drives.image_file import ImageFile, holds_holes
from lucky_keystone.wim.taking import refuse_names_windows_reads_otherwise
from lucky_keystone.winapi.names import DevicePath, extended, letter_in, share_in, volume_in

from .kernel import winerror

VOLUME = r"\\?\Volume{26c21ccc-0926-11ef-b864-0800200c9a66}"


@pytest.mark.parametrize(
    ("given", "letter", "share", "volume", "long"),
    [
        ("e:", "E:", ("", ""), "", ""),
        ("E:\\", "E:", ("", ""), "", ""),
        (r"\\.\E:", "E:", ("", ""), "", r"\\.\E:"),
        (r"E:\x.iso", "", ("", ""), "", r"\\?\E:\x.iso"),
        ("E:x.iso", "", ("", ""), "", ""),
        (r"\\pier\isos\x.iso", "", ("pier", "isos"), "", r"\\?\UNC\pier\isos\x.iso"),
        (r"\\?\UNC\pier\E$\x.iso", "", ("pier", "E$"), "", r"\\?\UNC\pier\E$\x.iso"),
        (VOLUME + r"\x.iso", "", ("", ""), VOLUME, VOLUME + r"\x.iso"),
        (r"\\.\PhysicalDrive2", "", ("", ""), "", r"\\.\PhysicalDrive2"),
    ],
)
def test_names(given: str, letter: str, share: tuple[str, str], volume: str, long: str) -> None:
    assert (letter_in(given), share_in(given), volume_in(given)) == (letter, share, volume)
    assert not long or extended(given) == long


def test_a_device_stays_its_name() -> None:
    """Some versions of Python end the path of a device with a backslash: a folder that is not there."""
    device = DevicePath("\\\\.\\PhysicalDrive2\\")
    assert (str(device), device.name, f"{device}") == (r"\\.\PhysicalDrive2", "PhysicalDrive2", r"\\.\PhysicalDrive2")


@pytest.mark.parametrize(
    ("error", "kind"),
    [
        (winerror(23), Trouble.PASSING),
        (winerror(27), Trouble.PASSING),
        (winerror(1117), Trouble.PASSING),
        (winerror(1617), Trouble.GONE),
        (winerror(1167), Trouble.GONE),
        (winerror(1110), Trouble.NO_MEDIUM),
        (winerror(21), Trouble.NO_MEDIUM),
        (winerror(5), Trouble.DENIED),
        (winerror(32), Trouble.IN_USE),
        (winerror(112), Trouble.FULL),
        (winerror(87), Trouble.OTHER),
        (OSError(errno.EIO, ""), Trouble.PASSING),
        (OSError(errno.ENODEV, ""), Trouble.GONE),
        (OSError(errno.EACCES, ""), Trouble.DENIED),
    ],
)
def test_an_error_is_what_the_system_means_by_it(error: OSError, kind: Trouble) -> None:
    """The C runtime says EACCES of a checksum error, and EINVAL of a device that fails."""
    assert trouble(error) is kind


@pytest.mark.parametrize(
    ("words", "windows", "posix"),
    [
        (["build", r"E:\isos\x.iso"], r"build E:\isos\x.iso", r"build 'E:\isos\x.iso'"),
        (["check", "counter 4.img"], 'check "counter 4.img"', "check 'counter 4.img'"),
        (["split", "C:\\old & new\\"], 'split "C:\\old & new\\\\"', "split 'C:\\old & new\\'"),
        (["split", "a&b"], 'split "a&b"', "split 'a&b'"),
        (["demo", ""], 'demo ""', "demo ''"),
    ],
)
def test_command_lines_are_quoted_for_the_shell(words: list[str], windows: str, posix: str) -> None:
    assert command_line(words, windows=True) == f"lucky-keystone {windows}"
    assert command_line(words, windows=False) == f"lucky-keystone {posix}"


@pytest.mark.parametrize(
    "path", ["C:evil.dll", "a/a.txt:x", "..\\up", "Aux", "b/nul.txt", "com¹", "dot.", "end ", "a?"]
)
def test_names_that_lead_elsewhere_on_windows_are_not_taken(path: str) -> None:
    with pytest.raises(SourceError, match="not a file name on Windows"):
        refuse_names_windows_reads_otherwise(["Windows/notepad.exe", path])
    refuse_names_windows_reads_otherwise(["Windows/System32/auxiliary.dll", ".hidden/com.txt", "Über 東.txt"])


def test_where_zeros_are_stored_a_large_file_is_refused_before_it_is_made(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with ImageFile.make(tmp_path / "sparse.img", 1 << 40) as image:
        image.write_zeros(1 << 30, 1 << 20)
    assert (tmp_path / "sparse.img").stat().st_blocks < 1 << 10
    assert holds_holes(tmp_path)
    with pytest.raises(DriveError, match=r"may take 1024 TiB, and .* are free"):
        ImageFile.make(tmp_path / "full.img", 1 << 50, 1 << 50)
    monkeypatch.setattr(positional, "make_sparse", lambda _: False)
    with pytest.raises(DriveError, match="stores zeros as well"):
        ImageFile.make(tmp_path / "full.img", 1 << 50, 4096)
    assert not holds_holes(tmp_path)
    assert [path.name for path in tmp_path.iterdir()] == ["sparse.img"]
