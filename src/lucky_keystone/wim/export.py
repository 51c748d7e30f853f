"""Writes the parts of an install image into a folder, on their own."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from .. import positional
from ..content import stream
from ..errors import DriveError, Interrupted, ProtectError, naming
from ..invoker import give_to_user
from ..progress import Progress
from .split import Part

_UNFINISHED = ".unfinished"


def write_parts(parts: Sequence[Part], paths: Sequence[Path], progress: Progress) -> None:
    """Write each part to its path. A part has its name only when it is whole; existing files are never replaced."""
    for path in paths:
        if path.exists():
            raise ProtectError(f"{path} exists already.", advice="Choose another folder, or move the old parts away.")
    whole, done = sum(part.content.size for part in parts), 0
    finished: list[Path] = []
    try:
        for part, path in zip(parts, paths, strict=True):
            done = _write(part, path.with_name(path.name + _UNFINISHED), done, whole, progress)
            finished.append(path)
        for path in finished:
            path.with_name(path.name + _UNFINISHED).rename(path)
    except KeyboardInterrupt as stop:
        raise Interrupted("Stopped before the end; no part was left behind.", advice="Run the command again.") from stop
    finally:
        for path in paths:
            path.with_name(path.name + _UNFINISHED).unlink(missing_ok=True)


def _write(part: Part, path: Path, done: int, whole: int, progress: Progress) -> int:
    with naming(str(path), DriveError, advice="Make room in that folder, or choose another."):
        descriptor = os.open(path, positional.READ_WRITE | os.O_CREAT | os.O_TRUNC, 0o666)
        try:
            give_to_user(path)
            offset = 0
            for piece in stream(part.content):
                written = 0
                while written < len(piece):
                    written += positional.write(descriptor, piece[written:], offset + written)
                offset += written
                progress("splitting", done + offset, whole)
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
    return done + offset
