"""What the pages say is held against what the program declares: commands, options, links, keys."""

from __future__ import annotations

import re
import shlex
from pathlib import Path

import click
import pytest

from lucky_keystone.cli.exit_codes import ENVIRONMENT
from lucky_keystone.cli.main import program
from lucky_keystone.families.choices import FIELDS

from ..helpers.program import run

ROOT = Path(__file__).parents[2]
PAGES = sorted([ROOT / "README.md", *ROOT.glob("docs/**/*.md"), ROOT / "examples" / "README.md"])
EXAMPLES = ROOT / "examples"
LINE = re.compile(r"(?:`|^\s*(?:\$ )?(?:sudo )?)lucky-keystone ([a-z]+(?: [^`\n]*)?)(?:`|$)", re.MULTILINE)
SPECIAL = ("help",)


@pytest.mark.parametrize("page", PAGES, ids=lambda page: str(page.relative_to(ROOT)))
def test_every_command_in_a_page_is_one(page: Path) -> None:
    """Its words are parsed by the command's own options; nothing is run."""
    context = click.Context(program, info_name="lucky-keystone")
    for line in LINE.findall(page.read_text("utf-8")):
        words = shlex.split(re.sub(r"\s#.*|;.*|\|.*", "", line).replace("...", ""))
        if words[0] in SPECIAL:
            continue
        command = program.get_command(context, words[0])
        assert command is not None, line
        try:
            command.make_parser(click.Context(command, info_name=words[0])).parse_args(words[1:])
        except click.UsageError as error:
            raise AssertionError(f"{line}: {error.message}") from error


@pytest.mark.parametrize("page", [*PAGES, ROOT / "CONTRIBUTING.md"], ids=lambda page: str(page.relative_to(ROOT)))
def test_every_link_leads_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#\s]+)[^)]*\)", page.read_text("utf-8")):
        assert target.startswith("https://") or (page.parent / target).exists(), target


def test_lists_in_the_pages_are_whole() -> None:
    formats, commands = (ROOT / "docs/formats.md").read_text(), (ROOT / "docs/commands.md").read_text()
    assert set(re.findall(r"^\| `choices\.(\w+)`", formats, re.MULTILINE)) == set(FIELDS)
    named = set(re.findall(r"^\| \[?`([a-z]+)", commands, re.MULTILINE))
    assert named == set(program.list_commands(click.Context(program)))
    guide = (ROOT / "docs/guide/README.md").read_text()
    assert set(re.findall(r"\(([a-z-]+\.md)\)", guide)) == {
        page.name for page in (ROOT / "docs/guide").glob("*.md") if page.name != "README.md"
    }
    read = {
        name for path in (ROOT / "src").rglob("*.py")
        for name in re.findall(r'"(LUCKY_KEYSTONE_[A-Z]+)"', path.read_text("utf-8"))
    }  # fmt: skip
    assert read == {name for name in ENVIRONMENT if name.startswith("LUCKY_KEYSTONE_")}


def test_the_examples_are_taken_as_they_are(disc: Path, tmp_path: Path) -> None:
    (tmp_path / "tidewell-11.iso").write_bytes(disc.read_bytes())
    for path in EXAMPLES.iterdir():
        (tmp_path / path.name).write_bytes(path.read_bytes())
    run("build", "crew.toml", "--onto", "crew.img", cwd=tmp_path)
    run("build", "--batch", "sticks.csv", "--yes", cwd=tmp_path)
    assert {path.name for path in tmp_path.glob("*.img")} == {"crew.img", "counter-a.img", "counter-b.img"}
    chosen = run("plan", "tidewell-11.iso", "--config", "presets.toml", "--preset", "counter", cwd=tmp_path).stdout
    assert "Counter 3" in chosen
    run("plan", "tidewell-11.iso", "--answer-file", "autounattend.xml", cwd=tmp_path)
    assert "Counter 3" in run("plan", "tidewell-11.iso", "--machine", "counter-3.toml", "-q", cwd=tmp_path).stdout
    told = run("fetch", "--catalogue", "shop.toml", "--release", "Tidewell 13", cwd=tmp_path, code=4).stderr
    assert "Tidewell 12" in told or "no image" in told.lower()
