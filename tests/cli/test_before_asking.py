"""What would keep a drive from being written is said before anything is planned or asked."""

from __future__ import annotations

import os
import shutil
import sys
from pathlib import Path
from types import SimpleNamespace

import pytest

from lucky_keystone.cli.main import main
from lucky_keystone.common.errors import DriveError
from lucky_keystone.common.shell import with_sudo
from lucky_keystone.doing.jobs import DriveJob
from lucky_keystone.doing.targets import choose


def test_a_place_that_may_not_be_written_is_refused_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "old.img").write_bytes(bytes(1 << 20))
    monkeypatch.setattr(os, "access", lambda *_, **__: False)
    for name, what in (("old.img", "write it is denied"), ("new.img", f"write into {tmp_path} is denied")):
        chosen = choose(str(tmp_path / name), None, None)
        with pytest.raises(DriveError, match=what):
            DriveJob("build", frozenset()).guard([chosen], ())
    assert not (tmp_path / "new.img").exists()


def test_too_little_space_is_told_before_the_plan(
    disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(shutil, "disk_usage", lambda _: SimpleNamespace(free=1 << 20))
    code = main(["build", str(disc), "--onto", str(tmp_path / "a.img")])
    said = capsys.readouterr()
    assert (code, said.out) == (5, "")
    assert f"{tmp_path} has 1 MiB free, and up to" in said.err
    assert not (tmp_path / "a.img").exists()


@pytest.mark.skipif(sys.platform == "win32", reason="there is no sudo")
def test_the_line_with_sudo_names_the_program_where_it_lies(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    program = tmp_path / "bin dir" / "lucky-keystone"
    program.parent.mkdir()
    program.touch()
    monkeypatch.setattr(sys, "argv", [str(program)])
    assert with_sudo(["build", "the disc.iso"]) == f"sudo '{program}' build 'the disc.iso'"
    monkeypatch.setattr(sys, "argv", ["/some/where/lucky_keystone/__main__.py"])
    assert with_sudo(["drives"]) == f"sudo {sys.executable} -m lucky_keystone drives"
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    assert with_sudo(["drives"]) == ""
