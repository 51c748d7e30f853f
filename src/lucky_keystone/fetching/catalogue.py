"""Catalogues: which images there are, what proves each, and where to get it. TOML or JSON (docs/formats.md)."""

from __future__ import annotations

import base64
import re
import tomllib
from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Protocol, TypeVar

import msgspec
from msgspec import Struct

from ..common.errors import DriveError, SourceError, UsageError, naming
from ..common.later import tomlkit
from ..common.outputs import replace_whole
from .answers import harmless
from .blocks import BlockSums
from .link import Link, is_plain_name, parse_link

FORMAT = 1
LARGEST = 32 << 20
"""Bytes of a catalogue."""
BLOCK_SIZE = 16 << 20
_MOST_IMAGES = 10_000
_ADVICE = (
    "A catalogue is TOML: catalogue = 1, and for each image [[image]] with file, size, sha256 and urls; "
    "'lucky-keystone fetch --record IMAGE --catalogue FILE' writes one."
)
Bytes = Annotated[int, msgspec.Meta(ge=1, le=1 << 50)]
Text = Annotated[str, msgspec.Meta(max_length=200)]
Sum = Annotated[str, msgspec.Meta(pattern="^[0-9a-f]{64}$")]


class CatalogueImage(msgspec.Struct, frozen=True, kw_only=True):
    """[[image]]: an image that can be fetched."""

    file: Text
    """What it is called: a plain name."""
    size: Bytes
    sha256: Sum
    release: Text = ""
    build: Text = ""
    language: Text = ""
    """BCP 47."""
    architecture: Text = ""
    """x64, x86, arm64 or universal."""
    editions: list[Text] = []
    urls: list[str] = []
    """Links, tried in this order."""
    page: str = ""
    """Where a person gets a link; it is shown, and never opened."""
    block_size: Annotated[int, msgspec.Meta(ge=64 << 10, le=1 << 30)] = BLOCK_SIZE
    block_sums: str = ""
    """SHA-256 of each block, one behind the other, as base64."""

    @property
    def links(self) -> list[Link]:
        return [parse_link(url) for url in self.urls]

    @property
    def blocks(self) -> BlockSums | None:
        """The sums of its blocks, where it has them."""
        return BlockSums(self.block_size, base64.b64decode(self.block_sums)) if self.block_sums else None

    @property
    def title(self) -> str:
        return self.release or self.file

    @property
    def posted(self) -> str:
        return ""

    @property
    def names(self) -> tuple[str, ...]:
        """What --release may call it."""
        return (self.release,)

    @property
    def order(self) -> tuple[list[int], list[int]]:
        """Newer ones have a greater one."""
        return dotted(self.build), dotted(self.release)

    @property
    def words(self) -> str:
        """What it is, for people."""
        parts = (self.release, f"build {self.build}" if self.build else "", self.language, self.architecture)
        return harmless(", ".join(part for part in (*parts, ", ".join(self.editions)) if part)) or self.file


class _CatalogueFile(msgspec.Struct, frozen=True, kw_only=True):
    catalogue: int
    name: Text = ""
    image: list[CatalogueImage] = []


class Catalogue(Struct, frozen=True):
    """A catalogue as it was read."""

    name: str
    images: tuple[CatalogueImage, ...]
    is_local: bool
    notes: tuple[str, ...] = ()
    """What was not understood, a sentence each."""


def read_catalogue(path: Path) -> Catalogue:
    """Read a catalogue on this computer. Raises UsageError for one that cannot be used."""
    return parse_catalogue(catalogue_bytes(path), str(path), is_local=True)


def catalogue_bytes(path: Path) -> bytes:
    """Return the bytes of a catalogue on this computer. Raises UsageError where it cannot be read."""
    with naming(str(path), UsageError, advice="Check the path of the catalogue."), path.open("rb") as stream:
        return stream.read(LARGEST + 1)


def is_of_releases(data: bytes) -> bool:
    """Tell by its first bytes whether a catalogue is a property list, of releases (`fetching.releases`)."""
    head = data[:256].lstrip(b"\xef\xbb\xbf \t\r\n")
    return head.startswith((b"bplist00", b"<?xml", b"<!DOCTYPE plist", b"<plist"))


def parse_catalogue(data: bytes, place: str, *, is_local: bool) -> Catalogue:
    """Read a catalogue's bytes; `place` names it. Raises UsageError for one that cannot be used."""
    if is_of_releases(data):
        raise UsageError(
            f"{place} is a catalogue of releases, which come in parts.",
            advice="Get a release with 'lucky-keystone fetch --catalogue', and build from what came.",
        )
    if len(data) > LARGEST:
        raise UsageError(f"{place} is too large for a catalogue.", advice=_ADVICE)
    try:
        text = data.decode("utf-8-sig")
        values: Any = msgspec.json.decode(text) if text.lstrip()[:1] == "{" else tomllib.loads(text)
        found = msgspec.convert(values, _CatalogueFile)
    except (ValueError, RecursionError) as error:  # also what msgspec raises
        raise UsageError(f"{place} is not a catalogue: {harmless(str(error))}.", advice=_ADVICE) from error
    if found.catalogue != FORMAT:
        raise UsageError(
            f"{place}: catalogues of format {found.catalogue} are not known, only of {FORMAT}.",
            advice="Use a newer version of this program.",
        )
    if len(found.image) > _MOST_IMAGES:
        raise UsageError(f"{place} has more than {_MOST_IMAGES:,} images.", advice=_ADVICE)
    for number, image in enumerate(found.image, 1):
        _refuse_invalid(image, f"{place}, image {number}")
    unknown = sorted(
        _unknown(values, _CatalogueFile) | {key for each in values.get("image", []) for key in _unknown(each)}
    )
    notes = (f"{place}: unknown and ignored: {harmless(', '.join(unknown))}.",) if unknown else ()
    return Catalogue(harmless(found.name), tuple(found.image), is_local, notes)


def _unknown(values: dict[str, Any], kind: type[msgspec.Struct] = CatalogueImage) -> set[str]:
    return set(map(str, values)) - set(kind.__struct_fields__)


def _refuse_invalid(image: CatalogueImage, place: str) -> None:
    """Raise UsageError where what is said of an image cannot be used."""
    if not is_plain_name(image.file):
        raise UsageError(f"{place}: '{harmless(image.file)}' is not a plain file name.", advice=_ADVICE)
    try:
        for link in (*image.urls, *([image.page] if image.page else [])):
            parse_link(link)
    except UsageError as error:
        raise UsageError(f"{place} ({image.file}): {error.message}", advice=error.advice) from error
    try:
        fits = not image.block_sums or BlockSums(
            image.block_size, base64.b64decode(image.block_sums, validate=True)
        ).fits(image.size)
    except ValueError:  # also of signs that are not ASCII
        fits = False
    if not fits:
        raise UsageError(f"{place} ({image.file}): block_sums do not fit size and block_size.", advice=_ADVICE)


def joined(catalogues: Sequence[Catalogue]) -> list[CatalogueImage]:
    """Return the images of several catalogues, those of this computer first, each file once.

    Raises SourceError where one from a server contradicts one of this computer, or two say different things.
    """
    found: dict[str, tuple[CatalogueImage, Catalogue]] = {}
    for catalogue in sorted(catalogues, key=lambda each: not each.is_local):
        for image in catalogue.images:
            known, _ = found.setdefault(image.file.casefold(), (image, catalogue))
            if known.sha256 != image.sha256:
                raise SourceError(
                    f"The catalogues contradict each other: {image.file} has another SHA-256 in '{catalogue.name}'.",
                    advice="Ask whoever keeps them which one is right.",
                )
    return [image for image, _ in found.values()]


def meant(images: Iterable[CatalogueImage], names: Collection[str], link: Link | None) -> CatalogueImage | None:
    """Return the image that has one of these names, or that a link leads to; None where there is none."""
    folded = {name.casefold() for name in names}
    for image in images:
        leads_there = link is not None and link.origin in (each.origin for each in image.links)
        if leads_there or image.file.casefold() in folded:
            return image
    return None


class Offer(Protocol):
    """What a catalogue has: an image, or a release in parts."""

    @property
    def file(self) -> str: ...
    @property
    def size(self) -> int:
        """Bytes."""

    @property
    def title(self) -> str:
        """What it is called in a list."""

    @property
    def posted(self) -> str:
        """The day, ISO 8601, on which it was put into the catalogue; '' where that is not said."""

    @property
    def names(self) -> tuple[str, ...]:
        """What --release may call it."""

    @property
    def release(self) -> str: ...
    @property
    def build(self) -> str: ...
    @property
    def language(self) -> str: ...
    @property
    def architecture(self) -> str: ...
    @property
    def editions(self) -> list[str]: ...
    @property
    def order(self) -> Any:
        """Newer ones have a greater one."""

    @property
    def words(self) -> str:
        """What it is, for people."""


AnyOffer = TypeVar("AnyOffer", bound=Offer)


def matching(images: Iterable[AnyOffer], wanted: Mapping[str, str]) -> list[AnyOffer]:
    """Return the images that match (release, build, edition, language, architecture), the newest first.

    A word counts where the image's begins with it, whatever its case; an edition has to be named whole.
    """
    kept = [image for image in images if all(_has(image, name, value) for name, value in wanted.items())]
    return sorted(kept, key=lambda image: image.order, reverse=True)


def _has(image: Offer, name: str, value: str) -> bool:
    value = value.casefold()
    if name == "edition":
        return value in (edition.casefold() for edition in image.editions)
    known = image.names if name == "release" else (str(getattr(image, name)),)
    return any(has == value or re.match(rf"{re.escape(value)}\b", has) for has in map(str.casefold, known))


def dotted(text: str) -> list[int]:
    """Return a dotted number for comparing."""
    return [int(part) for part in re.findall(r"\d{1,9}", text)]


def add_image(path: Path, image: CatalogueImage) -> bool:
    """Add an image to a catalogue in TOML, which is made when it is missing; False where it is in it already.

    Raises UsageError for a file that is not a catalogue, SourceError where it contradicts, DriveError where it cannot
    be written.
    """
    if path.exists():
        known = next(
            (each for each in read_catalogue(path).images if each.file.casefold() == image.file.casefold()), None
        )
        if known is not None and known.sha256 != image.sha256:
            raise SourceError(
                f"{path} has {image.file} already, with another SHA-256.",
                advice="Rename the file, or remove the entry.",
            )
        if known is not None:
            return False
    with naming(str(path), DriveError, advice="Name a catalogue that can be written."):
        text = path.read_text("utf-8") if path.exists() else f'catalogue = {FORMAT}\nname = "{path.stem}"\n'
        if text.lstrip()[:1] == "{":
            raise UsageError(f"{path} is JSON; images are added to TOML.", advice="Name a .toml file.")
        table = tomlkit.table()
        for name, value in msgspec.structs.asdict(image).items():
            if value and (name != "block_size" or image.block_sums):
                table.add(name, value)
        entry = tomlkit.document()
        entry.add("image", tomlkit.aot())
        entry["image"].append(table)
        replace_whole(path, f"{text.rstrip()}\n\n{tomlkit.dumps(entry)}".encode())
    return True
