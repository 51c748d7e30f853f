"""Where the program keeps things on this computer: its record, journals, downloaded images, and a shop's presets."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import platformdirs

from .invoker import elevated_for, home

RECORD = "LUCKY_KEYSTONE_LOG"
"""Environment variable: another file for the record, or 'off'."""
JOURNALS = "LUCKY_KEYSTONE_JOURNALS"
IMAGES = "LUCKY_KEYSTONE_STORE"
PRESETS = "LUCKY_KEYSTONE_CONFIG"
"""Environment variables: other places for these."""
_NAME = "lucky-keystone"


def record() -> Path | None:
    """Return the file of the record; None when it is switched off."""
    named = os.environ.get(RECORD)
    if named is not None:
        return None if named in ("", "off") else Path(named)
    return _data() / "log.sqlite"


def journals() -> Path:
    """Return the folder for what has to be put back onto drives: beside the record, also when that is switched off."""
    return _named(JOURNALS) or (record() or _data() / "log.sqlite").parent / "journals"


def images() -> Path:
    """Return the folder of downloaded images."""
    return _named(IMAGES) or _data() / "images"


def presets() -> Path:
    """Return the file of presets."""
    return _named(PRESETS) or platformdirs.user_config_path(_NAME, appauthor=False) / "presets.toml"


def _named(variable: str) -> Path | None:
    named = os.environ.get(variable)
    return Path(named) if named else None


def _data() -> Path:
    """Return the folder for what the program keeps: the user's own, with sudo in between too."""
    if elevated_for() is not None and sys.platform.startswith("linux"):
        return home() / ".local/share" / _NAME
    if elevated_for() is not None and sys.platform == "darwin":
        return home() / "Library/Application Support" / _NAME
    return platformdirs.user_data_path(_NAME, appauthor=False)
