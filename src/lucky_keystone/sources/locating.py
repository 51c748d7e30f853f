"""Which file of a source a bad place belongs to, so that a technician can get that file from elsewhere."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from ..common.errors import KeystoneError, SourceError
from ..content.contents import Content, Joined
from ..content.ranges import FileRange
from ..content.source_file import UnreadableSource
from .source import Source


def naming_the_file(error: KeystoneError, source: Source) -> KeystoneError:
    """Return `error`, and for a place that cannot be read one that names the file it lies in."""
    if not isinstance(error, UnreadableSource):
        return error
    for path, file in source.root.files():
        at = _offset_in(file.content, error)
        if at is not None:
            return SourceError(
                f"{path} cannot be read at its byte {at:,} of {file.size:,}: {error.message}",
                advice=f"Get {path} from elsewhere, put it into a folder of its own under that path, and run the "
                "command again with --add FOLDER: the bad place is not read then.",
            )
    return error


@contextmanager
def naming_files(source: Source) -> Iterator[None]:
    """Let every error from the block name the file that a bad place lies in."""
    try:
        yield
    except UnreadableSource as error:
        raise naming_the_file(error, source) from error


def _offset_in(content: Content, error: UnreadableSource) -> int | None:
    """Return the place of `error` in a content, in bytes; None when it lies elsewhere."""
    passed = 0
    for part in content.parts if isinstance(content, Joined) else (content,):
        if isinstance(part, FileRange) and part.file.path == error.path:
            inside = error.offset - part.offset
            if 0 <= inside < part.size:
                return passed + inside
        passed += part.size
    return None
