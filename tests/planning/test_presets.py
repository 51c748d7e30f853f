"""Presets: a shop's defaults come behind what is chosen and before what the tool decides, with their reason."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.common.errors import UsageError
from lucky_keystone.families.choices import Choices
from lucky_keystone.planning.presets import read_presets

from ..helpers.program import run, run_json

SHOP = """\
presets = 1

[preset.counter]
about = "ticket counters"
firmware = "bios"
label = "COUNTER"
cluster = "8 KiB"
machine = ["counter-3.toml"]

[preset.crew]
file_system = "fat32+ntfs"
"""


@pytest.fixture
def shop(tmp_path: Path) -> Path:
    path = tmp_path / "presets.toml"
    path.write_text(SHOP)
    (tmp_path / "counter-3.toml").write_text('machine = 1\nname = "Counter 3"\nbios = "yes"\nuefi = "no"\n')
    return path


def test_what_is_chosen_comes_before_a_preset(shop: Path) -> None:
    counter = read_presets(shop)["counter"]
    chosen = Choices(label="MINE")
    assert counter.fill(chosen) == Choices(firmware="bios", label="MINE", cluster=8 << 10)
    assert counter.earlier(chosen).keys() == {"firmware", "cluster"}
    assert counter.machines == (shop.parent / "counter-3.toml",)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "'presets = 1' is missing"),
        ("presets = 1\nprset = 3\n", "line 2: there is no key 'prset'"),
        ("presets = 1\n\n[preset.a]\nlabl = 'X'\n", "line 4: there is no key 'labl'"),
        ("presets = 1\n[preset.a]\nidentity = 'X'\n", "line 3: there is no key 'identity'"),
        ("presets = 1\n[preset.a]\nlabel = 'X'\n[preset.b]\nabout = 'l'\nl = 3\n", "line 6: there is no key 'l'"),
        ("presets = 1\n[preset.a]\nfirmware = 3\n", "preset 'a'"),
        ("presets = 1\npreset = 3\n", "not a table of presets"),
        ("presets = [\n", "is not TOML"),
    ],
)
def test_a_mistake_is_named_by_line_and_key(text: str, words: str, tmp_path: Path) -> None:
    path = tmp_path / "wrong.toml"
    path.write_text(text)
    with pytest.raises(UsageError) as raised:
        read_presets(path)
    assert words in raised.value.message


def test_the_program_names_the_preset_as_the_reason(
    shop: Path, disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    listed = run_json("presets", "--config", shop)
    assert [(each["name"], each["choices"]) for each in listed["presets"]] == [
        ("counter", {"firmware": "bios", "label": "COUNTER", "cluster": 8 << 10}),
        ("crew", {"file_system": "fat32+ntfs"}),
    ]
    assert "ticket counters" in run("presets", "--config", shop).stdout
    planned = run_json("plan", disc, "--preset", "counter", "--config", shop, "--label", "MINE")
    reasons = {each["topic"]: (each["by"], each["value"]) for each in planned["decisions"]}
    assert reasons["firmware"] == ("preset", "BIOS")
    assert reasons["label"] == ("you", "MINE")
    assert [row["machine"] for row in planned["on_machines"]] == ["Counter 3"]
    monkeypatch.setenv("LUCKY_KEYSTONE_CONFIG", str(shop))
    monkeypatch.setenv("LUCKY_KEYSTONE_PRESET", "crew")
    built = run_json("build", disc, "--onto", tmp_path / "crew.img")
    assert built["plan"]["choices"]["file_system"] == "fat32+ntfs"
    assert "Did you mean counter?" in run("plan", disc, "--preset", "conter", code=2).stderr
    plan = tmp_path / "saved.toml"
    run("plan", disc, "--save", plan)
    named = ["--preset", "crew"]
    assert "has its choices already" in run("build", plan, *named, "--onto", tmp_path / "b.img", code=2).stderr
    run("build", plan, "--onto", tmp_path / "b.img")
