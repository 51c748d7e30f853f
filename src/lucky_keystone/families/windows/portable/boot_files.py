"""What boot programs need beside them, taken from inside an edition, for the system volume of a drive that runs it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from ....common.errors import SourceError
from ....content.tree import File, Folder
from ....starting.boot_store import STORES
from ....starting.generations import GENERATIONS, generations_of
from ....starting.loaders import examine_file, loader_path
from ....starting.pe import REMOVABLE_LOADERS
from ..boot_programs import BIOS_PROGRAMS, RESOURCES, UEFI_PROGRAMS, Programs

_LARGEST = 64 << 20
"""Bytes of one file that is taken."""
_USUAL_LANGUAGE = "en-US"


class BootFiles(Struct, frozen=True):
    """The files of a system volume, but for the stores."""

    files: tuple[tuple[str, File], ...]
    language: str
    has_resume: bool
    has_memory_test: bool


def has_bios(tree: Folder) -> bool:
    """Tell whether an edition has what starts it on BIOS machines."""
    loader = tree.find_file(BIOS_PROGRAMS.loader)
    return loader is not None and tree.find_file("Windows/System32/winload.exe") is not None


def uefi_architecture(tree: Folder) -> str:
    """Return the architecture that an edition's UEFI loader is for; '' where it has none that is known."""
    loader = tree.find_file(UEFI_PROGRAMS["2011"].loader)
    if loader is None or tree.find_file("Windows/System32/winload.efi") is None:
        return ""
    architecture = examine_file(loader.name, loader).architecture
    return architecture if architecture in REMOVABLE_LOADERS else ""


def bios_files(tree: Folder, languages: tuple[str, ...]) -> BootFiles:
    """Return what BIOS machines need: the boot manager in the root, everything else in `boot`."""
    found = [("bootmgr", _file(tree, BIOS_PROGRAMS.loader, "bootmgr"))]
    memory_test = tree.find_file(f"{BIOS_PROGRAMS.folder}/memtest.exe")
    if memory_test is not None:
        found.append(("boot/memtest.exe", _named(memory_test, "memtest.exe")))
    found += _beside(tree, BIOS_PROGRAMS, "boot")
    return BootFiles(
        tuple(found),
        _language(tree, BIOS_PROGRAMS.folder, languages),
        tree.find_file("Windows/System32/winresume.exe") is not None,
        memory_test is not None,
    )


def uefi_files(tree: Folder, architecture: str, languages: tuple[str, ...], signing: str | None) -> BootFiles:
    """Return what UEFI machines need: the loader where firmware looks on removable drives, and where it looks itself.

    Raises SourceError where the edition has no loaders signed under the generation `signing`.
    """
    programs = UEFI_PROGRAMS[signing or "2011"]
    place = STORES["uefi"].rpartition("/")[0]
    loader = tree.find_file(programs.loader)
    if loader is None or (signing is not None and not _is_signed(loader, signing)):
        raise SourceError(
            f"--loader-signing {signing}: the edition has no {programs.loader} that is signed so.",
            advice="Leave it out to use the edition's own loaders, or use a newer image of the release.",
        )
    removable = loader_path(architecture)
    parts = removable.split("/")
    found = [
        ("/".join(("EFI", "Boot", parts[-1])), _named(loader, parts[-1])),
        (f"{place}/bootmgfw.efi", _named(loader, "bootmgfw.efi")),
    ]
    for name in ("bootmgr", "memtest"):
        file = tree.find_file(programs.program(name))
        if file is not None:
            found.append((f"{place}/{name}.efi", _named(file, f"{name}.efi")))
    found += _beside(tree, programs, place)
    return BootFiles(
        tuple(found),
        _language(tree, programs.folder, languages),
        tree.find_file("Windows/System32/winresume.efi") is not None,
        any(path.endswith("/memtest.efi") for path, _ in found),
    )


def _beside(tree: Folder, programs: Programs, place: str) -> Iterator[tuple[str, File]]:
    """Yield languages, fonts and resources with their paths on the drive."""
    folder = tree.find_folder(programs.folder)
    for name, below in folder.entries.items() if folder is not None else ():
        if isinstance(below, Folder) and below.special.reparse is None:
            yield from _files(below, f"{place}/{name}", ".mui", programs.suffix)
    fonts, resources = tree.find_folder(programs.fonts), tree.find_folder(RESOURCES)
    if fonts is not None:
        yield from _files(fonts, f"{place}/Fonts", "", programs.suffix)
    if resources is not None:
        yield from _files(resources, f"{place}/Resources", "", "")


def _files(folder: Folder, place: str, ending: str, suffix: str) -> Iterator[tuple[str, File]]:
    for path, file in folder.files():
        above, _, name = path.rpartition("/")
        stem, dot, kind = name.rpartition(".")
        if not name.lower().endswith(ending) or file.special.reparse is not None or file.size > _LARGEST:
            continue
        bare = stem.removesuffix(suffix) + dot + kind if suffix else name
        yield "/".join(filter(None, (place, above, bare))), _named(file, bare)


def _language(tree: Folder, folder: str, languages: tuple[str, ...]) -> str:
    """Return the first of an edition's languages that its boot programs have."""
    there = tree.find_folder(folder)
    known = {name.lower() for name in there.entries} if there is not None else set()
    return next((each for each in languages if each.lower() in known), (*languages, _USUAL_LANGUAGE)[0])


def _file(tree: Folder, path: str, name: str) -> File:
    found = tree.find_file(path)
    if found is None:
        raise SourceError(f"The edition has no {path}.", advice="It is not a system that can be started.")
    return _named(found, name)


def _named(file: File, name: str) -> File:
    """Return a file as FAT32 keeps it: the same bytes under another name."""
    if file.size > _LARGEST:
        raise SourceError(f"{name} has {file.size:,} bytes: too many for a boot program.", advice="Check the image.")
    return File(name, file.content, file.modified)


def _is_signed(file: File, wanted: str) -> bool:
    generation = next(each for each in GENERATIONS if each.name == wanted)
    return generation in generations_of(examine_file(file.name, file).signatures)
