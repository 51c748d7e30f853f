"""Installers for several architectures as one source, laid out as discs for both are.

Each disc has a folder of its own, named for its architecture; the root has what firmware starts.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from ...common.errors import UsageError
from ...content.tree import File, Folder
from ...setup.folders import SETUP_FOLDERS
from ...sources.source import Source
from ...starting.loaders import loader_path
from .facts import facts_of

_ROOT = ("boot", "bootmgr", "bootmgr.efi", "efi")
"""What firmware and boot managers read: the first source's."""
_WITH_FOLDER = tuple(folder.partition("/")[0] for folder in SETUP_FOLDERS if "/" in folder)


def architectures_of(source: Source) -> frozenset[str]:
    """Return what a source's environments and editions are for."""
    return frozenset(facts_of(source).architectures)


def with_architectures(source: Source, others: Sequence[Source]) -> Source:
    """Return the source with those for other architectures beside it.

    Raises UsageError for discs that do not go together.
    """
    folders = {_only_architecture(each): each.root for each in (source, *others)}
    root = Folder("", source.root.modified)
    for name, entry in source.root.entries.items():
        if name.lower() in _ROOT:
            root.entries[name] = entry
    for architecture, tree in folders.items():
        path = loader_path(architecture)
        loader = tree.find_file(path)
        if loader is not None and root.find_file(path) is None:
            root = root.replaced(path, File(path.rpartition("/")[2], loader.content, loader.modified, loader.special))
        root.entries[architecture] = Folder(architecture, tree.modified, tree.entries, tree.special)
    return replace(source, root=root, merged=tuple(others))


def _only_architecture(source: Source) -> str:
    found = architectures_of(source)
    name = next(iter(found), "")
    if len(found) != 1 or name not in _WITH_FOLDER or source.root.find_folder("sources") is None:
        listed = ", ".join(sorted(found)) or "no known architecture"
        raise UsageError(
            f"--with: {source.path.name} is for {listed}; a drive for several architectures is made of discs for one "
            f"each ({', '.join(_WITH_FOLDER)}).",
            advice="Build it on a drive of its own.",
        )
    return name
