"""Loaders that a source carries inside its install images, and not, or in another generation, beside them.

64-bit releases before 8 have no removable-media loader on the disc: it lies in the install image. Recent setup
environments carry loaders of a newer generation of signatures than the disc's own.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from ...common.errors import KeystoneError, SourceError
from ...content.contents import Literal
from ...content.tree import File, Folder
from ...sources.source import Source
from ...starting.generations import GENERATIONS, Generation, generations_of
from ...starting.loaders import examine_file, loader_path
from ...starting.pe import REMOVABLE_LOADERS
from ...wim.edition import EditionEntry, EditionTree
from ...wim.whole import WholeImage, verified
from ..family import Decision
from .boot_programs import UEFI_PROGRAMS, Programs
from .install_image import images_of, setup_images_of

if TYPE_CHECKING:
    from ...wim.read import Edition

OWN_LOADERS = "efi/microsoft/boot"
"""What discs of 64-bit releases have beside a removable loader, or in its place."""
_LARGEST = 32 << 20
"""Bytes of all that is taken from one image."""


class Change(Struct, frozen=True):
    """What is put on top of the source's files, and why."""

    files: tuple[tuple[str, File], ...] = ()
    """With their paths."""
    decisions: tuple[Decision, ...] = ()
    folder: str = ""
    """Where all of them are, if that says enough; with a '/' behind."""
    of_others: tuple[str, ...] = ()
    """Paths of those that are a further source's as they are."""

    @property
    def places(self) -> tuple[str, ...]:
        """Paths of the files, or of the folder that they are in."""
        if self.folder and self.files:
            return (self.folder,)
        return tuple(path for path, _ in self.files if path not in self.of_others)


NOTHING = Change()


def missing_loaders(source: Source, root: Folder) -> Change:
    """Return the removable loaders that a disc lacks and its install image has, with what belongs beside them."""
    beside = root.find_folder(OWN_LOADERS)
    if beside is None or any(root.find_file(loader_path(each)) for each in REMOVABLE_LOADERS):
        return NOTHING
    try:
        for image, edition in _first_editions(images_of(source)):
            if edition.architecture == "x86" or edition.architecture not in REMOVABLE_LOADERS:
                continue
            path = loader_path(edition.architecture)
            inside = UEFI_PROGRAMS["2011"].loader
            tree = image.tree(edition)
            loader = taken(image, tree, inside, path)
            if loader is None or examine_file(path, loader).architecture != edition.architecture:
                why = f"the disc has none, and {image.first.place} no {inside} for {edition.architecture}"
                return Change(decisions=(Decision("UEFI loader", "none", why),))
            others = tuple((f"efi/boot/{name}", file) for name, file in _small_files(beside))
            shown = f"{path}, from inside {image.first.place}"
            reason = f"the disc has none; {inside} of edition {edition.index}, beside it the files of {OWN_LOADERS}"
            made = Decision("UEFI loader", shown, reason)
            return Change((*others, (path, loader)), (made,), "efi/boot/")
    except KeystoneError as error:
        why = f"the disc has none, and its install image cannot give one: {error.message}"
        return Change(decisions=(Decision("UEFI loader", "none", why),))
    return NOTHING


def with_signing(source: Source, root: Folder, wanted: str) -> Change:
    """Return the loaders signed under the wanted generation, from the setup environments that carry them.

    Raises SourceError where one does not.
    """
    generation = next(each for each in GENERATIONS if each.name == wanted)
    present = [each for each in REMOVABLE_LOADERS if root.find_file(loader_path(each))]
    if not present:
        raise SourceError(f"--loader-signing {wanted}: the source has no UEFI loader.", advice="Leave it out.")
    files: dict[str, File] = {}
    told: list[str] = []
    for architecture in present:
        path = loader_path(architecture)
        own = root.find_file(path)
        assert own is not None
        if generation in generations_of(examine_file(path, own).signatures):
            told.append(f"{path} as the source has it")
            continue
        image, tree, place = _carrier(source, architecture, wanted)
        loader = taken(image, tree, place.loader, path)
        state = examine_file(path, loader) if loader is not None else None
        if loader is None or state is None or generation not in generations_of(state.signatures):
            raise _not_carried(wanted, f"{place.loader} in {image.first.place} is not there, or not signed so")
        if state.architecture != architecture:
            raise _not_carried(wanted, f"{place.loader} in {image.first.place} is not for {architecture}")
        files[path] = loader
        told.append(f"{path}, from inside {image.first.place}")
        manager = root.find_file("bootmgr.efi")
        if manager is not None and examine_file(manager.name, manager).architecture in ("", architecture):
            own = taken(image, tree, place.program("bootmgr"), manager.name)
            files |= {manager.name: own} if own is not None else {}
        files.update(_fonts(image, tree, place))
    reason = f"signed under the {wanted} generation of certificates"
    return Change(tuple(files.items()), (Decision("UEFI loaders", "; ".join(told), reason, "you", "loader_signing"),))


def with_one_signing(source: Source, root: Folder) -> Change:
    """Return what makes loaders of several discs be of one generation: the newest that each of them has or carries.

    Where there is none the decision says how they differ.
    """
    signed = {path: generations for path, generations in _signings(root) if generations}
    if len(signed) < 2 or set[Generation].intersection(*map(set, signed.values())):
        return NOTHING
    told = "; ".join(f"{path}: {' and '.join(each.name for each in found)}" for path, found in signed.items())
    for generation in reversed(GENERATIONS):
        try:
            change = with_signing(source, root, generation.name)
        except SourceError:
            continue
        reason = f"signed under the {generation.name} generation of certificates; the discs' own are not alike ({told})"
        return replace(change, decisions=tuple(replace(each, by="tool", reason=reason) for each in change.decisions))
    why = "no generation of certificates is in all the discs; a machine with Secure Boot starts those that it trusts"
    return Change(decisions=(Decision("UEFI loaders", f"signed under {told}", why),))


def _signings(root: Folder) -> Iterator[tuple[str, tuple[Generation, ...]]]:
    """Yield the path of every removable loader, with the generations of its signatures."""
    for path in map(loader_path, REMOVABLE_LOADERS):
        if (file := root.find_file(path)) is not None:
            yield path, generations_of(examine_file(path, file).signatures)


def _carrier(source: Source, architecture: str, wanted: str) -> tuple[WholeImage, EditionTree, Programs]:
    """Return the setup environment of an architecture that has loaders of the wanted generation."""
    place = UEFI_PROGRAMS[wanted]
    seen = []
    for image in setup_images_of(source):
        for edition in reversed(image.editions):  # the one that is started comes last
            if edition.architecture != architecture:
                continue
            tree = image.tree(edition)
            if tree.find(place.loader) is not None:
                return image, tree, place
        seen.append(image.first.place)
    raise _not_carried(wanted, f"{' and '.join(seen) or 'no setup environment'}: no {place.loader} for {architecture}")


def _not_carried(wanted: str, why: str) -> SourceError:
    return SourceError(
        f"--loader-signing {wanted}: the source carries no loaders of that generation ({why}).",
        advice="Leave it out to keep the source's own loaders, or use a newer image of the release.",
    )


def _fonts(image: WholeImage, tree: EditionTree, place: Programs) -> Iterator[tuple[str, File]]:
    folder = tree.find(place.fonts)
    total = 0
    for entry in tree.entries(folder) if folder is not None and folder.is_folder else ():
        total += image.size_of(entry)
        if entry.is_folder or entry.is_reparse_point or total > _LARGEST:
            continue
        stem, dot, ending = entry.name.rpartition(".")
        name = stem.removesuffix(place.suffix) + dot + ending
        yield f"{OWN_LOADERS}/fonts/{name}", _file(image, entry, name)


def _first_editions(images: Iterator[WholeImage]) -> Iterator[tuple[WholeImage, Edition]]:
    """Yield every image's first edition of each architecture."""
    for image in images:
        seen = set()
        for edition in image.editions:
            if edition.architecture not in seen:
                seen.add(edition.architecture)
                yield image, edition


def taken(image: WholeImage, tree: EditionTree, inside: str, path: str) -> File | None:
    """Return a file of an edition under the last name of `path`; None where there is none."""
    entry = tree.find(inside)
    if entry is None or entry.is_folder or entry.is_reparse_point or not 0 < image.size_of(entry) <= _LARGEST:
        return None
    return _file(image, entry, path.rpartition("/")[2])


def _file(image: WholeImage, entry: EditionEntry, name: str) -> File:
    """Return a file with its bytes, which match their SHA-1. Raises SourceError."""
    data = verified(image.content(entry, name), entry.sha1, name) if not entry.is_empty else b""
    return File(name, Literal(data), entry.modified.replace(tzinfo=None))


def _small_files(folder: Folder) -> Iterator[tuple[str, File]]:
    total = 0
    for path, file in folder.files():
        total += file.size
        if total <= _LARGEST:
            yield path, file
