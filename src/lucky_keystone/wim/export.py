"""Writes the parts of an install image into a folder, on their own."""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path

from ..common import positional
from ..common.errors import DriveError, Interrupted, ProtectError, naming
from ..common.invoker import give_to_user
from ..common.outputs import name_whole
from ..common.progress import Progress
from ..content.contents import stream
from .split import ImagePart

_ANOTHER_PLACE = "Choose another folder, or move the old parts away."


def write_parts(
    parts: Sequence[ImagePart], paths: Sequence[Path], progress: Progress, prove: Callable[[], None] | None = None
) -> list[bool]:
    """Write each part to its path; return which were there already: an interrupted run may have left some.

    A part has its name only when it is whole. Existing files are never replaced: each must be the part, byte for byte.
    `prove` raises SourceError where what was read turns out to be wrong in the end; there are no new parts then.
    Raises ProtectError, and DriveError where a part cannot be written.
    """
    were_there = [os.path.lexists(path) for path in paths]
    for part, path, was_there in zip(parts, paths, were_there, strict=True):
        if was_there and not (path.is_file() and path.stat().st_size == part.content.size):
            raise ProtectError(f"{path} exists already.", advice=_ANOTHER_PLACE)
    whole, done = sum(part.content.size for part in parts), 0
    # A name of this run's own: two runs into one folder do not write into each other's parts.
    mark = f".unfinished-{secrets.token_hex(4)}"
    beside = [path.with_name(path.name + mark) for path in paths]
    try:
        for part, unfinished, path, was_there in zip(parts, beside, paths, were_there, strict=True):
            take = _compare if was_there else _write
            done = take(part, path if was_there else unfinished, done, whole, progress)
        if prove is not None:
            prove()
        for unfinished, path, was_there in zip(beside, paths, were_there, strict=True):
            if not was_there:
                name_whole(unfinished, path)
    except KeyboardInterrupt as stop:
        raise Interrupted("Stopped before the end; no part was left behind.", advice="Run the command again.") from stop
    finally:
        for path in beside:
            with suppress(OSError):  # parts that are whole have their names
                path.unlink(missing_ok=True)
    return were_there


def _compare(part: ImagePart, path: Path, done: int, whole: int, progress: Progress) -> int:
    """Raise ProtectError where a file is not the part."""
    with naming(str(path), DriveError, advice=_ANOTHER_PLACE), path.open("rb") as there:
        for piece in stream(part.content):
            if there.read(len(piece)) != piece:
                raise ProtectError(f"{path} exists already, and is another file.", advice=_ANOTHER_PLACE)
            done += len(piece)
            progress("splitting", done, whole)
    return done


def _write(part: ImagePart, path: Path, done: int, whole: int, progress: Progress) -> int:
    with naming(str(path), DriveError, advice="Make room in that folder, or choose another."):
        descriptor = os.open(path, positional.READ_WRITE | os.O_CREAT | os.O_EXCL, 0o666)
        try:
            give_to_user(path)
            offset = 0
            for piece in stream(part.content):
                written = 0
                while written < len(piece):
                    written += positional.write(descriptor, piece[written:], offset + written)
                offset += written
                progress("splitting", done + offset, whole)
            positional.flush(descriptor)
        finally:
            os.close(descriptor)
    return done + offset
