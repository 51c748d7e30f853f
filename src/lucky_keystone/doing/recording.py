"""What a catalogue says of an image that is here: by looking into it, and by its sums."""

from __future__ import annotations

import base64
import hashlib
from contextlib import closing
from pathlib import Path

from ..common.errors import SourceError, UsageError, naming
from ..common.progress import Progress
from ..families.facts import SourceFacts
from ..families.families import facts_of
from ..fetching.catalogue import BLOCK_SIZE, CatalogueImage
from ..fetching.link import Link, is_plain_name
from ..fetching.summing import Summing
from ..sources.source import Source

_LONGEST = 200
"""Characters of a text that a catalogue keeps."""


def refuse_unlistable(path: Path) -> None:
    """Raise UsageError for what no catalogue can list."""
    if not path.is_file():
        raise UsageError(f"{path} is not a file.", advice="A catalogue lists images.")
    if not is_plain_name(path.name):
        raise UsageError(f"'{path.name}' cannot be a file's name everywhere.", advice="Rename the file.")


def entry_for(source: Source, path: Path, link: Link | None, progress: Progress) -> CatalogueImage:
    """Return the entry for an image at `path`; `link` is where others get it. Raises SourceError."""
    found = facts_of(source)
    for file in source.files:  # an entry that lacks what could not be read would be another one
        if file.failure is not None:
            raise file.failure
    names = dict.fromkeys(edition.name for image in found.images for edition in image.editions)
    whole, blocks, size = _sums(path, progress)
    release, build = _release_and_build(found)
    return CatalogueImage(
        file=path.name,
        size=size,
        sha256=whole,
        release=release[:_LONGEST],
        build=build[:_LONGEST],
        language=found.languages[0] if found.languages else "",
        architecture=_architecture(found),
        editions=[name[:_LONGEST] for name in names],
        urls=[link.origin] if link is not None else [],
        block_sums=base64.b64encode(blocks).decode() if size > BLOCK_SIZE else "",
    )


def _release_and_build(found: SourceFacts) -> tuple[str, str]:
    if found.mac is None:
        return found.release, str(found.build or "")
    return found.release or found.mac.title, found.mac.build


def _architecture(found: SourceFacts) -> str:
    """Return the word of a catalogue for what processors an image is for; '' where that is not known."""
    if len(found.architectures) == 1:
        return found.architectures[0]
    return "universal" if found.architectures else ""


def _sums(path: Path, progress: Progress) -> tuple[str, bytes, int]:
    """Return the SHA-256 of a file, that of each of its blocks, and its size."""
    blocks, done = bytearray(), 0
    with naming(str(path), SourceError), path.open("rb") as stream, closing(Summing(waiting=1)) as whole:
        size = path.stat().st_size
        while block := stream.read(BLOCK_SIZE):
            whole.update(block)
            blocks += hashlib.sha256(block).digest()
            done += len(block)
            progress("taking sums", done, max(size, done))
        return whole.hexdigest(), bytes(blocks), done
