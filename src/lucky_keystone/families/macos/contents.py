"""What goes onto a macOS installer's volume: the app, and what a Mac's firmware and loader read."""

from __future__ import annotations

import plistlib
from collections.abc import Mapping
from datetime import datetime
from typing import Any
from urllib.parse import quote

from msgspec import Struct
from msgspec.structs import replace

from ...content.bundles import INFO, SUPPORT
from ...content.contents import Content, Literal, seekable
from ...content.tree import EPOCH, File, Folder, Special, UnixFacts
from ...sources.chunk_list import ChunkList, with_list
from ...sources.diskimage_sums import checked
from ...starting.boot_configuration import CACHE, FLAGS, PATH, PRELINKED
from ...volumes.hfsplus.records import CUSTOM_ICON
from .app import InstallerApp
from .generations import APP, BOOT_FILES, COMMON, CORE, GENERATIONS, LOADER, MARKER, SILICON, WantedFile
from .modes import keeps_modes, with_modes
from .payload import Payload, boot_files
from .picker import label_bitmap

_ICON = ".VolumeIcon.icns"


class InstallerTree(Struct, frozen=True):
    """A volume's tree, and what is to be said of it."""

    tree: Folder
    keeps_modes: bool
    """False where what carried the app kept no permissions."""
    boot_files: tuple[str, ...]
    """Paths of what was put beside the app."""


def installer_tree(payload: Payload, label: str) -> InstallerTree:
    """Return everything on the volume. Raises SourceError for what a start needs and the source has not."""
    app = payload.app
    info = app.folder.find_file(INFO)
    moment = info.modified if info is not None else EPOCH
    placed: list[str] = []
    keeps = True
    if payload.volume is not None:
        root = _copied(payload.volume)
        _unpack_boot_files(root)
        if root.find_file(PATH) is None:
            _put(root, PATH, _property_list(PATH, {FLAGS: ""}, moment))
    else:
        root = Folder("", moment)
        keeps = keeps_modes(app.folder)
        folder = _with_checked_images(app.folder if keeps else with_modes(app.folder), payload)
        root.entries[app.name] = replace(folder, name=app.name)
        placed = _put_boot_files(root, payload, moment)
    if payload.image is not None:
        marker = {"AppName": app.name, "ProductVersion": payload.release, "ProductBuildVersion": payload.build}
        _put(root, MARKER, _property_list(MARKER, marker, moment))
    _put_label(root, label, moment)
    icon = _icon(app)
    if icon is not None:
        root.entries[_ICON] = File(_ICON, icon.content, icon.modified, Special(unix=UnixFacts(mode=0o644)))
    finder = root.special.unix.finder_info
    flags = int.from_bytes(finder[8:10], "big") | (CUSTOM_ICON if icon is not None else 0)
    finder = finder[:8] + flags.to_bytes(2, "big") + finder[10:]
    root.special = Special(unix=replace(root.special.unix, mode=0o755, finder_info=finder, starts_with=LOADER))
    return InstallerTree(root, keeps, tuple(placed))


def _with_checked_images(app: Folder, payload: Payload) -> Folder:
    """Return the app with its disk images compared with their own checksums, and lists, while they are written."""
    contents = app.entries.get("Contents")
    support = contents.entries.get("SharedSupport") if isinstance(contents, Folder) else None
    if not isinstance(contents, Folder) or not isinstance(support, Folder):
        return app
    where = f"{payload.app.name}/{SUPPORT}"
    lists = {each.name: each.listed for each in payload.listed}
    entries = {
        key: replace(file, content=_compared(file.content, f"{where}/{key}", lists.get(f"{where}/{key}")))
        if isinstance(file, File) and (key.lower().endswith(".dmg") or f"{where}/{key}" in lists)
        else file
        for key, file in support.entries.items()
    }
    inner = {**contents.entries, "SharedSupport": replace(support, entries=entries)}
    return replace(app, entries={**app.entries, "Contents": replace(contents, entries=inner)})


def _compared(content: Content, name: str, listed: ChunkList | None) -> Content:
    return with_list(checked(content, name), listed, name)


def _copied(folder: Folder) -> Folder:
    """Return a tree of its own, with the same files: what is put into it stays out of the source's."""
    entries = {name: _copied(e) if isinstance(e, Folder) else e for name, e in folder.entries.items()}
    return replace(folder, entries=entries)


def _put_boot_files(root: Folder, payload: Payload, moment: datetime) -> list[str]:
    generation = payload.generation
    kernel = _kernel(payload)
    placed: list[str] = []
    for wanted, file, along in boot_files(payload, iter((*COMMON, kernel))):
        folder = wanted.path.rpartition("/")[0]
        for path, found in [(wanted.path, file), *((f"{folder}/{other.name}", other) for other in along)]:
            _put(root, path, found)
            placed.append(path)
            if wanted.copied:
                _put(root, f"{BOOT_FILES}/{path.rpartition('/')[2]}", found)
    for path, file in payload.silicon_objects.items():
        _put(root, f"{SILICON}/{path}", file)
        placed.append(f"{SILICON}/{path}")
    flags = generation.flags.replace(APP, quote(payload.app.name))
    configuration = {FLAGS: flags}
    if kernel.path != PRELINKED and generation.base_on_drive == "":
        configuration[CACHE] = "/" + kernel.path
    for path in (PATH, f"{BOOT_FILES}/{PATH.rpartition('/')[2]}"):
        _put(root, path, _property_list(path, configuration, moment))
    if generation.base_on_drive and payload.base_file is not None:
        name = payload.base.name if payload.base else generation.base_on_drive
        listed = next((each.listed for each in payload.listed if each.file is payload.base_file), None)
        base = replace(payload.base_file, content=_compared(payload.base_file.content, name, listed))
        _put(root, generation.base_on_drive, base)
        placed.append(generation.base_on_drive)
        if payload.base_sums is not None:
            _put(root, generation.base_on_drive.removesuffix(".dmg") + ".chunklist", payload.base_sums)
    return placed


def _kernel(payload: Payload) -> WantedFile:
    """Return the first kernel that is there, or the usual one, whose lack is then reported."""
    kernels = [WantedFile(path) for path in payload.generation.kernels]
    return next((kernel for kernel in kernels if payload.find(kernel) is not None), kernels[0])


def _property_list(path: str, values: Mapping[str, Any], moment: datetime) -> File:
    name = path.rpartition("/")[2]
    return File(name, Literal(plistlib.dumps(dict(values))), moment, Special(unix=UnixFacts(mode=0o644)))


def _put(root: Folder, path: str, file: File) -> None:
    # One file under several paths would become a hard link; a start reads each by itself, and decodes none.
    root.put(path, replace(_unpacked(file), name=path.rpartition("/")[2]))


def _unpacked(file: File) -> File:
    return replace(file, special=replace(file.special, unix=file.special.unix.unpacked()))


def _unpack_boot_files(root: Folder) -> None:
    """Have what a start reads lie in data forks on a volume that is copied as it is."""
    kernels = (kernel for generation in GENERATIONS for kernel in generation.kernels)
    wanted = [*(file.path for file in COMMON), PATH, *kernels, "mach_kernel"]
    beside = root.find_folder(BOOT_FILES)
    wanted += [f"{BOOT_FILES}/{name}" for name in (beside.entries if beside is not None else ())]
    for path in wanted:
        file = root.find_file(path)
        if file is not None and file.special.unix.is_packed:
            root.put(path, _unpacked(file))


def _put_label(root: Folder, label: str, moment: datetime) -> None:
    texts: Mapping[str, bytes] = {
        ".disk_label": label_bitmap(label, 1),
        ".disk_label_2x": label_bitmap(label, 2),
        ".disk_label.contentDetails": label.encode(),
    }
    for name, data in texts.items():
        _put(root, f"{CORE}/{name}", File(name, Literal(data), moment, Special(unix=UnixFacts(mode=0o644))))


def _icon(app: InstallerApp) -> File | None:
    """Return the app's icon, by its Info.plist."""
    name = app.text("CFBundleIconFile")
    if not name or "/" in name:
        return None
    for spelled in (name, f"{name}.icns"):
        file = app.folder.find_file(f"Contents/Resources/{spelled}")
        if file is not None and seekable(file.content).read_at(0, min(4, file.size)) == b"icns":
            return file
    return None
