"""An installer app from its parts, as they are handed out: images beside each other in a folder, the app in a package.

So 10.13 to 10.15 are available without a Mac's own downloader. The parts go to where the app has them.
"""

from __future__ import annotations

import plistlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from xml.parsers.expat import ExpatError

from ..common.errors import KeystoneError
from ..content.bundles import EXTENSION, INFO, SUPPORT
from ..content.contents import Content, Literal, seekable
from ..content.tree import File, Folder, Special, UnixFacts
from .folder import read_folder
from .package import app_in_package, image_in_package
from .xar import is_xar

_BASE, _PAYLOAD, _LISTED = "BaseSystem.dmg", "InstallESD.dmg", "InstallInfo.plist"
_PACKED_PAYLOAD = "InstallESDDmg.pkg"
"""The payload's name among parts: the image itself, or a package around it."""
_ENDINGS = (".dmg", ".chunklist", ".plist")
_WITHOUT_APP = f"Install macOS{EXTENSION}"
_NONE = "The folder has no package with the installer's app: the drive starts, but has nothing to install with."
_MOST_LIST = 1 << 20


def holds_parts(path: Path) -> bool:
    """Tell whether a folder has a base system and a payload beside each other."""
    try:
        names = {entry.name for entry in path.iterdir()}
    except OSError:
        return False
    return _BASE in names and bool(names & {_PAYLOAD, _PACKED_PAYLOAD})


def app_from_parts(path: Path, notes: list[str]) -> Folder:
    """Return a tree with the app that the parts in a folder make. Raises SourceError for a part that is damaged."""
    parts = read_folder(path, notes)
    app = next(_apps(parts, path), None)
    if app is None:
        notes.append(_NONE)
        app = Folder(_WITHOUT_APP, parts.modified)
        app.put(INFO, _file("Info.plist", Literal(plistlib.dumps({"CFBundleDisplayName": "Install macOS"})), parts))
    for name, part in parts.entries.items():
        if not isinstance(part, File):
            continue
        if name == _PACKED_PAYLOAD:
            app.put(f"{SUPPORT}/{_PAYLOAD}", _file(_PAYLOAD, _payload(part), part))
        elif name == _LISTED:
            app.put(f"{SUPPORT}/{name}", _file(name, _named_payload(part.content), part))
        elif name.lower().endswith(_ENDINGS):
            app.put(f"{SUPPORT}/{name}", _file(name, part.content, part))
    return Folder("", entries={app.name: app})


def _file(name: str, content: Content, like: File | Folder) -> File:
    return File(name, content, like.modified, Special(unix=UnixFacts(mode=0o644)))


def _apps(parts: Folder, path: Path) -> Iterator[Folder]:
    for name, part in parts.entries.items():
        if isinstance(part, File) and name.lower().endswith(".pkg") and name != _PACKED_PAYLOAD:
            content = seekable(part.content)
            if is_xar(content) and (app := app_in_package(content, f"{path}: {name}")) is not None:
                yield app


def _payload(part: File) -> Content:
    content = seekable(part.content)
    inside = image_in_package(content, part.name) if is_xar(content) else None
    return inside if inside is not None else part.content


def _named_payload(content: Content) -> Content:
    """Return the list of parts with the payload under the name that it has in an app."""
    if content.size > _MOST_LIST:
        return content
    try:
        values: Any = plistlib.loads(seekable(content).read_at(0, content.size))
        about = values["Payload Image Info"]
        if not str(about["URL"]).endswith(".pkg"):
            return content
    except (KeystoneError, ValueError, KeyError, TypeError, ExpatError, plistlib.InvalidFileException):
        return content
    about |= {"URL": _PAYLOAD, "id": "com.apple.dmg.InstallESD"}
    for key in ("chunklistURL", "chunklistid"):  # the package's, which is not here any more
        about.pop(key, None)
    return Literal(plistlib.dumps(values))
