"""How many words a plain command prints: what grows beyond its ceiling is read by nobody.

The ceilings are for the small disc of the tests.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from ..helpers.program import run

CEILINGS = [
    ("build", 120, ["build", "{disc}", "--onto", "{new}"]),
    ("update", 130, ["build", "{disc}", "--onto", "{built}", "--update", "--add", "{added}", "--yes"]),
    ("plan", 190, ["plan", "{disc}"]),
    ("plan -q", 70, ["plan", "{disc}", "-q"]),
    ("check", 95, ["check", "{built}"]),
    ("mend", 85, ["mend", "{built}", "--dry-run"]),
    ("inspect", 110, ["inspect", "{disc}"]),
    ("batch", 120, ["build", "--batch", "{batch}", "--yes"]),
]


@pytest.mark.parametrize(("name", "ceiling", "words"), CEILINGS)
def test_a_plain_command_is_short(
    name: str, ceiling: int, words: list[str], disc: Path, copy_of: Callable[[], Path], tmp_path: Path
) -> None:
    added, batch = tmp_path / "more", tmp_path / "batch.csv"
    added.mkdir()
    (added / "berths.txt").write_text("07:40 berth three\n")
    batch.write_text(f"drive,source\na.img,{disc}\nb.img,{disc}\n")
    names = {"disc": disc, "new": tmp_path / "new.img", "built": copy_of(), "added": added, "batch": batch}
    said = run(*(word.format_map(names) for word in words), cwd=tmp_path).stdout
    assert len(said.split()) <= ceiling, f"{name}:\n{said}"
