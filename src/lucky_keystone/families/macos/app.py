"""The installer app in a source: where it is, what it is called, and what it carries."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from ...common.errors import SourceError
from ...content.bundles import EXTENSION, INFO, SUPPORT, is_bundle_name
from ...content.contents import seekable
from ...content.tree import File, Folder
from ...sources.source import Source
from ...starting.boot_configuration import read_property_list

FROM_ITS_IMAGE = (
    "Take the full installer app: from its disk image, or downloaded by a Mac (System Settings or App Store)."
)


class InstallerApp(Struct, frozen=True):
    """An app bundle with an installer's payload, or a stub without one."""

    name: str
    """As a folder: 'Install Tidewell 13.app'."""
    folder: Folder
    info: Mapping[str, Any]

    @property
    def title(self) -> str:
        """The name without its extension."""
        return self.name.removesuffix(EXTENSION)

    def file(self, path: str) -> File | None:
        """Return the file at a path below SharedSupport."""
        return self.folder.find_file(f"{SUPPORT}/{path}")

    def text(self, key: str) -> str:
        """Return a value of Info.plist, '' where it is not text."""
        value = self.info.get(key, "")
        return value if isinstance(value, str) else ""


def find_apps(source: Source) -> list[InstallerApp]:
    """Return the installer apps in a source: the source itself, or folders in its root."""
    found: list[InstallerApp] = []
    if _is_installer(source.root):
        name = source.path.resolve().name if isinstance(source.path, Path) else source.path.name
        found.append(_app(name if is_bundle_name(name) else f"{_title(source.root)}{EXTENSION}", source.root))
    for name, entry in source.root.entries.items():
        if isinstance(entry, Folder) and is_bundle_name(name) and _is_installer(entry):
            found.append(_app(name, entry))
    return found


def the_app(source: Source) -> InstallerApp:
    """Return the one installer app of a source. Raises SourceError where there are several."""
    apps = find_apps(source)
    with_payload = [app for app in apps if app.folder.find_folder(SUPPORT)]
    chosen = with_payload or apps
    if len(chosen) > 1:
        names = ", ".join(app.name for app in chosen)
        raise SourceError(f"{source.path} holds several installer apps: {names}.", advice="Name one of them.")
    return chosen[0]


def _is_installer(folder: Folder) -> bool:
    """True for an app bundle that installs: with the folder of a payload, or named as one."""
    if folder.find_file(INFO) is None:
        return False
    return folder.find_folder(SUPPORT) is not None or "install" in _identifier(folder).lower()


def _info(folder: Folder) -> Mapping[str, Any]:
    file = folder.find_file(INFO)
    found = read_property_list(seekable(file.content)) if file is not None else None
    return found if isinstance(found, dict) else {}


def _identifier(folder: Folder) -> str:
    value = _info(folder).get("CFBundleIdentifier", "")
    return value if isinstance(value, str) else ""


def _title(folder: Folder) -> str:
    info = _info(folder)
    value = info.get("CFBundleDisplayName") or info.get("CFBundleName")
    return value if isinstance(value, str) and value and "/" not in value else "Install macOS"


def _app(name: str, folder: Folder) -> InstallerApp:
    return InstallerApp(name, folder, _info(folder))
