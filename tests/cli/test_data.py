"""What the program keeps on a computer is listed, and goes when that is wanted: nothing that a drive waits for."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from lucky_keystone.common.checkout import commit_of

from ..helpers.drives import Built
from ..helpers.program import run


def test_all_of_it_goes_but_what_is_waited_for(built: Built, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    home = tmp_path / "lucky-keystone"
    (home / "images" / "arriving").mkdir(parents=True)
    (home / "images" / "arriving" / "half.iso.unfinished").write_bytes(b"half")
    (home / "images" / "arriving" / "timetable.ods").write_bytes(b"somebody's own")
    (home / "notes.txt").write_text("somebody's own")
    (home / "presets.toml").write_text("presets = 1\n")
    for name, place in (("STORE", "images"), ("CONFIG", "presets.toml"), ("JOURNALS", "journals")):
        monkeypatch.setenv(f"LUCKY_KEYSTONE_{name}", str(home / place))
    record, stick = home / "log.sqlite", tmp_path / "stick.img"
    stick.write_bytes(bytes(440) + built.path.read_bytes()[440:])

    def call(*words: object, code: int = 0) -> dict[str, object]:
        done = run(*words, "--json", code=code, log=record)
        return dict(json.loads(done.stdout))

    call("mend", stick, "--yes")
    waiting = home / "journals" / "stick.journal"
    waiting.write_bytes(b"what marks overwrote")
    seen = {each["what"]: each for each in call("data")["data"]}  # type: ignore[attr-defined]
    assert {what: each["files"] for what, each in seen.items()} == {
        "record": 1, "undo files": 1, "undo files that drives wait for": 1, "downloaded images": 1, "presets": 1,
    }  # fmt: skip
    assert seen["record"]["size"] == record.stat().st_size
    assert "no terminal to confirm on" in str(call("data", "--remove", code=3)["error"])
    assert record.exists()
    gone = call("data", "--remove", "--yes")["removed"]
    assert {Path(each).suffix for each in gone} == {".sqlite", ".mend", ".unfinished"}  # type: ignore[attr-defined]
    left = {path.relative_to(home).as_posix() for path in home.rglob("*") if path.is_file()}
    assert left == {"images/arriving/timetable.ods", "notes.txt", "presets.toml", "journals/stick.journal"}


def test_a_checkout_says_which_commit_it_is_at(tmp_path: Path) -> None:
    commit = "0123456789abcdef" * 2 + "01234567"
    git = tmp_path / ".git"
    (git / "refs/heads").mkdir(parents=True)
    assert commit_of(tmp_path) == ""
    (git / "HEAD").write_text("ref: refs/heads/main\n")
    (git / "packed-refs").write_text(f"# pack-refs\n{commit} refs/heads/main\n")
    assert commit_of(tmp_path) == commit
    (git / "refs/heads/main").write_text(commit[::-1] + "\n")
    assert commit_of(tmp_path) == commit[::-1]
    (git / "HEAD").write_text("ref: ../../etc/passwd\n")
    assert commit_of(tmp_path) == ""
    (git / "HEAD").write_bytes(b"\xff" * 40)
    assert commit_of(tmp_path) == ""
    git.rename(tmp_path / "elsewhere")
    (tmp_path / ".git").write_text("gitdir: elsewhere\n")
    (tmp_path / "elsewhere/HEAD").write_text(commit)
    assert commit_of(tmp_path) == commit
