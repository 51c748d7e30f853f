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


def write_parts(
    parts: Sequence[ImagePart], paths: Sequence[Path], progress: Progress, prove: Callable[[], None] | None = None
) -> None:
    """Write each part to its path. A part has its name only when it is whole; existing files are never replaced.

    `prove` raises SourceError where what was read turns out to be wrong in the end; there are no parts then.
    """
    for path in paths:
        if os.path.lexists(path):
            raise ProtectError(f"{path} exists already.", advice="Choose another folder, or move the old parts away.")
    whole, done = sum(part.content.size for part in parts), 0
    # A name of this run's own: two runs into one folder do not write into each other's parts.
    mark = f".unfinished-{secrets.token_hex(4)}"
    beside = [path.with_name(path.name + mark) for path in paths]
    try:
        for part, path in zip(parts, beside, strict=True):
            done = _write(part, path, done, whole, progress)
        if prove is not None:
            prove()
        for unfinished, path in zip(beside, paths, strict=True):
            name_whole(unfinished, path)
    except KeyboardInterrupt as stop:
        raise Interrupted("Stopped before the end; no part was left behind.", advice="Run the command again.") from stop
    finally:
        for path in beside:
            with suppress(OSError):  # parts that are whole have their names
                path.unlink(missing_ok=True)


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
