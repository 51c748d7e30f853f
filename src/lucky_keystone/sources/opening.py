"""Opens what was given as a source, by the first reader that knows it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from ..content import SourceFile, Tell, silent
from ..errors import SourceError
from .folder import read_folder
from .iso9660 import Iso9660Reader
from .source import Source
from .udf import UdfReader, has_udf


def open_source(path: Path, added: Iterable[Path] = (), tell: Tell = silent) -> Source:
    """Open a disc image or folder as a source, the files of each folder of `added` on top of it. Raises SourceError."""
    overlays = tuple(added)
    if not path.exists():
        raise SourceError(f"{path} does not exist.", advice="Check the path of the source.")
    source = _open_folder(path) if path.is_dir() else _open_disc(path)
    for overlay in overlays:
        if not overlay.is_dir():
            raise SourceError(
                f"{overlay} is not a folder.", advice="--add puts the contents of a folder on top of the source."
            )
        source = replace(source, root=source.root.merged(read_folder(overlay)))
    return replace(source, added=overlays)


def _open_folder(path: Path) -> Source:
    return Source(path, "folder", path.resolve().name, read_folder(path))


def _open_disc(path: Path) -> Source:
    if not path.is_file() and not path.is_block_device():
        raise SourceError(
            f"{path} is neither a file nor a folder.",
            advice="Give a disc image, a folder, or an optical drive's device.",
        )
    image = SourceFile(path)
    if image.size < 17 * 2048:
        raise SourceError(
            f"{path} has {image.size} bytes, too few for a disc image.",
            advice="It is incomplete, or not a disc image: download it again.",
        )
    if has_udf(image):
        udf = UdfReader(image)
        return Source(path, "disc image (UDF)", udf.label, udf.root())
    iso = Iso9660Reader(image)
    return Source(path, f"disc image (ISO 9660, {iso.names} names)", iso.label, iso.root())
