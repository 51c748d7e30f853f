"""Catalogues, journals, records of the store and servers' answers, for mutation."""

from __future__ import annotations

import hashlib
import plistlib
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.common.progress import silent
from lucky_keystone.fetching.answers import Answer, Passing
from lucky_keystone.fetching.catalogue import joined, matching, parse_catalogue
from lucky_keystone.fetching.fetch import Wanted, fetch
from lucky_keystone.fetching.link import Link, parse_link
from lucky_keystone.fetching.part import Download
from lucky_keystone.fetching.patience import Events
from lucky_keystone.fetching.releases import Release, Words, read_products, read_words, words_in
from lucky_keystone.fetching.store import ImageNote, Store

from .targets import Target, in_memory, shows_bytes

DATA = bytes(range(256)) * 40
SUM = hashlib.sha256(DATA).hexdigest()
CATALOGUE = f"""catalogue = 1
name = "Tidewell workshop"
[[image]]
release = "Tidewell 12"
build = "29999.7"
language = "en-GB"
architecture = "x64"
editions = ["Counter", "Crew"]
file = "tidewell-12-en-GB-x64.iso"
size = {len(DATA)}
sha256 = "{SUM}"
urls = ["https://images.tidewell.example/tidewell-12.iso"]
page = "https://images.tidewell.example/get"
block_size = 65536
block_sums = "aG9sZCBvbiB0byB0aGUgcmFpbCBhbmQgbWluZCBnYXA="
"""
LINK = parse_link("https://images.tidewell.example/a.iso")


def fetching_targets(folder: Path) -> dict[str, Target]:
    """Make a target of every kind in the new folder `folder`."""
    folder.mkdir()
    return {
        "catalogue": _catalogue(CATALOGUE.encode()),
        "catalogue json": _catalogue(_as_json()),
        "releases": _releases(),
        "words": _words(),
        "journal": _journal(folder / "a.iso"),
        "record of the store": _store(folder / "store"),
        "answers": _answers(folder / "b.iso"),
    }


def _whole(data: bytearray, use: Callable[[], None]) -> Target:
    return Target(*in_memory(data), [(0, len(data))], use)


def _as_json() -> bytes:
    image = '{"file": "a.iso", "size": 10, "sha256": "' + SUM + '", "urls": ["https://images.tidewell.example/a"]}'
    return ('{"catalogue": 1, "name": "Tidewell", "image": [' + image + "]}").encode()


def _catalogue(text: bytes) -> Target:
    data = bytearray(text)

    def use() -> None:
        found = parse_catalogue(bytes(data), "shop.toml", is_local=True)
        for image in matching(joined([found]), {"language": "en", "release": "Tidewell"}):
            _ = image.links, image.blocks, image.words

    return _whole(data, use)


def _releases() -> Target:
    package = {"URL": "https://images.tidewell.example/InstallAssistant.pkg", "Size": 5, "Digest": SUM}
    parts = [{**package, "URL": f"https://images.tidewell.example/{n}"} for n in ("BaseSystem.dmg", "InstallESD.dmg")]
    products = {"041-1": {"Packages": [package], "Distributions": {"en": "https://images.tidewell.example/w"}}}
    products["041-2"] = {"Packages": parts}
    data = bytearray(plistlib.dumps({"Products": products}, fmt=plistlib.FMT_BINARY))

    def use() -> None:
        for product in read_products(bytes(data), "releases.plist")[0]:
            release = Release(product, Words())
            _ = words_in(product, "de"), release.words, release.size, release.order, release.architecture

    return _whole(data, use)


def _words() -> Target:
    data = bytearray(
        b"<x><title>T</title><auxinfo><dict><key>VERSION</key><string>14.2</string></dict></auxinfo><script>"
        b'boardIDs = [\'Mac-1\']; nonSupportedModels=["A1,1"];</script><strings>"T" = "Ferry";</strings></x>'
    )

    def use() -> None:
        told = read_words(bytes(data))
        assert not shows_bytes(told.title)

    return _whole(data, use)


def _journal(into: Path) -> Target:
    unfinished, beside = (into.with_name(f"a.iso.unfinished{ending}") for ending in ("", ".json"))
    with Download(into) as part:
        part.journal.size = len(DATA)
        part.append(DATA[:9000])
        part.flush()
    data, bytes_there = bytearray(beside.read_bytes()), unfinished.read_bytes()

    def use() -> None:
        unfinished.write_bytes(bytes_there)
        beside.write_bytes(data)
        with Download(into) as part:
            assert part.read(0, part.length) == DATA[: part.length]

    return _whole(data, use)


def _store(folder: Path) -> Target:
    store, image = Store(folder), folder / "a.iso"
    folder.mkdir()
    image.write_bytes(DATA)
    kept = store.take_in(image, SUM, ImageNote(name="a.iso", size=len(DATA)))
    beside = kept.path.with_name("about.json")
    data = bytearray(beside.read_bytes())

    def use() -> None:
        beside.write_bytes(data)
        for each in store.images():
            _ = each.is_believed
            assert (each.path, each.sha256) == (kept.path, SUM)

    return _whole(data, use)


class _Told:
    """A server whose headers and bytes are what a text says."""

    def __init__(self, text: bytes) -> None:
        lines, _, self.data = text.partition(b"\n\n")
        head, *rest = lines.decode("latin-1").split("\n")
        self.status = int(head) if head.isdecimal() and len(head) < 6 else 206
        self.headers = {
            name.strip().lower(): value.strip() for name, _, value in (each.partition(":") for each in rest)
        }
        self.asked = 0

    def get(self, link: Link, headers: Mapping[str, str]) -> tuple[Answer, Link]:
        self.asked += 1
        if self.asked > 40:
            raise Passing("enough", 0.0)
        return Answer(self.status, self.headers, _Bytes(self.data)), link

    def close(self) -> None:
        pass


class _Bytes:
    def __init__(self, data: bytes) -> None:
        self._data = data

    def read(self, size: int) -> bytes:
        piece, self._data = self._data[:size], self._data[size:]
        return piece

    def close(self) -> None:
        pass


class _Jumping:
    def __init__(self) -> None:
        self.time = 0.0

    def now(self) -> float:
        return self.time

    def sleep(self, seconds: float) -> None:
        self.time += seconds


def _answers(into: Path) -> Target:
    head = f"206\nContent-Range: bytes 0-{len(DATA) - 1}/{len(DATA)}\nContent-Length: {len(DATA)}\n"
    more = 'ETag: "first"\nLast-Modified: Mon, 02 Nov 2026 10:00:00 GMT\nRetry-After: 7\nContent-Encoding: identity\n'
    text = bytearray(f"{head}{more}Content-Type: application/octet-stream\n\n".encode() + DATA)

    def use() -> None:
        try:
            done = fetch([LINK], into, Wanted(SUM), _Told(bytes(text)), silent, Events(), clock=_Jumping())
            assert (done.sha256, into.read_bytes()) == (SUM, DATA)
        finally:
            for path in into.parent.glob(f"{into.name}*"):
                with suppress(KeystoneError, OSError):
                    path.unlink()

    return Target(*in_memory(text), [(0, 250)] * 3 + [(0, len(text))], use)
