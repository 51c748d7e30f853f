"""Installer apps of macOS as sources: in a folder, in parts, in a zip archive, in a package, in a package on a volume.

All that opening a source knows of apps is here; what an app holds and needs is its family's.
"""

from __future__ import annotations

from pathlib import Path

from ..content.bundles import holds_bundle, is_bundle_name, names_bundle
from ..content.contents import seekable
from ..content.ranges import FileRange, RangedFile
from ..content.tree import Folder
from ..fetching.link import Place
from .app_parts import app_from_parts, holds_parts
from .apple_double import merge_doubles
from .folder import read_folder
from .package import package_in, read_package
from .source import Source
from .xar import is_xar
from .zip_archive import ZipArchive


def app_folder(path: Path, notes: list[str]) -> Folder | None:
    """Read a folder that is an app or has one in it, for which links and permissions count; None of any other."""
    if not holds_bundle(path):
        return app_from_parts(path, notes) if holds_parts(path) else None
    root = read_folder(path, notes, as_unix=True)
    merge_doubles(root)
    return root


def app_archive(path: Place, stored: RangedFile) -> Source | None:
    """Open a zip archive with an app in it; None of any other file."""
    whole = FileRange(stored, 0, stored.size)
    if whole.read_at(0, 4) != b"PK\3\4":
        return None
    archive = ZipArchive(whole, str(path))
    if not names_bundle(archive.names):
        return None
    root = archive.tree()
    merge_doubles(root)
    return Source(path, "zip archive", path.stem, _above_app(root))


def _above_app(root: Folder) -> Folder:
    """Return the folder in which an app lies: the root, or the one folder that was packed around it."""
    if any(map(is_bundle_name, root.entries)):
        return root
    inside = (entry for entry in root.entries.values() if isinstance(entry, Folder))
    return next((folder for folder in inside if any(map(is_bundle_name, folder.entries))), root)


def app_package(path: Place, stored: RangedFile) -> Source | None:
    """Open a flat package with an app; None of any other file."""
    whole = FileRange(stored, 0, stored.size)
    root = read_package(whole, str(path)) if is_xar(whole) else None
    return Source(path, "flat package", path.stem, root) if root is not None else None


def packed_in(root: Folder, path: Place) -> Folder | None:
    """Return the tree of the package that a volume carries instead of an app; None where there is none."""
    package = package_in(root) if not any(map(is_bundle_name, root.entries)) else None
    return read_package(seekable(package.content), f"{path}: {package.name}") if package is not None else None
