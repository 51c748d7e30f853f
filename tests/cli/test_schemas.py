"""The documents for programs: schemas as shipped are those of the declarations, and what the program prints fits."""

from __future__ import annotations

import json
import runpy
import subprocess
import sys
from copy import deepcopy
from pathlib import Path

import pytest

from lucky_keystone.cli.documents import DOCUMENTS

from ..helpers.program import run, run_json
from ..helpers.schemas import fits, strict

TOOL = Path(__file__).parent.parent.parent / "tools/make-schemas"
PROGRAM = [sys.executable, "-m", "lucky_keystone"]


@pytest.mark.parametrize("name", DOCUMENTS)
def test_shipped_schemas_are_those_of_the_declarations_and_examples_fit(name: str) -> None:
    made = runpy.run_path(str(TOOL))["schema_of"](name)
    assert json.loads(run("schema", name).stdout) == json.loads(json.dumps(made))
    example = json.loads(run("schema", name, "--example").stdout)
    fits(example, name)
    # What a validator that cannot fail would let through.
    for field in [*example]:
        less = deepcopy(example)
        del less[field]
        more = {**example, "surprise": 1}
        required = {"schema", "command"} & {*example} | ({*example} if name != "build" else {"proofs", "drives"})
        assert field not in required or not strict(name).is_valid(less)
        assert not strict(name).is_valid(more)


def test_every_document_of_a_job_fits(disc: Path, tmp_path: Path) -> None:
    """All commands, in all their forms, also where they fail."""
    drive, other, log = tmp_path / "a.img", tmp_path / "b.img", tmp_path / "log.sqlite"
    spoilt, presets = tmp_path / "spoilt.img", tmp_path / "presets.toml"
    presets.write_text("presets = 1\n[preset.crew]\nlabel = 'CREW'\n")
    lines: list[tuple[str, list[object], int]] = [
        ("drives", [], 0),
        ("inspect", [disc, "--verify-source"], 0),
        ("inspect", ["--find"], 0),
        ("plan", [disc, "--part-size", "8MiB"], 0),
        ("build", [disc, "--onto", drive, "--identity", "crew"], 0),
        ("build", [disc, "--onto", drive, "--identity", "crew", "--update", "--yes"], 0),
        ("build", [disc, "--onto", other, "--onto", tmp_path / "c.img"], 0),
        ("check", [drive, "--against", disc], 0),
        ("gauge", [drive], 0),
        ("gauge", [drive, "--restore"], 0),
        ("rehearse", [drive], 0),
        ("machine", ["--for", disc], 0),
        ("presets", ["--config", presets], 0),
        ("mend", [drive], 0),
        ("mend", [spoilt, "--yes"], 0),
        ("reclaim", [other, "--yes"], 0),
        ("log", [], 0),
        ("error", ["check", tmp_path / "none.img"], 2),
        ("error", ["sail"], 2),
    ]
    for name, words, code in lines:
        if name == "mend":
            spoilt.write_bytes(bytes(440) + drive.read_bytes()[440:])
        line = words if name == "error" else [name, *words]
        fits(run_json(*line, code=code, log=log), name)
    drive.write_bytes(drive.read_bytes().replace(b"EFI PART", b"EFI TRAP").replace(b"FAT32", b"FAT33"))
    fits(run_json("check", drive, code=1), "check")


def test_progress_as_json_lines(disc: Path, tmp_path: Path) -> None:
    """On standard error, whatever standard output is; each stage ends with a line that says so."""
    words = ["build", str(disc), "--onto", str(tmp_path / "a.img"), "--json", "--progress", "json"]
    done = subprocess.run([*PROGRAM, *words], capture_output=True, text=True, check=True)
    fits(json.loads(done.stdout), "build")
    events = [json.loads(line) for line in done.stderr.splitlines()]
    for event in events:
        fits(event, "progress")
        assert 0 <= event["done"] <= event["total"]
    ended = [event["stage"] for event in events if event["ended"]]
    assert ended[:3] == ["writing", "reading back", "sealing"]
    assert len(ended) == len(set(ended))
