"""Reads a folder on this computer as a tree. Files are measured now and opened when they are streamed."""

from __future__ import annotations

import os
import stat
import sys
from datetime import UTC, datetime
from pathlib import Path

from ..common.errors import SourceError, naming
from ..common.invoker import elevated_for
from ..common.positional import reachable
from ..content.contents import Literal
from ..content.ranges import FileRange
from ..content.source_file import SourceFile
from ..content.tree import EPOCH, MOST_DEPTH, ORDINARY, File, Folder, Special, UnixFacts


def read_folder(path: Path, notes: list[str], *, as_unix: bool = False) -> Folder:
    """Return the tree below `path`, names in sorted order. Links to folders are refused.

    Links to files are followed; one that leads out of the folder is named in `notes`, and refused for a user who called
    sudo: it would put a file onto the drive that this user may not read. `as_unix` keeps links as links, and
    permissions where this system has them.
    """
    home = path.resolve()
    top = Folder("")
    waiting = [(top, path, "", 0)]
    while waiting:
        folder, place, above, depth = waiting.pop()
        if depth > MOST_DEPTH:
            raise SourceError(f"{place}: more than {MOST_DEPTH} folders deep.")
        with naming(str(place), SourceError, advice="Check that you may read this folder."):
            entries = sorted(os.scandir(place), key=lambda entry: entry.name)
            for entry in entries:
                here = reachable(Path(entry.path))
                inside = f"{above}{entry.name}"
                if as_unix and entry.is_symlink():
                    folder.entries[entry.name] = _link(entry)
                elif entry.is_dir():
                    if _is_link(entry):
                        raise SourceError(
                            f"{here} is a link to a folder.", advice="Put the folder itself there, or leave it out."
                        )
                    child = Folder(entry.name, _time(entry.stat().st_mtime), special=_special(entry, as_unix=as_unix))
                    folder.entries[entry.name] = child
                    waiting.append((child, here, f"{inside}/", depth + 1))
                elif entry.is_file():
                    if entry.is_symlink() and not (behind := here.resolve()).is_relative_to(home):
                        _leaving(inside, behind, notes)
                    # Of the listing itself Windows gives no number that tells a file from others.
                    facts = here.stat() if sys.platform == "win32" else entry.stat()
                    measured = SourceFile(here, facts, order=f"/{inside}")
                    content, moment = FileRange(measured, 0, facts.st_size), _time(facts.st_mtime)
                    folder.entries[entry.name] = File(entry.name, content, moment, _special(entry, as_unix=as_unix))
                else:
                    raise SourceError(
                        f"{here} is neither a file nor a folder.", advice="Remove it, or repair the link."
                    )
    return top


def _is_link(entry: os.DirEntry[str]) -> bool:
    """Tell links to folders from folders; a junction of Windows is one too."""
    if sys.platform == "win32":
        return entry.stat(follow_symlinks=False).st_reparse_tag in (
            stat.IO_REPARSE_TAG_SYMLINK,
            stat.IO_REPARSE_TAG_MOUNT_POINT,
        )
    return entry.is_symlink()


def _link(entry: os.DirEntry[str]) -> File:
    """Return a link as the file it is: its bytes are where it points to."""
    target = os.fsencode(Path(entry.path).readlink().as_posix())
    moment = _time(entry.stat(follow_symlinks=False).st_mtime)
    return File(entry.name, Literal(target), moment, Special(unix=UnixFacts(is_link=True)))


def _special(entry: os.DirEntry[str], *, as_unix: bool) -> Special:
    if not as_unix or sys.platform == "win32":
        return ORDINARY
    return Special(unix=UnixFacts(mode=stat.S_IMODE(entry.stat().st_mode)))


def _leaving(place: str, behind: Path, notes: list[str]) -> None:
    if elevated_for() is not None:
        raise SourceError(
            f"{place} is a link that leaves the source's folder, to {behind}.",
            advice="Put the file itself there, or run the command without sudo if it may be read.",
        )
    notes.append(f"{place} is a link to {behind}, outside the source: that file is used.")


def _time(seconds: float) -> datetime:
    """Wall-clock time in UTC: the same drive on whatever host the folder lies."""
    try:
        return datetime.fromtimestamp(int(seconds), UTC).replace(tzinfo=None)
    except (OverflowError, ValueError):
        return EPOCH
