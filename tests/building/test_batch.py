"""Batches: a row a drive, in as few passes as can be, each row's failure its own, and continued where it ended."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest

from lucky_keystone.cli.main import main
from lucky_keystone.common.errors import UsageError
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.doing.batch_file import BatchRow, in_passes, read_batch
from lucky_keystone.drives.bay import Bay
from lucky_keystone.families.choices import Choices

from ..helpers.drives import check_file, small_disc
from ..helpers.program import run, run_json

MIB = 1 << 20
SIZE = 96 * MIB


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "is empty"),
        ("# only a remark\n", "is empty"),
        ("drive,sorce\na.img,x\n", "line 1: there is no column 'sorce'"),
        ("drive,drive\na.img,x\n", "'drive' is there twice"),
        ("source\nx.iso\n", "there is no column 'drive'"),
        ("drive\n", "has 0 rows"),
        ("drive,source\na.img,x.iso\n\nb.img\n", "line 4 has 1 cells, the heading 2"),
        ("drive,source\n,x.iso\n", "line 2: 'drive' is empty"),
        ("drive,source,plan\na.img,x.iso,y.toml\n", "line 2 has both a source and a plan"),
        ("drive,plan,label\na.img,y.toml,CREW\n", "a plan has its label already"),
        ('drive\n"a.img\n', "is not valid CSV"),
        ("drive\n" + "a.img\n" * 1001, "has 1,001 rows"),
        (b"drive\n\xff.img\n", "is not UTF-8 text (byte 6)"),
    ],
)
def test_a_mistake_is_named_by_line(text: str | bytes, words: str, tmp_path: Path) -> None:
    path = tmp_path / "jobs.csv"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    with pytest.raises(UsageError) as raised:
        read_batch(path)
    assert words in raised.value.message


def test_a_spreadsheets_file_is_read(tmp_path: Path) -> None:
    path = tmp_path / "jobs.csv"
    path.write_bytes('\ufeffDrive; Label\r\nG7KM; "Crew; 2"\r\n# later\r\n;\r\nC4RW;\r\n'.encode())
    with pytest.raises(UsageError):
        read_batch(path)  # a quote behind a blank is none
    path.write_bytes('\ufeffDrive;Label\r\nG7KM;"Crew; 2"\r\n#later;\r\n;\r\nC4RW;\r\n'.encode())
    assert read_batch(path) == (BatchRow(line=2, drive="G7KM", label="Crew; 2"), BatchRow(line=5, drive="C4RW"))


def test_what_may_change_a_files_bytes_is_no_pass_with_others() -> None:
    rows = [Choices(label="A", waive="tpm"), Choices(label="B", waive="memory"), Choices(label="C", waive="tpm")]
    assert in_passes(rows, lambda each: (1, each)) == [[rows[0], rows[2]], [rows[1]]]
    assert len(in_passes(rows, lambda each: (each.label, each))) == 3


def bay_of(folder: Path, count: int) -> list[str]:
    """Make a bay of sticks, the second of which fails and the third of which is too small; return their tags."""
    folder.mkdir()
    text = ""
    for number in range(count):
        with (folder / f"{number}.img").open("wb") as file:
            file.truncate(SIZE if number != 2 else 8 * MIB)
        text += f'[[drive]]\nfile = "{number}.img"\nmodel = "Gangway"\nserial = "G-{number}"\n'
        text += f"[drive.faults]\nfails_writing = [[{20 * MIB}, 4096]]\n" if number == 1 else ""
    (folder / "bay.toml").write_text(text)
    return [drive.tag for drive in Bay(folder).drives()]


def test_twelve_drives_two_of_them_failing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    disc = small_disc(tmp_path / "small.iso", filling=40)
    tags = bay_of(tmp_path / "bay", 6)
    (tmp_path / "presets.toml").write_text('presets = 1\n[preset.counter]\nfirmware = "bios"\n')
    rows = [(tag, f"COUNTER {n}", "", "") for n, tag in enumerate(tags)]
    rows += [(f"crew-{n}.img", f"CREW {n}", "counter" if n > 3 else "", "96MiB") for n in range(6)]
    with (tmp_path / "jobs.csv").open("w", newline="") as stream:
        csv.writer(stream).writerows([("drive", "label", "preset", "size"), *rows])
    words = ["build", disc, "--batch", tmp_path / "jobs.csv", "--bay", tmp_path / "bay", "--yes", "--no-probe"]
    words += ["--config", tmp_path / "presets.toml"]
    sizes: list[int] = []
    original = SourceFile.readinto_at

    def counted(self: SourceFile, descriptor: int, offset: int, view: memoryview) -> None:
        sizes.append(len(view))
        original(self, descriptor, offset, view)

    with monkeypatch.context() as patched:
        patched.setattr(SourceFile, "readinto_at", counted)
        patched.setenv("LUCKY_KEYSTONE_LOG", "off")
        code = main([str(word) for word in [*words, "--batch-report", tmp_path / "report.csv", "-q"]])
    assert code == 5
    assert sum(sizes) < 3 * disc.stat().st_size  # two passes for ten drives, and what deciding reads
    with (tmp_path / "report.csv").open(newline="") as stream:
        report = list(csv.DictReader(stream))
    results = [each["result"] for each in report]
    assert results == ["done", "failed", "failed", *["done"] * 9]
    assert "4096" in report[1]["message"] or str(20 * MIB) in report[1]["message"].replace(",", "")
    assert ("do not fit" in report[2]["message"]) or ("does not fit" in report[2]["message"])
    for place, label in [(f"bay/{n}.img", f"COUNTER {n}") for n in (0, 3)] + [("crew-5.img", "CREW 5")]:
        checked = check_file(tmp_path / place)
        assert (checked.healthy, checked.volumes[0].label) == (True, label)
    # The failing stick is replaced, one drive was unfinished, one was damaged: the rest is left alone.
    (tmp_path / "bay/bay.toml").write_text(
        (tmp_path / "bay/bay.toml").read_text().replace(f"[drive.faults]\nfails_writing = [[{20 * MIB}, 4096]]\n", "")
    )
    with (tmp_path / "bay/0.img").open("r+b") as file:
        file.write(bytes(512))
    with (tmp_path / "bay/3.img").open("r+b") as file:
        file.seek(MIB)
        file.write(bytes(512))
    again = run_json(*words, "--batch-report", tmp_path / "report.json", code=4)
    assert [each["result"] for each in again["rows"]] == [
        "done", "done", "failed", "done", *["already built"] * 8
    ]  # fmt: skip
    assert again["rows"][0]["bytes_written"] < 2 * MIB  # all of it but the seal was there
    assert json.loads((tmp_path / "report.json").read_text()) == again["rows"]
    assert all(check_file(tmp_path / f"bay/{n}.img").healthy for n in (0, 1, 3))


def test_rows_with_sources_and_plans_of_their_own(disc: Path, tmp_path: Path) -> None:
    run("plan", disc, "--label", "PLANNED", "--save", tmp_path / "crew.toml")
    (tmp_path / "jobs.csv").write_text(
        f"drive,source,plan\na.img,{disc},\nb.img,,crew.toml\nc.img,missing.iso,\nd.img,,\ne.img,,{disc}\n"
    )
    done = run_json("build", "--batch", tmp_path / "jobs.csv", "--yes", code=4)
    assert [(each["result"], each["label"]) for each in done["rows"]] == [
        ("done", "TIDEWELL_11"), ("done", "PLANNED"), ("failed", ""), ("refused", ""), ("refused", "")
    ]  # fmt: skip
    said = [each["message"] for each in done["rows"]]
    for words, told in zip(("missing.iso", "names no source", "is not a plan file"), said[2:5], strict=True):
        assert words in told
    assert "already built" in run("build", "--batch", tmp_path / "jobs.csv", "--yes", code=4).stdout
    (tmp_path / "twice.csv").write_text(f"drive\na.img\n{tmp_path / 'a.img'}\n")
    told = run("build", disc, "--batch", tmp_path / "twice.csv", "--yes", code=2).stderr
    assert "lines 2 and 3 have the same drive" in told
    (tmp_path / "chain.csv").write_text(f"drive,source,plan\nx.img,a.img,\na.img,{disc},\ny.img,,crew.toml\n")
    told = run("build", "--batch", tmp_path / "chain.csv", "--yes", code=2).stderr
    assert "line 2 reads what line 3 writes, a.img" in told
    assert "goes without --onto" in run("build", disc, "--batch", "x.csv", "--onto", "y.img", code=2).stderr
