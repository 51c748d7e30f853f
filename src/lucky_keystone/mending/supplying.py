"""Where a file comes from that a drive lacks: its own volumes, inside its own images, or sources that were named."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ..checking.found import FoundVolume
from ..common.errors import KeystoneError
from ..content.contents import seekable
from ..content.ranges import ContentFile, FileRange
from ..content.tree import EPOCH, File, Folder
from ..families.families import supplied
from ..families.family import Supply
from ..setup.folders import ENTRY_FOLDER, SETUP_IMAGES
from ..sources.source import Source, named_sources
from ..starting.bios import LOADER
from ..starting.boot_store import STORES
from ..starting.loaders import loader_path
from ..starting.pe import REMOVABLE_LOADERS
from ..starting.release import setup_build
from ..volumes.volume import Entry, FileOnVolume
from ..wim.read import InstallImage
from .remedy import Case

MADE_BY_BUILD = "it was made for this drive when it was built, and no source has it"
_FIRST_ENTRY = f"{ENTRY_FOLDER.format(1)}/boot.wim"
_LOADERS = (LOADER, *map(loader_path, REMOVABLE_LOADERS))
"""Of these the source's own are better than none, whatever the build chose."""


def _any_file(_: File) -> bool:
    return True


def supply_of(
    case: Case, found: FoundVolume, path: str, fits: Callable[[File], bool] = _any_file
) -> tuple[Supply | None, str]:
    """Return a file that fits and '', or None and why there is none."""
    others = [each for each in case.examined.volumes if each is not found]
    for each in (found, *others):
        supply = supplied(_own_source(each), path)
        if supply is not None and fits(supply.file):
            return Supply(supply.file, f"{supply.where} of the drive itself"), ""
    is_made = is_made_by_build(case, path)
    if is_made and path.lower() not in _LOADERS:
        return None, MADE_BY_BUILD
    source = case.wishes.source
    if source is None:
        return None, "the drive has no other copy of it"
    if other := other_release(case, source):
        return None, other
    supply = supplied(source, path)
    if supply is None or not fits(supply.file):
        return None, f"neither the drive nor {_shown(source)} has one that is whole"
    than = ", the source's own: the build may have put another one there" if is_made else ""
    return Supply(supply.file, f"{supply.where} of {_shown(source)}{than}"), ""


def _shown(source: Source) -> str:
    return " and ".join(str(each.path) for each in named_sources(source))


def is_made_by_build(case: Case, path: str) -> bool:
    """Tell whether the build put another file at `path` than a source has there.

    The manifest says so; a list of several setup environments shows it by its entries, too.
    """
    manifest = case.examined.manifest
    places = {each.lower() for each in manifest.about.laid_over} if manifest is not None else set[str]()
    if any(each.has(_FIRST_ENTRY) for each in case.examined.volumes):
        places |= {each.lower() for each in STORES.values()}
    return path.lower() in places


def rebuilt(case: Case) -> str:
    """Return the advice to build the drive again, which makes what no source has."""
    return f"Build it again with --update, {_as_before(case)}: only what differs is written."


def _as_before(case: Case) -> str:
    parts = _parts(case)
    return (
        f"from {', '.join(parts)} with the same choices"
        if parts
        else "from what it was built from, with the same choices"
    )


def _parts(case: Case) -> list[str]:
    """Return the names of the sources that the drive was built from, where they were several."""
    manifest = case.examined.manifest
    return [part.name for part in manifest.about.parts] if manifest is not None else []


def other_release(case: Case, source: Source) -> str:
    """Say that a source is of another release than the drive, '' where it is not, or nobody says."""
    here, there = setup_build(case.examined.walked), _build_of(source)
    if here and there and here != there:
        return f"{source.path} is of another release (build {there}; the drive's is {here})"
    return ""


def _build_of(source: Source) -> int:
    for path in SETUP_IMAGES:
        file = source.root.find_file(path)
        if file is None:
            continue
        try:
            editions = InstallImage(seekable(file.content), path).editions
        except KeystoneError:
            continue
        if editions:
            return editions[-1].build
    return 0


def _own_source(found: FoundVolume) -> Source:
    """Return a volume as a source: its files that can be read."""
    root = Folder("", EPOCH)
    folders = {"": root}
    for entry in found.entries:
        if not entry.path:
            continue
        parent, _, name = entry.path.rpartition("/")
        above = folders.get(parent)
        if above is None:
            continue
        if entry.is_folder:
            folders[entry.path] = Folder(name, EPOCH)
            above.entries[name] = folders[entry.path]
        elif not entry.faults:
            above.entries[name] = _file(found, entry, name)
    return Source(path=Path(f"partition {found.partition.number}"), form="volume", label="", root=root)


def _file(found: FoundVolume, entry: Entry, name: str) -> File:
    content = FileRange(ContentFile(FileOnVolume(found.volume, entry), entry.path), 0, entry.size)
    return File(name, content, entry.modified or EPOCH)


def where_to_get(case: Case, found: FoundVolume, path: str) -> str:
    """Return the advice for a file that there is no supply of."""
    number, parts = found.partition.number, _parts(case)
    if is_made_by_build(case, path) and path.lower() not in _LOADERS:
        return rebuilt(case)
    source = case.wishes.source
    if len(parts) > (len(named_sources(source)) if source is not None else 0):
        return f"The drive was built from {', '.join(parts)}: name each of them with --from, in this order."
    if case.wishes.source is None:
        return f"Name the installer with --from, or copy {path} from it to partition {number}."
    return f"Copy {path} from an installer of the same release to partition {number}."
