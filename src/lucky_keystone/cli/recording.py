"""What a catalogue says of an image that is here: by looking into it, and by its sums."""

from __future__ import annotations

import base64
import hashlib
from pathlib import Path
from typing import TYPE_CHECKING

from ..common.errors import SourceError, UsageError, naming
from ..fetching.catalogue import BLOCK_SIZE, CatalogueImage
from ..fetching.link import is_plain_name
from .options import terms_of
from .sources import open_alone
from .stages import Stages

if TYPE_CHECKING:
    from ..fetching.link import Link


def image_of(path: Path, link: Link | None) -> CatalogueImage:
    """Return the entry of a catalogue for an image. Raises UsageError for a folder, SourceError for no installer."""
    from ..families.families import facts_of

    if not path.is_file():
        raise UsageError(f"{path} is not a file.", advice="A catalogue lists images.")
    if not is_plain_name(path.name):
        raise UsageError(f"'{path.name}' cannot be a file's name everywhere.", advice="Rename the file.")
    opened = open_alone(path, terms_of(None, None))
    found = facts_of(opened)
    for file in opened.files:  # an entry that lacks what could not be read would be another one
        if file.failure is not None:
            raise file.failure
    names = list(dict.fromkeys(edition.name for image in found.images for edition in image.editions))
    architectures = found.architectures
    release = found.mac.title if found.mac is not None and not found.release else found.release
    build = found.mac.build if found.mac is not None else str(found.build or "")
    whole, blocks, size = _sums(path)
    return CatalogueImage(
        file=path.name,
        size=size,
        sha256=whole,
        release=release[:200],
        build=build[:200],
        language=found.languages[0] if found.languages else "",
        architecture=architectures[0] if len(architectures) == 1 else "universal" if architectures else "",
        editions=[name[:200] for name in names],
        urls=[link.origin] if link is not None else [],
        block_sums=base64.b64encode(blocks).decode() if size > BLOCK_SIZE else "",
    )


def _sums(path: Path) -> tuple[str, bytes, int]:
    """Return the SHA-256 of a file, that of each of its blocks, and its size."""
    whole, blocks, done = hashlib.sha256(), bytearray(), 0
    with Stages() as stages, naming(str(path), SourceError), path.open("rb") as stream:
        size = path.stat().st_size
        while block := stream.read(BLOCK_SIZE):
            whole.update(block)
            blocks += hashlib.sha256(block).digest()
            done += len(block)
            stages("taking sums", done, max(size, done))
    return whole.hexdigest(), bytes(blocks), done
