"""Catalogues and the store, by the program: one download for many drives, proven block by block."""

from __future__ import annotations

import hashlib
import random
import shutil
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.common.progress import silent
from lucky_keystone.fetching import remote as remote_module
from lucky_keystone.fetching.catalogue import CatalogueImage, joined, matching, parse_catalogue, read_catalogue
from lucky_keystone.fetching.link import parse_link
from lucky_keystone.fetching.remote import RemoteFile, Terms

from ..helpers.clocks import Tireless
from ..helpers.drives import small_disc
from ..helpers.program import run, run_json
from ..helpers.terminal import Terminal
from .server import Served, Server


@pytest.fixture(scope="module")
def disc(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return small_disc(tmp_path_factory.mktemp("disc") / "crew.iso", filling=40)


@pytest.fixture
def shop(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Server]:
    monkeypatch.setenv("LUCKY_KEYSTONE_STORE", str(tmp_path / "store"))
    (tmp_path / "net").mkdir()
    with Server(tmp_path / "net", tls=True) as made:
        yield made


def test_one_download_for_many_drives(disc: Path, shop: Server, tmp_path: Path) -> None:
    data = disc.read_bytes()
    digest = hashlib.sha256(data).hexdigest()
    served = shop.files["/crew.iso"] = Served(data)
    trusted, catalogue = ["--authority", shop.authority], tmp_path / "shop.toml"
    assert run_json("fetch", "--record", disc, "--catalogue", catalogue, shop.link("/crew.iso?k=hidden"))["added"]
    assert not run_json("fetch", "--record", disc, "--catalogue", catalogue)["added"]
    assert "hidden" not in catalogue.read_text()
    shop.files["/shop.toml"] = Served(catalogue.read_bytes())
    chosen = ["--catalogue", shop.link("/shop.toml"), "--language", "en", *trusted]
    got = run_json("fetch", *chosen)
    assert (got["proven"], got["stored"], got["was_there"], got["sha256"]) == (True, True, False, digest)
    once = served.sent
    assert run_json("fetch", *chosen)["was_there"]
    assert served.sent == once
    stored = Path(got["path"])
    assert stored.read_bytes() == data
    run("build", "crew.iso", "--onto", tmp_path / "a.img", "--identity", "x", cwd=tmp_path)
    run("build", digest[:8], "--onto", tmp_path / "b.img", "--identity", "x", cwd=tmp_path)
    run("build", disc, "--onto", tmp_path / "c.img", "--identity", "x")
    link = ["build", shop.link("/crew.iso"), *trusted, "--sha256", digest]
    run(*link, "--onto", tmp_path / "d.img", "--identity", "x")
    assert served.sent == once
    drives = [(tmp_path / f"{name}.img").read_bytes() for name in "abcd"]
    assert all(drive == drives[0] for drive in drives)
    stored.chmod(0o644)
    with stored.open("r+b") as image:
        image.seek(1 << 20)
        image.write(b"damage")
    assert "is damaged" in run("inspect", "crew.iso", cwd=tmp_path, code=4).stderr
    assert run_json("images", "--verify", code=4)["images"][0]["damaged"]
    assert "no terminal to ask" in run("images", "--forget", "crew.iso", code=3).stderr
    assert run_json("images", "--forget", "crew.iso", "--yes")["images"] == []
    kept = run_json(*link, "--keep", "--onto", tmp_path / "e.img", "--identity", "x")
    assert len(kept["proofs"]) == 2
    assert (tmp_path / "e.img").read_bytes() == drives[0]
    assert run_json("images", "--verify")["images"][0]["proven"]
    assert run_json("images", "--keep-below", "1GB", "--yes")["forgotten"] == []
    assert run_json("images", "--keep-below", "1MB", "--yes")["forgotten"] == ["crew.iso"]


def test_a_damaged_block_alone_is_fetched_again(disc: Path, shop: Server, tmp_path: Path) -> None:
    """And a link that keeps giving damaged bytes is left for the next one."""
    data = disc.read_bytes()
    wrong = data[:20_000_000] + b"???" + data[20_000_003:]
    catalogue = tmp_path / "shop.toml"
    run("fetch", "--record", disc, "--catalogue", catalogue, shop.link("/crew.iso"))
    once = shop.files["/crew.iso"] = Served(wrong, becomes=(22 << 20, data, '"first"'))
    line = ["fetch", "--catalogue", catalogue, "--authority", shop.authority, "--into"]
    assert run_json(*line, tmp_path / "a.iso")["proven"]
    assert (tmp_path / "a.iso").read_bytes() == data
    assert once.sent < len(data) + (36 << 20)
    always = shop.files["/crew.iso"] = Served(wrong)
    told = run(*line, tmp_path / "b.iso", code=4).stderr
    assert "do not have the sum that the catalogue names" in told
    assert not (tmp_path / "b.iso").exists()
    two = catalogue.read_text().replace('urls = ["', f'urls = ["{shop.link("/crew.iso")}", "')
    catalogue.write_text(two.replace(shop.link("/crew.iso") + '"]', shop.link("/right.iso") + '"]'))
    right = shop.files["/right.iso"] = Served(data)
    sent = always.sent
    assert run_json(*line, tmp_path / "b.iso")["proven"]
    assert (tmp_path / "b.iso").read_bytes() == data
    assert always.sent > sent
    assert right.sent < len(data)


def test_a_drive_is_written_from_proven_blocks_only(
    disc: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(remote_module, "RealClock", Tireless)
    data, catalogue = disc.read_bytes(), tmp_path / "shop.toml"
    run("fetch", "--record", disc, "--catalogue", catalogue)
    image = read_catalogue(catalogue).images[0]
    wrong = data[:20_000_000] + b"???" + data[20_000_003:]
    (tmp_path / "net").mkdir()
    with Server(tmp_path / "net") as server:
        server.files["/crew.iso"] = Served(wrong, becomes=(26 << 20, data, '"first"'), cuts=[30_000_000] * 9)
        remote = RemoteFile(parse_link(server.link("/crew.iso")), Terms(image.sha256, blocks=image.blocks))
        remote.read_in_order([])
        view = memoryview(bytearray(len(data) - 4096))
        remote.readinto_at(0, 4096, view)
        assert view == data[4096:]
        remote.prove(silent)
        assert remote.proven
        remote.close()
    with Server(tmp_path / "net", tls=True) as server:
        (tmp_path / "urls.toml").write_text(catalogue.read_text() + f'urls = ["{server.link("/crew.iso?k=x")}"]\n')
        server.files["/crew.iso"] = Served(wrong, becomes=(26 << 20, data, '"first"'), cuts=[30_000_000] * 9)
        named = ["--catalogue", tmp_path / "urls.toml", "--authority", server.authority, "--identity", "x"]
        done = run_json("build", "crew.iso", *named, "--onto", tmp_path / "named.img")
        assert done["proofs"] == ["crew.iso has the SHA-256 given"]
        assert "no image of the catalogue" in run("plan", "gull.iso", *named[:4], code=4).stderr.lower()
    run("build", disc, "--onto", tmp_path / "file.img", "--identity", "x")
    assert (tmp_path / "named.img").read_bytes() == (tmp_path / "file.img").read_bytes()


BASE = 'catalogue = 1\n[[image]]\nfile = "a.iso"\nsize = 10\nsha256 = "' + "0" * 64 + '"\n'
WRONG = {
    "not TOML": "catalogue =",
    "no catalogue": 'name = "x"',
    "another format": "catalogue = 2",
    "no file": "catalogue = 1\n[[image]]\nsize = 1",
    "a path": BASE.replace("a.iso", "../a.iso"),
    "a device": BASE.replace("a.iso", "con.iso"),
    "no sum": BASE.replace("0" * 64, "00"),
    "no size": BASE.replace("10", "-1"),
    "no link": BASE + 'urls = ["ftp://x/y"]',
    "a link with a secret user": BASE + 'urls = ["https://"]',
    "sums that do not fit": BASE + 'block_sums = "AAAA"',
    "sums that are none": BASE + 'block_sums = "?"',
    "sums of other signs": BASE + 'block_sums = "ü"',
}


@pytest.mark.parametrize("fault", WRONG)
def test_catalogues_that_cannot_be_used(fault: str) -> None:
    with pytest.raises(KeystoneError):
        parse_catalogue(WRONG[fault].encode(), "shop.toml", is_local=True)


def test_choosing() -> None:
    """The newest first; languages by their beginning; a catalogue here outranks one from a server."""

    def image(file: str, build: str, language: str, digest: str = "0") -> CatalogueImage:
        return CatalogueImage(
            file=file, size=1, sha256=digest * 64, build=build, language=language, editions=["Crew", "Counter"]
        )

    images = [image("a", "9.10", "en-GB"), image("b", "9.9", "en-US"), image("c", "10.1", "eng"), image("d", "9", "cy")]
    assert [each.file for each in matching(images, {"language": "EN"})] == ["a", "b"]
    assert [each.file for each in matching(images, {"edition": "crew"})] == ["c", "a", "b", "d"]
    assert matching(images, {"edition": "cre"}) == []
    assert parse_catalogue(b"catalogue = 1", "a", is_local=True).images == ()
    local = parse_catalogue((BASE + "shelf = 3\n").encode(), "a", is_local=True)
    assert "shelf" in local.notes[0]
    other = parse_catalogue(BASE.replace("0" * 64, "1" * 64).encode(), "b", is_local=False)
    with pytest.raises(KeystoneError, match="contradict"):
        joined([other, local])


def test_what_is_whole_but_not_filed_is_taken_in(disc: Path, shop: Server, tmp_path: Path) -> None:
    """A run that was cut off between the last byte and the store's shelf costs no second download."""
    served = shop.files["/crew.iso"] = Served(disc.read_bytes())
    (tmp_path / "store/arriving").mkdir(parents=True)
    shutil.copyfile(disc, tmp_path / "store/arriving/crew.iso")
    digest = hashlib.sha256(disc.read_bytes()).hexdigest()
    line = ["fetch", shop.link("/crew.iso"), "--sha256", digest, "--authority", shop.authority]
    assert run_json(*line)["was_there"]
    assert not served.sent


def test_questions_in_a_terminal(shop: Server, tmp_path: Path) -> None:
    """Which of several images, by its number; and a fresh link where the old one has expired on the way."""
    data = random.Random(3).randbytes(5_000_000)
    shop.files["/old.iso"] = Served(data, cuts=[3_000_000], later=(2_000_000, 403))
    shop.files["/new.iso"] = Served(data)
    entry = '[[image]]\nfile = "{0}"\nrelease = "{0}"\nsize = {1}\nsha256 = "{2}"\nurls = ["{3}"]\n'
    ferry = entry.format("ferry.iso", len(data), hashlib.sha256(data).hexdigest(), shop.link("/old.iso"))
    other = entry.format("other.iso", 1, "0" * 64, shop.link("/other.iso"))
    (tmp_path / "shop.toml").write_text(f"catalogue = 1\n{ferry}{other}")
    line = ["fetch", "--catalogue", tmp_path / "shop.toml", "--authority", shop.authority]
    with Terminal([sys.executable, "-m", "lucky_keystone", *line]) as seen:
        seen.wait_for("Which one? (1 to 2, q: quit)")
        seen.type("3")
        seen.wait_for("is not one of the numbers")
        seen.type("1" if seen.text.index("ferry.iso") < seen.text.index("other.iso") else "2")
        seen.wait_for("The link has expired")
        seen.type("nonsense")
        seen.wait_for("is not supported for images")
        seen.type(shop.link("/new.iso"))
        seen.wait_for("It has the SHA-256 that was given.")
        assert seen.end() == 0
    assert shop.files["/new.iso"].sent < len(data)
