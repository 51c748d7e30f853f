"""Which commit a checkout is at, read from its own files: gitrepository-layout(5)."""

from __future__ import annotations

import re
from pathlib import Path

_LARGEST = 1 << 20


def commit_of(checkout: Path) -> str:
    """Return the hexadecimal digits of the commit that is checked out; '' outside a checkout."""
    try:
        folder = checkout / ".git"
        if folder.is_file():  # a worktree: the file says where its own folder is
            folder = checkout / _text(folder).removeprefix("gitdir:").strip()
        head = _text(folder / "HEAD").strip()
        if not head.startswith("ref:"):
            return head if re.fullmatch("[0-9a-f]{40,64}", head) else ""
        name = head.removeprefix("ref:").strip()
        if ".." in name:
            return ""
        common = folder / "commondir"
        shared = folder / _text(common).strip() if common.is_file() else folder
        for place in (folder, shared):
            if (place / name).is_file():
                return _text(place / name).strip()
        packed = re.search(rf"^([0-9a-f]{{40,64}}) {re.escape(name)}$", _text(shared / "packed-refs"), re.MULTILINE)
        return packed.group(1) if packed else ""
    except (OSError, ValueError):
        return ""


def _text(path: Path) -> str:
    with path.open("rb") as stream:
        return stream.read(_LARGEST).decode()
