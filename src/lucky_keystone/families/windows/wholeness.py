"""Whether a Windows source can be whole: what its tables tell, without reading its contents."""

from __future__ import annotations

from collections.abc import Iterable

from ...content.contents import seekable
from ...content.tree import File, Folder
from ...setup.images import SETUP_MARKS
from ...starting.pe import REMOVABLE_LOADERS

_LOADERS = ("bootmgr", *(f"efi/boot/{name}" for name in REMOVABLE_LOADERS.values()))
_BLANK = 4096
"""Bytes in front of a loader that are never all zero."""


def is_installer(root: Folder) -> bool:
    """Tell whether the files around the setup environment are an installer's, which has an install image."""
    return any(root.find_file(path) for path in SETUP_MARKS)


def blank_loaders(root: Folder) -> Iterable[str]:
    """Return what is wrong with loaders that hold nothing where a program begins."""
    for path in _LOADERS:
        file = root.find_file(path)
        if isinstance(file, File) and is_blank(file):
            yield f"{path} holds only zeros where a program begins."


def is_blank(file: File) -> bool:
    """Tell whether a program has nothing where one begins."""
    size = min(file.size, _BLANK)
    return not size or not any(seekable(file.content).read_at(0, size))
