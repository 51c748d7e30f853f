"""Takes files out of an edition: each is written whole, its SHA-1 verified, and never over what is there."""

from __future__ import annotations

import hashlib
import os
import re
import secrets
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path

from msgspec import Struct

from ..common.errors import DriveError, ProtectError, SourceError, UsageError, naming
from ..common.invoker import give_to_user, make_folder
from ..common.outputs import name_whole
from ..common.positional import reachable
from ..common.progress import Progress
from ..content.contents import stream
from .edition import EditionEntry, EditionTree
from .read import DAMAGED
from .whole import WholeImage

_MEANS_MORE = re.compile(
    r'[<>:"|?*\\\x00-\x1f]|[. ]$|^(con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])(\.|$)', re.IGNORECASE
)
"""Names that Windows does not take for a file's, or for another one's."""


class Taken(Struct, frozen=True):
    """A file that was taken out."""

    path: str
    """In the edition."""
    place: Path
    size: int
    sha1: str
    streams: int
    """Named streams that it has, which were not written."""


def take(image: WholeImage, tree: EditionTree, path: str, folder: Path, progress: Progress) -> list[Taken]:
    """Write a file, or everything in a folder, into `folder`; return what was written.

    Raises UsageError where the edition has no such path, ProtectError where a file is there already, SourceError for
    bytes that do not match their SHA-1, DriveError where `folder` cannot be written to.
    """
    # As they lie in the image: of a solid one each chunk is unpacked once then.
    wanted = sorted(_wanted(tree, path), key=lambda found: image.order_of(found[1]))
    if sys.platform == "win32":
        refuse_names_windows_reads_otherwise(below for below, _ in wanted)
    sizes = [image.size_of(entry) for _, entry in wanted]
    places = [reachable(folder / below) for below, _ in wanted]
    for place in places:
        if os.path.lexists(place):
            raise ProtectError(f"{place} exists already.", advice="Choose another folder, or move it away.")
    whole, done, taken = sum(sizes), 0, []
    for (below, entry), place, size in zip(wanted, places, sizes, strict=True):
        with naming(str(place.parent), DriveError, advice="Choose a folder that can be written to."):
            make_folder(place.parent)
        _write(image, entry, below, place)
        done += size
        progress("taking files", done, whole)
        taken.append(Taken(below, place, size, "" if entry.is_empty else entry.sha1.hex(), len(entry.streams)))
    return taken


def refuse_names_windows_reads_otherwise(paths: Iterable[str]) -> None:
    """Raise SourceError for a name that leads elsewhere there: to another disk, a stream, a device, another name."""
    for path in paths:
        for name in path.split("/"):
            if _MEANS_MORE.search(name):
                raise SourceError(
                    f"The edition has '{path}', which is not a file name on Windows.",
                    advice="Take it on another system, or take single files.",
                )


def _wanted(tree: EditionTree, path: str) -> Iterator[tuple[str, EditionEntry]]:
    """Yield the files at a path, each with its place below the folder that it goes into."""
    entry = tree.find(path)
    if entry is None:
        raise UsageError(
            f"The edition has no '{path}'.", advice="'--list --matching PATTERN' finds paths; case does not matter."
        )
    if entry.is_reparse_point:
        raise UsageError(
            f"'{path}' is a link or another reparse point, without bytes to take.", advice="Take its target."
        )
    if not entry.is_folder:
        yield entry.name, entry
        return
    above = f"{entry.name}/" if entry.name else ""
    for below, found in tree.walk(entry, above):
        if not found.is_folder and not found.is_reparse_point:
            yield below, found


def _write(image: WholeImage, entry: EditionEntry, name: str, place: Path) -> None:
    beside = place.with_name(f".{place.name[:100]}.{secrets.token_hex(4)}")
    digest = hashlib.sha1()
    try:
        with naming(str(place), DriveError, advice="Make room there, or choose another folder."):
            with beside.open("xb") as file:
                for piece in stream(image.content(entry, name)):
                    digest.update(piece)
                    file.write(piece)
            give_to_user(beside)
            if not entry.is_empty and digest.digest() != entry.sha1:
                raise SourceError(
                    f"{name}: its bytes do not match their SHA-1; nothing was kept of it.", advice=DAMAGED
                )
            name_whole(beside, place)
    finally:
        beside.unlink(missing_ok=True)
