"""The files of a cpio archive as a tree (POSIX.1-2001 "pax", "cpio Interchange Format": the one with octal numbers)."""

from __future__ import annotations

import stat
from contextlib import closing
from datetime import UTC, datetime

from ..common.errors import SourceError
from ..content.contents import Seekable
from ..content.ranges import FileRange, RangedFile
from ..content.tree import EPOCH, MOST_DEPTH, File, Folder, Special, UnixFacts

MAGIC = b"070707"
_HEAD = 76
_PIECE = 1 << 20
_TRAILER = "TRAILER!!!"
_MOST_NAME = 4096
_MOST_FILES = 1_000_000


def read_cpio(file: RangedFile, name: str) -> Folder:
    """Return the tree of an archive. Raises SourceError where it is damaged."""

    def fault(why: str) -> SourceError:
        return SourceError(f"{name}: {why}.", advice="The package is damaged or incomplete: download it again.")

    whole: Seekable = FileRange(file, 0, file.size)
    top, at = Folder(""), 0
    linked: dict[tuple[int, int], File] = {}
    for _ in range(_MOST_FILES):
        head = whole.read_at(at, _HEAD) if at + _HEAD <= whole.size else b""
        if head[:6] != MAGIC:
            raise fault(f"there is no file header at byte {at:,}")
        try:
            device, number, mode, links = (int(head[start : start + 6], 8) for start in (6, 12, 18, 36))
            modified, name_size, size = int(head[48:59], 8), int(head[59:65], 8), int(head[65:76], 8)
        except ValueError as error:
            raise fault(f"the header at byte {at:,} is damaged") from error
        if not 0 < name_size <= _MOST_NAME or at + _HEAD + name_size + size > whole.size:
            raise fault(f"the file at byte {at:,} reaches beyond the archive")
        path = whole.read_at(at + _HEAD, name_size).rstrip(b"\0").decode("utf-8", "replace")
        if path == _TRAILER:
            return top
        content = FileRange(file, at + _HEAD + name_size, size)
        at += _HEAD + name_size + size
        parts = [part for part in path.split("/") if part not in ("", ".")]
        if ".." in parts or len(parts) > MOST_DEPTH:
            raise fault(f"'{path[:80]}' is not a valid path")
        if not parts:
            continue
        folder = top.made_folder(parts[:-1])
        if folder is None:
            raise fault(f"'{path[:80]}' is both a file and a folder")
        is_link = stat.S_ISLNK(mode)
        moment, facts = _moment(modified), UnixFacts(mode=None if is_link else stat.S_IMODE(mode), is_link=is_link)
        if stat.S_ISDIR(mode):
            made = folder.entries.setdefault(parts[-1], Folder(parts[-1], moment))
            made.special = Special(unix=facts)
        elif stat.S_ISREG(mode) or is_link:
            file_ = File(parts[-1], content, moment, Special(unix=facts))
            first = linked.setdefault((device, number), file_) if links > 1 and size else file_
            folder.entries[parts[-1]] = first if _are_equal(first, file_) else file_
    raise fault(f"it has more than {_MOST_FILES:,} files")


def _are_equal(one: File, other: File) -> bool:
    """Compare bytes: numbers of files are reused by what writes archives, and each link comes with its bytes."""
    if one is other or one.size != other.size:
        return one is other
    views = memoryview(bytearray(_PIECE)), memoryview(bytearray(_PIECE))
    with closing(one.content.open()) as mine, closing(other.content.open()) as its:
        for at in range(0, one.size, _PIECE):
            counts = [reader.readinto(view[: one.size - at]) for reader, view in zip((mine, its), views, strict=True)]
            if counts[0] != counts[1] or views[0][: counts[0]] != views[1][: counts[1]]:
                return False
    return True


def _moment(seconds: int) -> datetime:
    try:
        return datetime.fromtimestamp(seconds, UTC).replace(tzinfo=None)
    except (OverflowError, ValueError, OSError):
        return EPOCH
