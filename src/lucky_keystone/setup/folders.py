"""Where setup environments and what they install from are on a disc: in `sources`, or in a folder an architecture."""

from __future__ import annotations

SETUP_FOLDERS = ("sources", "x64/sources", "x86/sources", "arm64/sources")
SETUP_IMAGES = tuple(f"{folder}/boot.wim" for folder in SETUP_FOLDERS)
"""Setup environments, each with its folder."""
ENTRY_FOLDER = "boot/entry{}"
"""Where a drive with a list of several has further ones, by number: names that any reader of FAT32 finds."""
