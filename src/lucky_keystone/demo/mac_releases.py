"""A catalogue of macOS releases as their vendor serves them, with made-up ones, and the files behind its links."""

from __future__ import annotations

import hashlib
import plistlib
from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

from ..fetching.releases import WHOLE
from .mac import MODELS, Release, chunk_list_of
from .mac_packages import flat_package, payload_of
from .signing import package_certificate

CATALOGUE = "mac-releases.plist"
_SERVED = "mac releases"
_SUPPORT = "Contents/SharedSupport"
_DAYS = {"beside": datetime(2026, 2, 3), "asset": datetime(2026, 9, 21)}


def write_releases(folder: Path, releases: Mapping[Path, Release], link: Callable[[str], str]) -> dict[str, Path]:
    """Write the catalogue of `releases`, by their apps, into `folder`, and beside it what its links lead to.

    `link` tells where a file is served; return each by its name there.
    """
    served: dict[str, Path] = {}
    products: dict[str, Any] = {}

    def put(product: str, name: str, data: bytes) -> str:
        path = folder / _SERVED / product / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        served[f"{product}/{name}"] = path
        return link(f"{product}/{name}")

    for app, release in releases.items():
        product = f"041-{release.build}"
        packages = []
        for name, data in _parts(app, release).items():
            about: dict[str, Any] = {"URL": put(product, name, data), "Size": len(data)}
            about["Digest"] = hashlib.sha1(data, usedforsecurity=False).hexdigest()
            if name.endswith((".dmg", ".pkg")):
                about["IntegrityDataURL"] = put(product, f"{name}.integrityDataV1", chunk_list_of(data))
            packages.append(about)
        words = {name: put(product, f"{product}.{name}.dist", _words(release, name)) for name in ("English", "de")}
        products[product] = {"Packages": packages, "PostDate": _DAYS[release.generation], "Distributions": words}
    fonts = b"An update, not an installer."
    update = {"URL": put("041-70001", "FerryFonts.pkg", fonts), "Size": len(fonts)}
    products["041-70001"] = {"Packages": [update], "PostDate": datetime(2026, 5, 1)}
    (folder / CATALOGUE).write_bytes(plistlib.dumps({"CatalogVersion": 2, "Products": products}))
    return served


def _parts(app: Path, release: Release) -> dict[str, bytes]:
    """Return what a release is handed out as: one package, or images beside a package with the app."""
    certificate = package_certificate("240101", "340414")
    images = {path.name: path.read_bytes() for path in sorted((app / _SUPPORT).iterdir())}
    package = {"Payload": payload_of(app, without=_SUPPORT)}
    if release.generation == "asset":
        return {WHOLE: flat_package({**package, **images}, certificate)}
    return {**images, "InstallAssistantAuto.pkg": flat_package(package, certificate)}


def _words(release: Release, language: str) -> bytes:
    title = release.title if language == "English" else f"{release.title} (deutsch)"
    models = ", ".join(f"'{model}'" for model in MODELS)
    return f"""<?xml version="1.0" encoding="utf-8"?>
<installer-gui-script minSpecVersion="2">
<title>SU_TITLE</title>
<auxinfo><dict><key>BUILD</key><string>{release.build}</string>
<key>VERSION</key><string>{release.version}</string></dict></auxinfo>
<script>var supportedModels = [{models}]; var boardIDs = ['Mac-Tidewell7'];</script>
<localization><strings language="{language}"><![CDATA["SU_TITLE" = "{title}";]]></strings></localization>
</installer-gui-script>
""".encode()
