"""What a Windows installer holds, found without reading contents."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from ...common.errors import SourceError
from ...common.remembering import remembered
from ...content.contents import Seekable, seekable
from ...content.tree import File, Folder
from ...setup.folders import SETUP_FOLDERS, SETUP_IMAGES
from ...setup.images import INSTALL_IMAGES, image_damage
from ...sources.source import INSTALL_IMAGE, Source
from ...starting.pe import loader_architecture
from ...wim.read import InstallImage
from ...wim.split import LARGEST_PART
from ..facts import InstallImageFacts, Loader, SourceFacts
from .wholeness import blank_loaders, is_installer

_SETUP_IMAGE = "boot.wim"


def has_setup_environment(source: Source) -> bool:
    """Tell whether there is a setup environment, which all Windows families start from."""
    return any(source.root.find_file(path) for path in SETUP_IMAGES)


def is_rescue(source: Source) -> bool:
    """Tell whether there is a setup environment with nothing to install, and nothing that says there should be."""
    return has_setup_environment(source) and not _has_install_image(source) and not is_installer(source.root)


def _has_install_image(source: Source) -> bool:
    return any(source.root.find_file(f"{folder}/{name}") for folder in SETUP_FOLDERS for name in INSTALL_IMAGES)


def facts_of_windows(source: Source, family: str) -> SourceFacts:
    """Return the facts about an installer or a rescue disc, with what speaks against its being whole."""
    return replace(facts_of(source), family=family)


@remembered
def facts_of(source: Source) -> SourceFacts:
    """Return the same, whatever family it is."""
    if source.packing is not None:
        note = f"It is compressed ({source.packing.name}): unpack it to have its install images looked at."
        return SourceFacts(family="", form=source.form, label=source.label, notes=(note,))
    damage = list(source.damage)
    images = _images(source.root, INSTALL_IMAGES, damage)
    if source.form == INSTALL_IMAGE:
        name, file = next(iter(source.root.files()))
        found = _image_facts(file, name, source.root, damage)
        images = (found,) if found is not None else ()
    boot_images = _images(source.root, (_SETUP_IMAGE,), damage)
    if not _has_install_image(source) and is_installer(source.root):
        damage.append(
            f"There is no install image ({', '.join(INSTALL_IMAGES)}) in sources, though the other files of an "
            "installer are there."
        )
    damage += blank_loaders(source.root)
    loaders = tuple(_loaders(source.root))
    editions = [edition for image in images for edition in image.editions]
    words = [edition.architecture for image in (*images, *boot_images) for edition in image.editions]
    architectures = [name for name in dict.fromkeys(words) if name != "unknown"]
    if not architectures:
        uefi = (loader.architecture for loader in loaders if loader.firmware == "uefi" and loader.architecture)
        architectures = list(dict.fromkeys(uefi))
    files = list(source.root.files())
    return SourceFacts(
        family="",
        form=source.form,
        label=source.label,
        file_count=len(files),
        folder_count=source.root.folder_count,
        total_bytes=sum(file.size for _, file in files),
        architectures=tuple(architectures),
        languages=tuple(dict.fromkeys(language for edition in editions for language in edition.languages)),
        release=editions[0].version if editions else "",
        build=editions[0].build if editions else 0,
        loaders=loaders,
        images=images,
        boot_images=boot_images,
        oversized=tuple((path, file.size) for path, file in files if file.size > LARGEST_PART),
        notes=source.notes,
        damage=tuple(damage),
    )


def _images(root: Folder, names: Iterable[str], damage: list[str]) -> tuple[InstallImageFacts, ...]:
    found: list[InstallImageFacts] = []
    for folder in SETUP_FOLDERS:
        for name in names:
            file = root.find_file(f"{folder}/{name}")
            facts = _image_facts(file, f"{folder}/{file.name}", root, damage) if file is not None else None
            if facts is not None:
                found.append(facts)
    return tuple(found)


def _image_facts(file: File, path: str, root: Folder, damage: list[str]) -> InstallImageFacts | None:
    if not hasattr(file.content, "read_at"):  # made while it is streamed: it has not been read from anywhere
        return None
    try:
        image = InstallImage(seekable(file.content), path)
        damage += image_damage(image, path, lambda other: _bytes_at(root, other))
        return InstallImageFacts(
            path=path,
            size=file.size,
            editions=image.editions,
            solid=image.solid,
            part_count=image.header.part_count,
            has_integrity=image.has_integrity,
        )
    except SourceError as error:
        if error.message not in damage:
            damage.append(error.message)
        return None


def _bytes_at(root: Folder, path: str) -> Seekable | None:
    file = root.find_file(path)
    return seekable(file.content) if file is not None else None


def _loaders(root: Folder) -> Iterable[Loader]:
    manager = root.find_file("bootmgr")
    if manager is not None:
        yield Loader("bootmgr", "bios", "x86", manager.size)
    boot = root.find_folder("efi/boot")
    for entry in boot.entries.values() if boot else ():
        if isinstance(entry, File) and entry.name.lower().endswith(".efi"):
            architecture = loader_architecture(seekable(entry.content))
            yield Loader(f"efi/boot/{entry.name}", "uefi", architecture, entry.size)
