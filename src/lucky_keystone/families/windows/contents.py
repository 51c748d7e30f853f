"""What goes onto a drive's volumes: the source's tree, divided where FAT32 asks for it, and what firmware must read."""

from __future__ import annotations

from ...boot.records import crossing
from ...common.errors import SourceError
from ...content.contents import Literal, seekable
from ...content.tree import File, Folder
from ...setup import answer_file, drivers
from ...setup.folders import SETUP_IMAGES
from ...starting.pe import REMOVABLE_LOADERS
from ...wim.read import InstallImage
from ...wim.split import LARGEST_PART, divide, part_names
from ..family import SplitImage

_STARTERS = ("boot", "efi")  # folders that a start reads from; and boot managers in the root
_SETUP_READS = (answer_file.NAME, drivers.FOLDER.lower())
"""What setup looks for in the root of any drive; it need not look at both volumes."""


def has_uefi_loader(root: Folder) -> bool:
    """True when UEFI firmware of any architecture finds a loader there."""
    return any(root.find_file(f"efi/boot/{name}") for name in REMOVABLE_LOADERS.values())


def divided(root: Folder, part_size: int) -> tuple[Folder, tuple[SplitImage, ...]]:
    """Return the tree with every install image beyond `part_size` replaced by its parts.

    Raises SourceError for a file that FAT32 cannot hold and that cannot be split.
    """
    tree, splits = root, []
    for path, file in list(root.files()):
        folder, _, name = path.rpartition("/")
        is_install_image = name.lower().startswith("install.") and name.lower().endswith((".wim", ".esd"))
        if file.size <= (part_size if is_install_image else LARGEST_PART):
            continue
        if not is_install_image:
            raise SourceError(
                f"{path} has {file.size:,} bytes; FAT32 holds files of up to {LARGEST_PART:,}, "
                "and only install images can be split.",
                advice="Choose --file-system ntfs, or leave the file out of the source.",
            )
        image = InstallImage(seekable(file.content), path)
        parts = divide(image, part_size)
        names = part_names(name, len(parts))
        for other in names:
            if tree.find(f"{folder}/{other}" if folder else other):
                raise SourceError(
                    f"{path} has to be split, but {other} is there already.", advice="Remove one of the two."
                )
        new_files = [File(other, part.content, file.modified) for other, part in zip(names, parts, strict=True)]
        tree = _replaced(tree, path.split("/"), new_files)
        splits.append(SplitImage(path, file.size, tuple((new.name, new.size) for new in new_files)))
    return tree, tuple(splits)


def _replaced(folder: Folder, path: list[str], files: list[File]) -> Folder:
    """Return `folder` with the file at `path` replaced by `files`; what is not on the path is shared."""
    entries: dict[str, File | Folder] = {}
    for name, entry in folder.entries.items():
        if name != path[0]:
            entries[name] = entry
        elif isinstance(entry, Folder):
            entries[name] = _replaced(entry, path[1:], files)
        else:
            entries |= {file.name: file for file in files}
    return Folder(folder.name, folder.modified, entries)


def starter_tree(root: Folder) -> Folder:
    """Return what firmware and loaders must read, for the FAT32 volume of a pair.

    Loaders, `boot`, `efi`, and boot images.

    Raises SourceError when one of those is too large for FAT32.
    """
    tree = Folder("", root.modified)
    for name, entry in root.entries.items():
        if name.lower() in (*_STARTERS, *_SETUP_READS) or (
            isinstance(entry, File) and name.lower().startswith("bootmgr")
        ):
            tree.entries[name] = entry
    for path in SETUP_IMAGES:
        image = root.find_file(path)
        if image is None:
            continue
        here, below = tree, root
        for part in path.split("/")[:-1]:
            found = below.find_folder(part)
            assert found is not None
            below = found
            here = here.entries.setdefault(below.name, Folder(below.name, below.modified))  # type: ignore[assignment]
        here.entries[image.name] = image
        answers = below.find_file(answer_file.NAME)
        if answers is not None:
            here.entries[answers.name] = answers
    for path, file in tree.files():
        if file.size > LARGEST_PART:
            raise SourceError(
                f"{path} has {file.size:,} bytes: too large for the FAT32 partition beside NTFS, "
                "which firmware starts from.",
                advice="Choose --file-system ntfs.",
            )
    return tree


def crossing_tree(root: Folder) -> Folder:
    """Return the crossing's volume.

    Our helper under the loader's name, for each architecture that there is a loader for.
    """
    moment = root.modified
    names = [name for name in REMOVABLE_LOADERS.values() if root.find_file(f"efi/boot/{name}")]
    kinds = {name: architecture for architecture, name in REMOVABLE_LOADERS.items()}
    files: dict[str, File | Folder] = {
        name.upper(): File(name.upper(), Literal(crossing(kinds[name])), moment) for name in names
    }
    boot = Folder("BOOT", moment, files)
    return Folder("", moment, {"EFI": Folder("EFI", moment, {"BOOT": boot})})
