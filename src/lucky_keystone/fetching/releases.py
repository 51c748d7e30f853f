"""Catalogues of macOS releases, as their vendor serves them: products with packages, and a file of words per language.

A property list has `Products` by id. Of each: `Packages` (`URL`, `Size`, `Digest`, and with `IntegrityDataURL` a chunk
list), `PostDate`, and in `Distributions` a file per language with title, version, build and the Macs it is for. The
vendor documents neither; docs/not-proven-here.md says so too. No address is known here: the catalogue's link is given.
"""

from __future__ import annotations

import plistlib
import re
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any
from xml.etree import ElementTree
from xml.parsers.expat import ExpatError

from msgspec import Struct

from ..common.errors import UsageError
from .answers import harmless
from .catalogue import LARGEST, dotted
from .link import Link, parse_link

WHOLE = "InstallAssistant.pkg"
"""The one package that releases from 11 on consist of."""
_BASE, _PAYLOADS = "BaseSystem.dmg", frozenset({"InstallESD.dmg", "InstallESDDmg.pkg"})
"""What tells the parts of an earlier release."""
_NOT_NEEDED = "RecoveryHDMeta"
_MOST_PRODUCTS, _MOST_PARTS, _MOST_WORDS = 20_000, 64, 4 << 20
_LARGEST_PART = 64 << 30
_FIRST_FOR_SILICON = 11
_DAMAGED = (ValueError, TypeError, LookupError, AttributeError, OverflowError, RecursionError, ExpatError)
"""What reading damaged property lists ends in."""
_DIGEST = re.compile(r"[0-9a-f]{40}|[0-9a-f]{64}")
_ARRAY = re.compile(r"(\w{1,80})\s*=\s*\[([^\]]{0,65536})\]")
_QUOTED = re.compile(r"""['"]([^'"\n]{1,80})['"]""")
_STRING = re.compile(r'"((?:[^"\\]|\\.){1,200})"\s*=\s*"((?:[^"\\]|\\.){0,2000})"')
_ADVICE = "Name a catalogue of releases: a property list with Products, from a file or an https link."
_LANGUAGES = {
    "english": "en", "french": "fr", "german": "de", "japanese": "ja", "spanish": "es", "italian": "it", "dutch": "nl",
}  # fmt: skip
"""How older products name languages."""


class ReleasePart(Struct, frozen=True):
    """A package of a release, or an image."""

    file: str
    """A plain name: the last part of its link."""
    size: int
    """Bytes."""
    digest: str
    """SHA-1 or SHA-256 of its bytes, in hexadecimal; '' where the catalogue has none."""
    link: Link
    chunk_list: Link | None
    """SHA-256 of each of its pieces."""


class Product(Struct, frozen=True):
    """A release as the catalogue has it, without the words for it."""

    number: str
    posted: str
    """The day, ISO 8601; '' where it is not said."""
    parts: tuple[ReleasePart, ...]
    """What a drive can be built from, in the catalogue's order."""
    words: Mapping[str, Link]
    """Files of words, by language."""


class Words(Struct, frozen=True):
    """What a file of words says of a release; '' and nothing where it does not."""

    title: str = ""
    version: str = ""
    build: str = ""
    models: tuple[str, ...] = ()
    """Models of Macs that it is for."""
    boards: tuple[str, ...] = ()
    """Board ids of Macs that it is for."""
    excluded: tuple[str, ...] = ()
    """Models that it is not for."""


class Release(Struct, frozen=True):
    """A release that can be fetched."""

    product: Product
    about: Words

    @property
    def file(self) -> str:
        return f"{self.title} {self.about.version}".strip()

    @property
    def title(self) -> str:
        return self.about.title or self.product.number

    @property
    def release(self) -> str:
        return self.about.version

    @property
    def posted(self) -> str:
        return self.product.posted

    @property
    def names(self) -> tuple[str, ...]:
        """What --release may call it."""
        return (self.about.version, self.file, self.product.number)

    @property
    def build(self) -> str:
        return self.about.build

    @property
    def language(self) -> str:
        return ""

    @property
    def architecture(self) -> str:
        first = dotted(self.about.version)[:1]
        return "" if not first else "universal" if first[0] >= _FIRST_FOR_SILICON else "x64"

    @property
    def editions(self) -> list[str]:
        return []

    @property
    def size(self) -> int:
        """Bytes of all its parts."""
        return sum(part.size for part in self.product.parts)

    @property
    def order(self) -> tuple[list[int], str]:
        """Newer ones have a greater one."""
        return dotted(self.about.version), self.product.posted

    @property
    def words(self) -> str:
        """What it is, for people."""
        told = (self.file, f"build {self.build}" if self.build else "", self.product.posted)
        return ", ".join(each for each in told if each)


def read_products(data: bytes, place: str) -> tuple[list[Product], list[str]]:
    """Return the installers in a catalogue, and what is to be said of it. Raises UsageError for any other file."""
    if len(data) > LARGEST:
        raise UsageError(f"{place} is too large for a catalogue.", advice=_ADVICE)
    try:
        products = plistlib.loads(data)["Products"]
        found = list(products.items())[: _MOST_PRODUCTS + 1]
    except _DAMAGED as error:
        raise UsageError(f"{place} is not a catalogue of releases.", advice=_ADVICE) from error
    if len(found) > _MOST_PRODUCTS:
        raise UsageError(f"{place} has more than {_MOST_PRODUCTS:,} products.", advice=_ADVICE)
    notes: list[str] = []
    kept: list[Product] = []
    for number, values in found:
        name = harmless(str(number))
        if not isinstance(values, dict) or not _is_installer(values):
            continue
        try:
            kept.append(_product(name, values))
        except (UsageError, *_DAMAGED) as error:
            why = error.message if isinstance(error, UsageError) else "it is damaged"
            notes.append(f"{place}: product {name} is left out: {why}")
    return kept, notes


def _is_installer(values: Mapping[str, Any]) -> bool:
    packages = values.get("Packages")
    if not isinstance(packages, list):
        return False
    links = (str(each.get("URL", "")).partition("?")[0] for each in packages if isinstance(each, dict))
    names = {link.rpartition("/")[2] for link in links}
    return WHOLE in names or (_BASE in names and bool(names & _PAYLOADS))


def _product(number: str, values: Mapping[str, Any]) -> Product:
    """Return a product. Raises UsageError with the reason, or what damaged values end in."""
    parts = [_part(each) for each in values["Packages"][: _MOST_PARTS + 1]]
    if len(parts) > _MOST_PARTS:
        raise UsageError(f"it has more than {_MOST_PARTS} packages.")
    whole = [part for part in parts if part.file == WHOLE]
    kept = whole[:1] or [part for part in parts if not part.file.startswith(_NOT_NEEDED)]
    if len({part.file.casefold() for part in kept}) < len(kept):
        raise UsageError("two of its packages have one name.")
    posted = values.get("PostDate")
    words = values.get("Distributions")
    return Product(
        number,
        posted.date().isoformat() if isinstance(posted, datetime) else "",
        tuple(kept),
        {str(key): parse_link(str(value)) for key, value in words.items()} if isinstance(words, dict) else {},
    )


def _part(values: Mapping[str, Any]) -> ReleasePart:
    link, size = parse_link(str(values["URL"])), values.get("Size")
    if not link.file_name:
        raise UsageError(f"the link of a package does not end in a file's name: {link.shown}.")
    if type(size) is not int or not 0 < size <= _LARGEST_PART:
        raise UsageError(f"the size of {link.file_name} is missing or invalid.")
    digest = str(values.get("Digest") or "").lower()
    listed = values.get("IntegrityDataURL")
    return ReleasePart(
        link.file_name,
        size,
        digest if _DIGEST.fullmatch(digest) else "",
        link,
        parse_link(str(listed)) if listed else None,
    )


def words_in(product: Product, language: str) -> Link | None:
    """Return the file of words in a language, else in English, else any; None where a product has none."""
    wanted = language.replace("_", "-").casefold() or "en"
    known = {_language(name): link for name, link in product.words.items()}
    for each in (wanted, wanted.partition("-")[0], "en"):
        for name in sorted(known):
            if name == each or name.startswith(f"{each}-"):
                return known[name]
    return next(iter(known.values()), None)


def _language(name: str) -> str:
    folded = name.replace("_", "-").casefold()
    return _LANGUAGES.get(folded, folded)


def read_words(data: bytes) -> Words:
    """Take a file of words apart; what is not in it, or not understood, is left empty."""
    if len(data) > _MOST_WORDS or b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        return Words()
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, LookupError, ValueError):
        return Words()
    about = _about(root)
    arrays = dict(_arrays("\n".join(each.text or "" for each in root.iter("script"))))
    return Words(
        title=_title(root),
        version=about.get("macOSProductVersion") or about.get("VERSION", ""),
        build=about.get("macOSProductBuildVersion") or about.get("BUILD", ""),
        models=arrays.get("models", ()),
        boards=arrays.get("boards", ()),
        excluded=arrays.get("excluded", ()),
    )


def _about(root: ElementTree.Element) -> dict[str, str]:
    """Return the texts by key of `auxinfo`, which is a property list's dictionary."""
    inside = root.find(".//auxinfo/dict")
    children = list(inside) if inside is not None else []
    return {
        key.text or "": harmless(value.text or "")
        for key, value in zip(children, children[1:], strict=False)
        if key.tag == "key" and value.tag == "string"
    }


def _title(root: ElementTree.Element) -> str:
    """Return the title, looked up among the strings beside it where it is only the name of one."""
    text = (root.findtext("title") or "").strip()
    for strings in root.iter("strings"):
        for key, value in _STRING.findall(strings.text or ""):
            if key == text:
                return harmless(value.replace('\\"', '"'))
    return harmless(text)


def _arrays(script: str) -> Iterator[tuple[str, tuple[str, ...]]]:
    """Yield the lists of Macs in a script, by what they are."""
    for name, inside in _ARRAY.findall(script):
        folded = name.casefold()
        values = tuple(harmless(each) for each in _QUOTED.findall(inside))
        if "boardid" in folded:
            yield "boards", values
        elif "nonsupportedmodel" in folded or "unsupportedmodel" in folded:
            yield "excluded", values
        elif "supportedmodel" in folded:
            yield "models", values
