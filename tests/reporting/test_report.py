"""The page to keep with a drive: what it says, that it needs nothing from elsewhere, and that it stays one sheet."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path

import pytest

from lucky_keystone.drawing.areas import DrawnBlock
from lucky_keystone.reporting.html import html_of
from lucky_keystone.reporting.page import Facts, Page, Picture, Verdicts, Words
from lucky_keystone.reporting.picture import _BOTTOM, _drawn, png_of

from ..helpers.program import run, run_json


class Text(HTMLParser):
    """Collects what a reader sees, and whatever would be fetched from elsewhere."""

    def __init__(self, data: bytes) -> None:
        super().__init__()
        self.seen: list[str] = []
        self.fetched: list[str] = []
        self.open: list[str] = []
        self.feed(data.decode())
        self.close()

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "path", "rect", "circle"):
            self.open.append(tag)
        self.fetched += [f"{tag} {name}" for name, _ in attrs if name in ("src", "href", "data", "xlink:href")]

    def handle_endtag(self, tag: str) -> None:
        if tag in self.open:
            assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if self.open and self.open[-1] not in ("style", "title"):
            self.seen.append(data)


def test_a_page_says_what_is_known_of_a_drive(disc: Path, tmp_path: Path) -> None:
    log, drive, page = tmp_path / "log.sqlite", tmp_path / "crew.img", tmp_path / "crew.html"
    (tmp_path / "crew.toml").write_text(
        'machine = 1\nname = "Crew 1"\narchitecture = "x64"\nuefi = "yes"\nuefi_width = 64\nsecure_boot = "off"\n'
    )
    machine = ["--machine", tmp_path / "crew.toml"]
    run("build", disc, "--onto", drive, "--file-system", "fat32+ntfs", *machine, log=log)
    document = run_json("report", drive, "--to", page, "--source", disc, *machine, log=log)
    assert (document["page"], document["check"]["healthy"]) == (str(page), True)
    read = Text(page.read_bytes())
    assert (read.fetched, read.open) == ([], [])
    said = " ".join(" ".join(read.seen).split())
    for words in (
        "crew.img: TIDEWELL_11",
        "No faults found",
        hashlib.sha256(disc.read_bytes()).hexdigest(),
        "GPT (Crew 1 starts by UEFI)",
        "NTFS 'TIDEWELL_11'",
        "FAT32 'LKEY START'",
        "✓ starts Crew 1 by UEFI 64-bit",
        "✗ will not start BIOS",
        "open its boot menu",
        "build done; from TIDEWELL_11",
        "Checked on ",
    ):
        assert words in said
    run("report", drive, "--to", tmp_path / "crew.png", log="off")
    head = (tmp_path / "crew.png").read_bytes()[:24]
    assert struct.unpack(">II", head[16:]) == (1240, 1754)
    other = tmp_path / "other"
    other.mkdir()
    (other / "readme.txt").write_text("no installer")
    run("report", drive, "--to", page, "--source", other, log="off")
    assert "is not what this drive was built from" in page.read_text()
    assert "What was decided" not in page.read_text()  # no record knows the reasons


def test_a_damaged_drive_has_its_page_too(copy_of: Callable[[], Path], tmp_path: Path) -> None:
    drive, page = copy_of(), tmp_path / "page.html"
    with drive.open("r+b") as file:
        file.seek(20 << 20)
        file.write(b"seagull" * 100)
    run("report", drive, "--to", page, code=1)
    assert "FAULT: " in page.read_text()
    page.write_text("a letter to the harbour master")
    assert "--overwrite" in run("report", drive, "--to", page, code=3).stderr
    assert "as .html or .png" in run("report", drive, "--to", tmp_path / "page.txt", code=2).stderr


def crowded(count: int) -> Page:
    words = "a reason <script>with [markup] & $signs$ of some length, as they are on real drives " * 2
    blocks = tuple(DrawnBlock(str(n), "NTFS", f"NTFS '<b>{n}'", n << 30, 1 << 30, 1 << 20, "active") for n in range(4))
    return Page(
        title="<G7KM>",
        subtitle="Ferry & Co",
        result="3 faults found",
        is_good=False,
        sections=(
            Facts("What it is", tuple((f"key {n}", words) for n in range(count))),
            Picture("The whole drive", 4 << 30, blocks),
            Verdicts("Where it starts", tuple((f"UEFI {n}", "not known", words) for n in range(count))),
            Words("What the check found", (words,) * count),
        ),
        closing="Checked",
    )


@pytest.mark.parametrize("count", [1, 9])
def test_a_crowded_page_stays_one_sheet_and_says_everything(count: int) -> None:
    page = crowded(count)
    read = Text(html_of(page))
    assert (read.fetched, read.open) == ([], [])
    assert sum("<script>" in words for words in read.seen) == 3 * count
    png_of(page)
    assert any(_drawn(page, size)[1] <= _BOTTOM for size in (10.0, 5.0))
