"""App bundles of macOS, folders that look like one program: what they are called, and where things lie in them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path

from .tree import Folder

EXTENSION = ".app"
INFO = "Contents/Info.plist"
SUPPORT = "Contents/SharedSupport"
"""Where an installer app keeps its disk images."""
_INSIDE = re.compile(r"^(?:[^/]+/)?[^/]+\.app/Contents/")


def is_bundle_name(name: str) -> bool:
    """Tell whether a folder of this name is a bundle."""
    return name.lower().endswith(EXTENSION)


def holds_bundle(path: Path) -> bool:
    """Tell whether a folder on this computer is a bundle, or has one in it."""
    try:
        return any((bundle / INFO).is_file() for bundle in (path, *path.glob(f"*{EXTENSION}")))
    except OSError:
        return False


def names_bundle(paths: Iterable[str]) -> bool:
    """Tell whether paths of an archive lead into a bundle at its root, or in a folder there."""
    return any(_INSIDE.search(path) for path in paths)


def bundles_in(tree: Folder) -> Iterator[Folder]:
    """Yield the bundles of a tree, wherever they lie in it."""
    for _, entry in tree.walk():
        if isinstance(entry, Folder) and is_bundle_name(entry.name) and entry.find_file(INFO):
            yield entry
