"""Catalogues of macOS releases: listed, narrowed down, and a release fetched in parts, each of them proven."""

from __future__ import annotations

import plistlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from lucky_keystone.demo.mac import MODELS, RELEASES
from lucky_keystone.demo.mac_releases import CATALOGUE, write_releases
from lucky_keystone.fetching.releases import Words, read_products, read_words

from ..helpers.mac import app_of
from ..helpers.program import run, run_json
from .server import Served, Server

PARTS = ["BaseSystem.chunklist", "BaseSystem.dmg", "InstallAssistantAuto.pkg", "InstallESD.dmg", "InstallInfo.plist"]
BASE = "/041-17G66/BaseSystem.dmg"


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Server, Path, dict[str, bytes]]]:
    folder = tmp_path_factory.mktemp("releases")
    with Server(folder) as server:
        apps = {app_of(name, folder / name): RELEASES[name] for name in ("10.13", "14")}
        files = write_releases(folder, apps, lambda name: server.link(f"/{name}"))
        yield server, folder / CATALOGUE, {f"/{name}": path.read_bytes() for name, path in files.items()}


@pytest.fixture
def releases(served: tuple[Server, Path, dict[str, bytes]]) -> tuple[Server, Path]:
    server, catalogue, files = served
    server.files = {name: Served(data) for name, data in files.items()}
    return server, catalogue


def test_releases_are_listed_by_model_and_release(releases: tuple[Server, Path]) -> None:
    _, catalogue = releases
    listing = ["fetch", "--catalogue", catalogue, "--list"]
    offers = run_json(*listing)["offers"]
    assert [(each["title"], each["release"], each["build"], each["architecture"]) for each in offers] == [
        ("Tidewell 14", "14.2", "23C64", "universal"),
        ("Tidewell Plover", "10.13.6", "17G66", "x64"),
    ]
    for narrowing, titles in (
        (["--release", "14"], ["Tidewell 14"]),
        (["--release", "tidewell plover"], ["Tidewell Plover"]),
        (["--release", "041-17G66"], ["Tidewell Plover"]),
        (["--build", "23C64"], ["Tidewell 14"]),
        (["--architecture", "x64"], ["Tidewell Plover"]),
        (["--language", "de-CH", "--release", "14"], ["Tidewell 14 (deutsch)"]),
        (["--for", MODELS[0]], ["Tidewell 14", "Tidewell Plover"]),
        (["--for", "Mac-Tidewell7"], ["Tidewell 14", "Tidewell Plover"]),
        (["--for", "Mac15,3"], ["Tidewell 14"]),
    ):
        assert [each["title"] for each in run_json(*listing, *narrowing)["offers"]] == titles
    assert "has no release for TidewellBook1,1" in run(*listing, "--for", "TidewellBook1,1", code=4).stderr
    assert "has release 99" in run(*listing, "--release", "99", code=4).stderr
    assert "For TidewellBook7,1" in run(*listing, "--for", MODELS[0]).stdout


def test_a_release_is_fetched_proven_and_built_from(releases: tuple[Server, Path], tmp_path: Path) -> None:
    server, catalogue = releases
    server.files[BASE].cuts = [300_000, 500_000]
    into = tmp_path / "plover"
    line = ["fetch", "--catalogue", catalogue, "--release", "10.13", "--into", into]
    done = run_json(*line)
    assert sorted(Path(part["path"]).name for part in done["parts"]) == PARTS
    assert all(part["proven"] and not part["was_there"] for part in done["parts"])
    assert sorted(path.name for path in into.iterdir()) == PARTS
    assert (done["source"], done["build"]) == (str(into), "17G66")
    assert run_json("inspect", into)["facts"]["release"] == "10.13.6"
    again = run_json(*line)
    assert all(part["proven"] and part["was_there"] for part in again["parts"])
    drive = tmp_path / "plover.img"
    run("build", into, "--onto", drive, "--size", "400MB")
    run("check", drive)
    whole = run_json("fetch", "--catalogue", catalogue, "--release", "14", "--into", tmp_path / "14")
    assert run_json("inspect", whole["source"])["facts"]["release"] == "14.2"
    said = run("fetch", "--catalogue", catalogue, "--release", "14", "--into", tmp_path / "14").stdout
    assert "nothing was downloaded" in said
    assert "Every part has the sum" in said


def _changed(data: bytes) -> bytes:
    return data[:1000] + bytes((data[1000] ^ 1,)) + data[1001:]


@pytest.mark.parametrize(
    ("what", "code", "said"),
    [
        ("a wrong piece", 4, "do not have the sum that the catalogue names"),
        ("a wrong piece, and no list", 4, "its SHA-1 is"),
        ("a list of another file", 0, "is proven by its sum alone"),
        ("a damaged list", 0, "is proven by its sum alone"),
        ("a lost list", 0, "is proven by its sum alone"),
        ("another file has the name", 3, "exists already, and is another file"),
        ("another file of that size has the name", 3, "exists already, and is another file"),
        ("no words", 0, ""),
    ],
)
def test_what_is_wrong_with_a_release(
    what: str, code: int, said: str, releases: tuple[Server, Path], tmp_path: Path
) -> None:
    server, catalogue = releases
    into, narrowing = tmp_path / "plover", ["--release", "10.13"]
    into.mkdir()
    listed = f"{BASE}.integrityDataV1"
    data, theirs = server.files[BASE].data, b"theirs"
    if "wrong piece" in what:
        server.files[BASE].data = _changed(data)
    if "no list" in what:
        listing = plistlib.loads(catalogue.read_bytes())
        for each in listing["Products"]["041-17G66"]["Packages"]:
            each.pop("IntegrityDataURL", None)
        catalogue = tmp_path / "without.plist"
        catalogue.write_bytes(plistlib.dumps(listing, fmt=plistlib.FMT_BINARY))
    if what == "a list of another file":
        server.files[listed].data = server.files["/041-17G66/InstallESD.dmg.integrityDataV1"].data
    if what == "a damaged list":
        server.files[listed].data = server.files[listed].data[:50]
    if what == "a lost list":
        del server.files[listed]
    if "another file" in what and code:
        theirs = bytes(len(data)) if "of that size" in what else theirs
        (into / "BaseSystem.dmg").write_bytes(theirs)
    if what == "no words":
        narrowing = ["--release", "041-17G66"]
        for name in [name for name in server.files if name.endswith(".dist")]:
            server.files[name].data = b"<installer-gui-script"
    told = run("fetch", "--catalogue", catalogue, *narrowing, "--into", into, code=code)
    assert said in told.stdout + told.stderr
    if code == 3:
        assert (into / "BaseSystem.dmg").read_bytes() == theirs
    elif code:
        assert not (into / "BaseSystem.dmg").exists()
    else:
        assert (into / "BaseSystem.dmg").read_bytes() == data


@pytest.mark.parametrize(
    ("line", "code", "said"),
    [
        (["--release", "10.13"], 2, "comes in 5 parts"),
        ([], 2, "2 catalogue images match"),
        (["--release", "12"], 4, "No image of the catalogue has release 12"),
        (["http://localhost:1/a.iso"], 2, "stands alone"),
        (["--sha256", "0" * 64], 2, "stands alone"),
        (["--release", "10.13", "--into", __file__], 2, "is not a folder"),
    ],
)
def test_what_cannot_be_asked_of_such_a_catalogue(
    line: list[str], code: int, said: str, releases: tuple[Server, Path]
) -> None:
    told = run("fetch", "--catalogue", releases[1], *line, code=code)
    assert said in told.stderr


def test_other_commands_say_what_such_a_catalogue_is(releases: tuple[Server, Path], tmp_path: Path) -> None:
    told = run("plan", tmp_path / "x.iso", "--catalogue", releases[1], code=2).stderr
    assert "is a catalogue of releases, which come in parts" in told
    shop = tmp_path / "shop.toml"
    shop.write_text('catalogue = 1\n[[image]]\nfile = "a.iso"\nsize = 5\nsha256 = "' + "0" * 64 + '"\n')
    assert "--for goes with" in run("fetch", "--catalogue", shop, "--for", "iMac1,1", code=2).stderr
    assert run_json("fetch", "--catalogue", shop, "--list")["offers"][0]["file"] == "a.iso"


PACKAGE: dict[str, Any] = {"URL": "https://x.example/InstallAssistant.pkg", "Size": 5, "Digest": "0" * 40}
ODD: dict[str, Callable[[dict[str, Any]], object]] = {
    "size": lambda each: each.update(Size="5"),
    "negative": lambda each: each.update(Size=-1),
    "huge": lambda each: each.update(Size=1 << 62),
    "no link": lambda each: each.pop("URL"),
    "scheme": lambda each: each.update(URL="file:///InstallAssistant.pkg"),
    "chunk list": lambda each: each.update(IntegrityDataURL="javascript:x"),
    "number": lambda each: each.update(URL=7),
}


@pytest.mark.parametrize("odd", ODD)
def test_one_odd_product_costs_no_other(odd: str) -> None:
    bad = dict(PACKAGE)
    ODD[odd](bad)
    # The good package comes behind the odd one, so that the product is known for an installer.
    products = {"a": {"Packages": [bad, PACKAGE]}, "b": {"Packages": [PACKAGE]}, "c": 7, "d": {"Packages": 7}}
    found, notes = read_products(plistlib.dumps({"Products": products}), "x.plist")
    assert [product.number for product in found] == ["b"]
    assert len(notes) == 1
    assert "product a is left out" in notes[0]


def test_words_are_taken_as_far_as_they_are_understood() -> None:
    assert read_words(b"") == read_words(b"<a>") == read_words(b"<!DOCTYPE a [<!ENTITY x 'y'>]><a>&x;</a>") == Words()
    told = read_words(
        b"<x><title> Ferry </title><auxinfo><dict><key>VERSION</key><string>1.2</string></dict></auxinfo>"
        b"<script>var nonSupportedModels = ['A1,1', \"B2,2\"]; boardIds=['Mac-1'];</script></x>"
    )
    assert told == Words(title="Ferry", version="1.2", boards=("Mac-1",), excluded=("A1,1", "B2,2"))
