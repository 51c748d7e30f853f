"""Single files of a Windows installer for a drive that lacks them: as the source has them, or inside its images."""

from __future__ import annotations

from collections.abc import Iterator

from ...common.errors import KeystoneError
from ...content.tree import File
from ...sources.source import Source
from ...starting.bios import LOADER, loader_fits
from ...starting.loaders import examine_file, loader_path
from ...starting.pe import REMOVABLE_LOADERS
from ...wim.whole import WholeImage
from ..family import Supply
from .boot_programs import BIOS_PROGRAMS, UEFI_PROGRAMS
from .carried import OWN_LOADERS, taken
from .install_image import images_of, setup_images_of
from .wholeness import is_blank


def supplied(source: Source, path: str) -> Supply | None:
    """Return the file that belongs at `path` of a drive; None where the source has none that is whole."""
    wanted = path.lower()
    for architecture in REMOVABLE_LOADERS:
        if wanted == loader_path(architecture):
            return next(_loaders(source, architecture, path), None)
    if wanted == LOADER:
        return next(_managers(source), None)
    file = source.root.find_file(path)
    return Supply(file, path) if file is not None else None


def _loaders(source: Source, architecture: str, path: str) -> Iterator[Supply]:
    """Yield loaders for an architecture by their own headers, those first that need no looking inside."""

    def fits(file: File | None) -> bool:
        state = examine_file(path, file) if file is not None else None
        return state is not None and not state.fault and state.architecture == architecture

    for place in (path, f"{OWN_LOADERS}/bootmgfw.efi"):
        file = source.root.find_file(place)
        if file is not None and fits(file):
            yield Supply(file, place)
    for image, inside, file in _inside(source, UEFI_PROGRAMS["2011"].loader, path, architecture):
        if fits(file):
            yield Supply(file, f"{inside}, from inside {image.first.place}")


def _managers(source: Source) -> Iterator[Supply]:
    file = source.root.find_file(LOADER)
    if file is not None and loader_fits(file.size) and _holds_something(file):
        yield Supply(file, LOADER)
    for image, inside, found in _inside(source, BIOS_PROGRAMS.loader, LOADER, ""):
        if loader_fits(found.size):
            yield Supply(found, f"{inside}, from inside {image.first.place}")


def _holds_something(file: File) -> bool:
    try:
        return not is_blank(file)
    except KeystoneError:
        return False


def _inside(source: Source, inside: str, path: str, architecture: str) -> Iterator[tuple[WholeImage, str, File]]:
    """Yield a file from inside the source's setup environments, then its install images, wherever it can be read."""
    for images in (setup_images_of, images_of):
        try:
            for image in images(source):
                for edition in image.editions:
                    if architecture and edition.architecture != architecture:
                        continue
                    found = taken(image, image.tree(edition), inside, path)
                    if found is not None:
                        yield image, inside, found
                        break
        except KeystoneError:
            continue  # an image that is damaged gives nothing
