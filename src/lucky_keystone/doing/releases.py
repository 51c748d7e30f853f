"""Releases of macOS from their vendor's catalogue: what each is, which Macs it is for, its parts fetched and proven."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..common.errors import DriveError, ProtectError, SourceError, naming
from ..common.invoker import make_folder
from ..common.progress import Progress
from ..common.units import exact_size
from ..content.contents import Literal
from ..fetching.blocks import BlockSums
from ..fetching.client import Client
from ..fetching.fetch import Wanted, fetch
from ..fetching.patience import Events
from ..fetching.releases import Product, Release, ReleasePart, Words, read_words, words_in
from ..fetching.small import fetch_small
from ..fetching.summing import file_sum
from ..machine.requirements import Requirement, model_listed
from ..sources.chunk_list import read_chunk_list
from ..starting.mac_models import ListedMacs, named_mac

_MOST_LOST = 3


class FetchedPart(Struct, frozen=True):
    """A part of a release that is here."""

    path: Path
    size: int
    sha256: str
    """'' of one that was there, and is known by SHA-1."""
    proven: bool
    """False where the catalogue has no sum of it."""
    was_there: bool


def with_words(products: Sequence[Product], language: str, client: Client, progress: Progress) -> list[Release]:
    """Return the releases with what their files of words say; one whose file is lost goes without.

    Raises SourceError where one after the other is.
    """
    found, lost = [], 0
    for number, product in enumerate(products):
        progress("reading what each is", number, len(products))
        link, words = words_in(product, language), Words()
        try:
            if link is not None:
                words, lost = read_words(fetch_small(link, client, is_proof=False)), 0
        except SourceError:
            lost += 1
            if lost >= _MOST_LOST:
                raise
        found.append(Release(product, words))
    progress("reading what each is", len(products), len(products))
    return found


def suits(release: Release, mac: str) -> Requirement:
    """Return whether a release is for a Mac, by its model or board id."""
    model, board = named_mac(mac)
    about = release.about
    listed = ListedMacs(about.models, about.boards, about.excluded)
    return model_listed(model, board, listed, for_silicon=release.architecture == "universal")


def fetch_parts(
    release: Release,
    folder: Path,
    client: Client,
    progress: Progress,
    events: Callable[[], Events],
    how: Mapping[str, Any],
) -> list[FetchedPart]:
    """Get all parts of a release into a folder, which is made; what is there already is proven.

    `how` is what `fetch` takes by name, `events` makes what is told of a part. Raises as `fetch` does, and ProtectError
    where another file has a part's name.
    """
    parts = release.product.parts
    with naming(str(folder), DriveError, advice="Name another place with --into."):
        make_folder(folder)
        for part in parts:
            path = folder / part.file
            if path.exists() and not (path.is_file() and path.stat().st_size == part.size):
                raise _taken(path)
        lacking = sum(part.size for part in parts if not (folder / part.file).exists())
        free = shutil.disk_usage(folder).free
    if lacking > free:
        raise DriveError(
            f"The parts that are lacking have {exact_size(lacking)}, and {exact_size(free)} are free in {folder}.",
            advice="Make room there, or name another place with --into.",
        )
    return [_fetched(part, folder / part.file, client, progress, events(), how) for part in parts]


def _fetched(
    part: ReleasePart, path: Path, client: Client, progress: Progress, events: Events, how: Mapping[str, Any]
) -> FetchedPart:
    method = "sha1" if len(part.digest) == len("0" * 40) else "sha256"
    if path.exists():
        if part.digest and file_sum(path, progress, method) != part.digest:
            raise _taken(path)
        return FetchedPart(path, part.size, part.digest if method == "sha256" else "", bool(part.digest), True)
    sums = _block_sums(part, client, events) if part.chunk_list is not None else None
    wanted = Wanted(size=part.size, blocks=sums, **({method: part.digest} if part.digest else {}))
    done = fetch([part.link], path, wanted, client, progress, events, **how)
    return FetchedPart(path, done.size, done.sha256, done.proven, False)


def _block_sums(part: ReleasePart, client: Client, events: Events) -> BlockSums | None:
    """Return the sums of a part's pieces by its chunk list; None where they are not of one size, or of another file."""
    assert part.chunk_list is not None
    try:
        listed = read_chunk_list(
            Literal(fetch_small(part.chunk_list, client, events, is_proof=False)), part.chunk_list.name
        )
    except SourceError as error:
        events.told(f"{error.message} {part.file} is proven by its sum alone.")
        return None
    if listed is None or listed.size != part.size:
        events.told(f"{part.chunk_list.name} is not a chunk list of {part.file}, which is proven by its sum alone.")
        return None
    sizes = [chunk.chunk_size for chunk in listed.chunks]
    if len(set(sizes[:-1])) > 1 or sizes[-1] > sizes[0]:
        return None
    return BlockSums(sizes[0], b"".join(chunk.chunk_sha256 for chunk in listed.chunks))


def _taken(path: Path) -> ProtectError:
    return ProtectError(
        f"{path} exists already, and is another file.", advice="Move it away, or name another place with --into."
    )
