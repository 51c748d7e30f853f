"""What each command loads before it does anything: a count, which no clock has to judge."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.helpers.program import PROGRAM, run

LIGHT = {"click"}
DRAWING_NOTHING = {*LIGHT, "msgspec", "typing_extensions"}
SHOWING = {*LIGHT, "msgspec", "platformdirs", "rich", "typing_extensions"}
READING = {*SHOWING, "asn1crypto", "blake3", "numpy"}
LOADED = [
    (["--help"], 15, LIGHT),
    (["--version"], 15, LIGHT),
    (["build", "--help"], 75, DRAWING_NOTHING),
    (["drives", "--bay", "{bay}"], 100, {*SHOWING, "blake3"}),
    (["log"], 35, SHOWING),
    (["images"], 65, {*SHOWING, "blake3"}),
    (["inspect", "{disc}"], 256, READING - {"numpy"}),
    (["plan", "{disc}"], 256, READING - {"numpy"}),
    (["check", "{drive}"], 276, READING),
]


@pytest.fixture(scope="module")
def names(tmp_path_factory: pytest.TempPathFactory, disc: Path) -> dict[str, str]:
    folder = tmp_path_factory.mktemp("loading")
    drive, bay = folder / "stick.img", folder / "bay"
    run("build", disc, "--onto", drive, "--yes")
    bay.mkdir()
    (bay / "bay.toml").write_text("[[drive]]\nfile = 'blank.img'\nmodel = 'Gull 8'\nserial = 'G-8'\n")
    (bay / "blank.img").write_bytes(bytes(1 << 20))
    return {"disc": str(disc), "drive": str(drive), "bay": str(bay)}


@pytest.mark.parametrize(("words", "most", "packages"), LOADED, ids=[" ".join(case[0]) for case in LOADED])
def test_a_command_loads_only_what_it_needs(
    words: list[str], most: int, packages: set[str], names: dict[str, str]
) -> None:
    """A name that starts with an underscore is a part of the interpreter, or of a package's own."""
    command = [PROGRAM[0], "-X", "importtime", *PROGRAM[1:], *(word.format_map(names) for word in words)]
    told = subprocess.run(command, capture_output=True, text=True, check=True).stderr
    assert_loaded(told, most, packages)


def test_completing_a_tag_loads_nothing_that_draws(names: dict[str, str]) -> None:
    words = {"_LUCKY_KEYSTONE_COMPLETE": "bash_complete", "COMP_CWORD": "6"}
    words |= {"COMP_WORDS": f"lucky-keystone build {names['disc']} --bay {names['bay']} --onto "}
    command = [PROGRAM[0], "-X", "importtime", "-c", "import sys; from lucky_keystone.cli.main import entry; "
               "sys.argv = ['lucky-keystone']; entry()"]  # fmt: skip
    told = subprocess.run(command, capture_output=True, text=True, check=True, env={**os.environ, **words})
    assert told.stdout.startswith("plain,")
    assert_loaded(told.stderr, 75, {*DRAWING_NOTHING, "blake3"})


def assert_loaded(told: str, most: int, packages: set[str]) -> None:
    """Judge what the interpreter says that it has loaded."""
    loaded = [line.rpartition("|")[2].strip() for line in told.splitlines() if line.startswith("import time:")]
    ours = [name for name in loaded if name.startswith("lucky_keystone")]
    others = {name.partition(".")[0] for name in loaded} - set(sys.stdlib_module_names) - {"lucky_keystone"}
    assert 0 < len(ours) <= most
    assert {name for name in others if not name.startswith("_")} - {
        "imported package",
        "org",
        "sitecustomize",
        "usercustomize",
    } <= packages
