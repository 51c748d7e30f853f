"""Looks for installers where each system keeps what was downloaded: `inspect --find`."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

from ..content.bundles import EXTENSION, is_bundle_name

_ENDINGS = (".iso", ".dmg", ".pkg", EXTENSION)
_SMALLEST = 1 << 20
"""Bytes of an image; an app is a folder."""
_MOST = 2000
"""Entries of one folder that are looked at."""


def usual_places() -> list[Path]:
    """Return the folders that are looked through, those that are there."""
    home = Path.home()
    places = [home / "Downloads", home / "Desktop", home]
    if sys.platform == "darwin":
        places += [Path("/Applications"), home / "Applications", *_below("/Volumes")]
    elif sys.platform == "win32":
        places += [Path(f"{letter}:\\") for letter in "DEFGHIJKLMNOPQRSTUVWXYZ"]
    else:
        user = os.environ.get("SUDO_USER") or os.environ.get("USER") or ""
        places += [*_below("/media"), *_below(f"/media/{user}"), *_below(f"/run/media/{user}"), *_below("/mnt")]
    return list(dict.fromkeys(place for place in places if place.is_dir()))


def _below(folder: str) -> list[Path]:
    try:
        return sorted(path for path in Path(folder).iterdir() if path.is_dir())
    except OSError:
        return []


def candidates(places: Sequence[Path]) -> Iterator[Path]:
    """Yield what may be an installer by its name, in the folders themselves and not below them."""
    for place in places:
        try:
            entries = sorted(path for path, _ in zip(place.iterdir(), range(_MOST), strict=False))
        except OSError:
            continue
        for path in entries:
            if _may_be_one(path):
                yield path


def _may_be_one(path: Path) -> bool:
    name = path.name.lower()
    if not name.endswith(_ENDINGS) or name.startswith("."):
        return False
    try:
        if is_bundle_name(name):
            return name.startswith("install") and path.is_dir()
        return path.is_file() and path.stat().st_size >= _SMALLEST
    except OSError:
        return False
