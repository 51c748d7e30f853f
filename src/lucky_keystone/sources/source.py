"""A source: its tree and the facts a technician and the planner need, found without reading contents."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from ..content import FileRange, SourceFile, Tell, seekable, stream
from ..errors import SourceError
from ..starting.pe import loader_architecture
from ..tree import File, Folder
from ..wim.read import Edition, InstallImage
from ..wim.split import LARGEST_PART
from .folder import read_folder
from .iso9660 import Iso9660Reader
from .udf import UdfReader, has_udf


@dataclass(frozen=True)
class Loader:
    """A loader found in the source."""

    path: str
    firmware: str
    """'bios' or 'uefi'."""
    architecture: str
    """By the PE header; 'x86' for BIOS; '' when the file is no loader after all."""
    size: int


@dataclass(frozen=True)
class InstallImageFacts:
    """An install image in the source."""

    path: str
    size: int
    editions: tuple[Edition, ...]
    solid: bool
    part_count: int
    has_integrity: bool


@dataclass(frozen=True)
class SourceFacts:
    """What a source is."""

    family: str
    """'windows-setup', or 'unknown'."""
    form: str
    """How it was read: 'disc image (UDF)', 'disc image (ISO 9660, Joliet)', 'folder' and so on."""
    label: str
    file_count: int
    folder_count: int
    total_bytes: int
    architectures: tuple[str, ...]
    languages: tuple[str, ...]
    release: str
    """Version of the first edition, '' when nothing tells it."""
    build: int
    loaders: tuple[Loader, ...]
    images: tuple[InstallImageFacts, ...]
    """The install images: what editions are installed from."""
    boot_images: tuple[InstallImageFacts, ...]
    """The setup environments."""
    oversized: tuple[tuple[str, int], ...]
    """Files FAT32 cannot hold, with their sizes in bytes."""
    notes: tuple[str, ...]


@dataclass
class Source:
    """What is built from."""

    path: Path
    form: str
    label: str
    root: Folder
    added: tuple[Path, ...] = ()
    _facts: SourceFacts | None = field(default=None, repr=False)

    @property
    def facts(self) -> SourceFacts:
        """Facts about the tree, found once."""
        if self._facts is None:
            self._facts = _facts(self)
        return self._facts

    @property
    def fingerprint(self) -> str:
        """32 hex digits over every path, size and time: tells whether a saved plan still meets the same source."""
        digest = hashlib.sha256()
        for path, entry in sorted(self.root.walk(), key=lambda item: item[0]):
            size = entry.size if isinstance(entry, File) else -1
            digest.update(f"{path}\0{size}\0{entry.modified.isoformat()}\n".encode("utf-8", "surrogatepass"))
        return digest.hexdigest()[:32]


def open_source(path: Path, added: Iterable[Path] = ()) -> Source:
    """Open a disc image or folder as a source, each folder of `added` laid over it. Raises SourceError."""
    overlays = tuple(added)
    if not path.exists():
        raise SourceError(f"{path} does not exist.", advice="Check the path of the source.")
    source = _open_folder(path) if path.is_dir() else _open_disc(path)
    for overlay in overlays:
        if not overlay.is_dir():
            raise SourceError(
                f"{overlay} is not a folder.", advice="--add lays the contents of a folder over the source."
            )
        source.root = source.root.merged(read_folder(overlay))
    source.added = overlays
    return source


def _open_folder(path: Path) -> Source:
    return Source(path, "folder", path.resolve().name, read_folder(path))


def _open_disc(path: Path) -> Source:
    if not path.is_file() and not path.is_block_device():
        raise SourceError(
            f"{path} is neither a file nor a folder.",
            advice="Give a disc image, a folder, or an optical drive's device.",
        )
    image = SourceFile(path)
    if image.size < 17 * 2048:
        raise SourceError(
            f"{path} has {image.size} bytes, too few for a disc image.",
            advice="It is incomplete, or not a disc image: download it again.",
        )
    if has_udf(image):
        udf = UdfReader(image)
        return Source(path, "disc image (UDF)", udf.label, udf.root())
    iso = Iso9660Reader(image)
    return Source(path, f"disc image (ISO 9660, {iso.names} names)", iso.label, iso.root())


# -- facts -----------------------------------------------------------------------------------------------------------


def _facts(source: Source) -> SourceFacts:
    files = list(source.root.files())
    notes: list[str] = []
    setups = [
        folder
        for folder in ("sources", "x64/sources", "x86/sources", "arm64/sources")
        if source.root.find_folder(folder)
    ]
    images: list[InstallImageFacts] = []
    boot_images: list[InstallImageFacts] = []
    architectures: list[str] = []
    for folder in setups:
        for name in ("install.wim", "install.esd", "install.swm", "boot.wim"):
            found = source.root.find_file(f"{folder}/{name}")
            if found is None:
                continue
            facts = _image_facts(found, f"{folder}/{found.name}", notes)
            if facts is not None:
                (boot_images if name == "boot.wim" else images).append(facts)
                architectures += [edition.architecture for edition in facts.editions]
    loaders = tuple(_loaders(source.root))
    is_windows = any(source.root.find_file(f"{folder}/boot.wim") for folder in setups)
    editions = [edition for image in images for edition in image.editions]
    known = [name for name in dict.fromkeys(architectures) if name != "unknown"]
    if not known:
        known = list(
            dict.fromkeys(
                loader.architecture for loader in loaders if loader.firmware == "uefi" and loader.architecture
            )
        )
    return SourceFacts(
        family="windows-setup" if is_windows else "unknown",
        form=source.form,
        label=source.label,
        file_count=len(files),
        folder_count=sum(1 for _, entry in source.root.walk() if isinstance(entry, Folder)),
        total_bytes=sum(file.size for _, file in files),
        architectures=tuple(known),
        languages=tuple(dict.fromkeys(language for edition in editions for language in edition.languages)),
        release=editions[0].version if editions else "",
        build=editions[0].build if editions else 0,
        loaders=loaders,
        images=tuple(images),
        boot_images=tuple(boot_images),
        oversized=tuple((path, file.size) for path, file in files if file.size > LARGEST_PART),
        notes=tuple(notes),
    )


def _image_facts(file: File, path: str, notes: list[str]) -> InstallImageFacts | None:
    try:
        image = InstallImage(seekable(file.content), path)
        return InstallImageFacts(
            path=path,
            size=file.size,
            editions=image.editions,
            solid=image.solid,
            part_count=image.header.part_count,
            has_integrity=image.has_integrity,
        )
    except SourceError as error:
        notes.append(str(error))
        return None


def _loaders(root: Folder) -> Iterable[Loader]:
    manager = root.find_file("bootmgr")
    if manager is not None:
        yield Loader("bootmgr", "bios", "x86", manager.size)
    boot = root.find_folder("efi/boot")
    for entry in boot.entries.values() if boot else ():
        if isinstance(entry, File) and entry.name.lower().endswith(".efi"):
            yield Loader(f"efi/boot/{entry.name}", "uefi", loader_architecture(seekable(entry.content)), entry.size)


# -- proving a source whole ------------------------------------------------------------------------------------------


def verify_source(source: Source, sha256: str | None, tell: Tell, *, integrity: bool) -> list[str]:
    """Read the source against `sha256` (of the image file) and, with `integrity`, its install images' own tables.

    Returns one line for each proof made or not possible; raises SourceError naming the damaged file.
    """
    proofs: list[str] = []
    if sha256 is not None:
        _verify_sum(source, sha256.lower(), tell)
        proofs.append(f"{source.path.name} has the SHA-256 given")
    for facts in (*source.facts.images, *source.facts.boot_images) if integrity else ():
        file = source.root.find_file(facts.path)
        if file is None:
            continue
        if not facts.has_integrity:
            proofs.append(f"{facts.path} has no integrity table to be checked by")
            continue
        image = InstallImage(seekable(file.content), f"{source.path.name}: {facts.path}")
        image.verify_integrity(lambda done, whole: tell("verifying the source", done, whole))
        proofs.append(f"{facts.path} matches its integrity table")
    return proofs


def _verify_sum(source: Source, sha256: str, tell: Tell) -> None:
    if source.path.is_dir():
        raise SourceError(
            f"{source.path} is a folder; a SHA-256 can only be checked of a disc image.",
            advice="Leave out --sha256, or give the disc image.",
        )
    whole = SourceFile(source.path)
    digest, done = hashlib.sha256(), 0
    for piece in stream(FileRange(whole, 0, whole.size)):
        digest.update(piece)
        done += len(piece)
        tell("verifying the source", done, whole.size)
    if digest.hexdigest() != sha256:
        raise SourceError(
            f"{source.path}: SHA-256 is {digest.hexdigest()}, {sha256} was given.",
            advice="The image is damaged, incomplete or another one: download it again.",
        )
