"""Permissions of an app whose carrier kept none: copied over a FAT or exFAT stick, or from a zip made elsewhere."""

from __future__ import annotations

from msgspec.structs import replace

from ...content.contents import seekable
from ...content.tree import File, Folder, Special

PROGRAM, PLAIN = 0o755, 0o644
_MACH_O = {b"\xfe\xed\xfa\xce", b"\xce\xfa\xed\xfe", b"\xfe\xed\xfa\xcf", b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe"}
"""First bytes of programs, of both byte orders and widths, and of several in one file (Mach-O)."""
_SCRIPT = b"#!"
_PROGRAMS = "Contents/MacOS/"
_FEW = 2


def keeps_modes(app: Folder) -> bool:
    """Tell by the app itself: permissions are lost when all files have the same, though one is a program."""
    modes = {file.special.unix.mode for _, file in app.files() if not file.special.unix.is_link}
    programs = [file for path, file in app.files() if path.startswith(_PROGRAMS) and _is_program(file)]
    has_modes = bool(modes - {None}) and (len(modes) >= _FEW or not programs)
    return has_modes and all(file.special.unix.mode and file.special.unix.mode & 0o111 for file in programs)


def with_modes(app: Folder) -> Folder:
    """Return the app with permissions by what its files are."""
    made = replace(app, entries={}, special=_special(app, PROGRAM))
    for name, entry in app.entries.items():
        if isinstance(entry, Folder):
            made.entries[name] = with_modes(entry)
        else:
            made.entries[name] = replace(entry, special=_special(entry, PROGRAM if _is_program(entry) else PLAIN))
    return made


def _special(entry: File | Folder, mode: int) -> Special:
    return replace(entry.special, unix=replace(entry.special.unix, mode=mode))


def _is_program(file: File) -> bool:
    if file.special.unix.is_link or file.size < 4:
        return False
    head = seekable(file.content).read_at(0, 4)
    return head in _MACH_O or head.startswith(_SCRIPT)
