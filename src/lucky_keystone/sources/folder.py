"""Reads a folder on this computer as a tree. Files are measured now and opened when they are streamed."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path

from ..content import FileRange
from ..errors import SourceError, naming
from ..invoker import elevated_for
from ..source_file import SourceFile
from ..tree import EPOCH, MOST_DEPTH, File, Folder


def read_folder(path: Path, notes: list[str]) -> Folder:
    """Return the tree below `path`, names in sorted order. Links to folders are refused.

    Links to files are followed; one that leads out of the folder is named in `notes`, and refused for a user who called
    sudo: it would put a file onto the drive that this user may not read.
    """
    home = path.resolve()
    top = Folder("")
    waiting = [(top, path, 0)]
    while waiting:
        folder, place, depth = waiting.pop()
        if depth > MOST_DEPTH:
            raise SourceError(f"{place}: more than {MOST_DEPTH} folders deep.")
        with naming(str(place), SourceError, advice="Check that you may read this folder."):
            entries = sorted(os.scandir(place), key=lambda entry: entry.name)
            for entry in entries:
                here = Path(entry.path)
                if entry.is_dir():
                    if entry.is_symlink():
                        raise SourceError(
                            f"{here} is a link to a folder.", advice="Put the folder itself there, or leave it out."
                        )
                    child = Folder(entry.name, _time(entry.stat().st_mtime))
                    folder.entries[entry.name] = child
                    waiting.append((child, here, depth + 1))
                elif entry.is_file():
                    if entry.is_symlink() and not (behind := here.resolve()).is_relative_to(home):
                        _leaving(here.relative_to(path), behind, notes)
                    facts = entry.stat()
                    measured = SourceFile(here, facts)
                    folder.entries[entry.name] = File(
                        entry.name, FileRange(measured, 0, facts.st_size), _time(facts.st_mtime)
                    )
                else:
                    raise SourceError(
                        f"{here} is neither a file nor a folder.", advice="Remove it, or repair the link."
                    )
    return top


def _leaving(place: Path, behind: Path, notes: list[str]) -> None:
    if elevated_for() is not None:
        raise SourceError(
            f"{place} is a link that leaves the source's folder, to {behind}.",
            advice="Put the file itself there, or run the command without sudo if it may be read.",
        )
    notes.append(f"{place.as_posix()} is a link to {behind}, outside the source: that file is taken.")


def _time(seconds: float) -> datetime:
    """Wall-clock time in UTC: the same drive on whatever host the folder lies."""
    try:
        return datetime.fromtimestamp(int(seconds), UTC).replace(tzinfo=None)
    except (OverflowError, ValueError):
        return EPOCH
