"""`rehearse --firmware`: a real start, a picture of the screen, and a drive that stays as it was."""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

import pytest

from lucky_keystone.cli.main import main

from ..helpers.drives import Built
from .emulator import FIRMWARES, find_image

pytestmark = pytest.mark.lab


def test_a_real_start_keeps_the_drive_and_a_picture(
    built: Built, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    if find_image(FIRMWARES["uefi-x64"].images) is None:
        pytest.skip("no firmware is installed")
    before = hashlib.sha256(built.path.read_bytes()).digest()
    monkeypatch.chdir(tmp_path)
    assert main(["rehearse", str(built.path), "--firmware", "uefi-x64", "--seconds", "3600", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert (told["firmware"], told["ended"]) == ("UEFI 64-bit", True)
    assert "TIDEWELL UEFI DONE" in told["serial"]
    picture = tmp_path / told["picture"]
    assert picture.read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    assert hashlib.sha256(built.path.read_bytes()).digest() == before


def test_what_is_not_installed_is_named(
    built: Built, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setenv("PATH", "")
    assert main(["rehearse", str(built.path), "--firmware", "uefi-arm64"]) == 2
    assert "qemu-system-aarch64 is not installed" in capsys.readouterr().err
