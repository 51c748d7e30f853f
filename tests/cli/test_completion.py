"""What the shell is offered: tags of the bay, words of an option, files; never an error."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from lucky_keystone.demo.bay import make_bay
from lucky_keystone.drives.bay import Bay
from lucky_keystone.drives.guards import held_back

from ..helpers.drives import small_disc

pytestmark = pytest.mark.posix  # shells that ask so


def offered(line: str, cwd: Path, bay: Path | None = None) -> list[str]:
    """Return what bash would be offered behind `line`."""
    words = line.split(" ")
    settings = {
        **os.environ,
        "_LUCKY_KEYSTONE_COMPLETE": "bash_complete",
        "COMP_WORDS": line,
        "COMP_CWORD": str(len(words) - 1),
        **({"LUCKY_KEYSTONE_BAY": str(bay)} if bay else {}),
    }
    program = Path(sys.executable).with_name("lucky-keystone")
    done = subprocess.run([program], env=settings, cwd=cwd, capture_output=True, text=True, check=True)
    assert done.stderr == ""
    return [entry.partition(",")[2] for entry in done.stdout.splitlines() if entry]


@pytest.mark.parametrize(
    ("line", "some"),
    [
        ("lucky-keystone bu", ["build"]),
        ("lucky-keystone build x.iso --on", ["--onto"]),
        ("lucky-keystone check x.img --firmware b", ["bios", "both"]),
        ("lucky-keystone log --result f", ["faults", "failed"]),
        ("lucky-keystone schema pl", ["plan"]),
        ("lucky-keystone build x.iso --sector-size 4", ["4096"]),
        ("lucky-keystone build x.iso --waive s", ["secure-boot", "storage"]),
        ("lucky-keystone build x.iso --size 1", ["16GB", "128GB"]),
        ("lucky-keystone build x.iso --progress js", ["json"]),
    ],
)
def test_commands_options_and_words(line: str, some: list[str], tmp_path: Path) -> None:
    assert offered(line, tmp_path) == some


def test_editions_of_the_source_on_the_line(tmp_path: Path) -> None:
    small_disc(tmp_path / "t.iso")
    line = "lucky-keystone build t.iso --purpose portable --edition "
    assert offered(line, tmp_path) == offered("lucky-keystone inspect t.iso --edition ", tmp_path) == ["1", "2", "3"]
    (tmp_path / "t.iso").write_bytes(b"no disc")
    assert offered(line, tmp_path) == []
    assert offered(line.replace("t.iso", "https://127.0.0.1:9/t.iso"), tmp_path) == []


def test_tags_and_plan_files(tmp_path: Path) -> None:
    make_bay(tmp_path / "bay")
    drives = Bay(tmp_path / "bay").drives()
    tags = {drive.tag for drive in drives}
    free = {drive.tag for drive in drives if not held_back(drive, drives)}
    assert set(offered("lucky-keystone build x.iso --onto ", tmp_path, tmp_path / "bay")) == {"", *free}
    assert tags <= set(offered("lucky-keystone check ", tmp_path, tmp_path / "bay"))
    one = min(tags)
    assert one in offered(f"lucky-keystone check {one[:2].lower()}", tmp_path, tmp_path / "bay")
    # Plan files and sources are files: the shell completes them itself.
    assert offered("lucky-keystone build cre", tmp_path) == ["cre"]
