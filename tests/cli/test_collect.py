"""`collect`: one file with what a volunteer sends, and a stick that is ordinary storage again at the end."""

from __future__ import annotations

import json
from pathlib import Path

from ..helpers.program import run

_BAY = '[[drive]]\nfile = "stick.img"\nmodel = "Mudlark Mini"\nserial = "MM-1-SECRET"\n'


def test_a_volunteer_sends_one_file_without_serial_numbers(tmp_path: Path) -> None:
    bay, file = tmp_path / "bay", tmp_path / "bench 4.json"
    bay.mkdir()
    (bay / "bay.toml").write_text(_BAY)
    with (bay / "stick.img").open("wb") as stream:
        stream.truncate(160 << 20)
    tag = json.loads(run("drives", "--bay", bay, "--json").stdout)["drives"][0]["tag"]
    refused = run("collect", "--to", file, "--onto", tag, "--bay", bay, code=3)
    assert "would be erased, and made ordinary storage at the end" in refused.stderr
    assert not file.exists()

    told = run("collect", "--to", file, "--onto", tag, "--bay", bay, "--yes").stdout

    assert "Serial numbers are shortened" in told
    assert "SECRET" not in file.read_text("utf-8")
    document = json.loads(file.read_text("utf-8"))
    ran = [each["document"]["command"] for each in document["runs"]]
    assert ran == ["machine", "drives", "gauge", "build", "check", "build", "check", "mend", "reclaim"]
    assert {each["exit_code"] for each in document["runs"]} == {0}
    assert "on it: MBR: FAT32" in run("drives", "--bay", bay).stdout
    (tmp_path / "mine.json").write_text("{}")
    assert "exists" in run("collect", "--to", tmp_path / "mine.json", code=3).stderr
