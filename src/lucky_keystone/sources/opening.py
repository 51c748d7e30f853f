"""Opens what was given as a source, by the first reader that knows it.

A further form is one more reader in the list.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from pathlib import Path

from msgspec.structs import replace

from ..common.errors import SourceError, naming
from ..common.progress import Progress, silent
from ..content.ranges import FileRange, RangedFile
from ..content.source_file import SourceFile
from ..content.tree import File, Folder
from ..fetching.link import Link, Place, is_foreign_part
from ..fetching.part import UNFINISHED
from ..fetching.remote import RemoteFile, Terms
from ..fetching.store import Store
from ..volumes.known import ON_A_MAC
from ..volumes.volume import UnreadVolume
from ..wim.read import InstallImage
from ..wim.records import MAGIC, Header
from ..wim.split import part_names
from .apps import app_archive, app_folder, app_package, packed_in
from .decoded import DecodedFile, measure
from .decoders import FORMATS
from .diskimage import DiskImage, is_disk_image, refuse_encrypted
from .folder import read_folder
from .image_volumes import READERS as OF_VOLUMES
from .inside import InsideVolume, volumes_in
from .iso9660 import Iso9660Reader, has_iso9660, iso9660_size
from .source import INSTALL_IMAGE, DriverFolder, Packing, Source
from .udf import UdfReader, has_udf

_SMALLEST = 512
_ADDRESS = re.compile(r"([a-z]{3,6}):/+(.*)", re.IGNORECASE | re.DOTALL)
_SLACK = 1 << 20
"""Bytes that a disc's run-out may be short of: some images are saved without it."""


def open_source(
    path: Place,
    added: Iterable[Path] = (),
    progress: Progress = silent,
    further: Iterable[Place] = (),
    *,
    drivers: Iterable[Path] = (),
    answer_file: Path | None = None,
    terms: Terms | None = None,
) -> Source:
    """Open a disc image, raw image or folder as a source, the files of each folder of `added` on top of it.

    Images on servers are read under `terms`, whose sum is that of `path`.

    `drivers` are folders with packages for setup, `answer_file` answers its questions. `further` are sources whose
    volumes go onto the same drive. A compressed image that does not say its size is decoded once to measure it, which
    `progress` reports. Raises SourceError.
    """
    overlays, terms = tuple(added), terms or Terms()
    if isinstance(path, Link):
        source = _open_stored(path, RemoteFile(path, terms), progress)
    else:
        with naming(str(path), SourceError, advice="Check the path and that you may read it."):
            source = _open_here(path, progress, terms)
    for overlay in overlays:
        if not overlay.is_dir():
            raise SourceError(
                f"{overlay} is not a folder.", advice="--add puts the contents of a folder on top of the source."
            )
        notes = list(source.notes)
        root = source.root.merged(read_folder(overlay, notes))
        source = replace(source, root=root, notes=tuple(notes))
    return replace(
        source,
        added=overlays,
        drivers=tuple(_drivers(folder) for folder in drivers),
        answer_file=_answer_file(answer_file) if answer_file is not None else None,
        further=tuple(
            open_source(other, (), progress, terms=replace(terms, sha256="", blocks=None, keep=None))
            for other in further
        ),
    )


def _open_here(path: Path, progress: Progress, terms: Terms) -> Source:
    if (address := _ADDRESS.match(path.as_posix())) is not None and not path.exists():
        raise SourceError(
            f"{address.group(1)}://{address.group(2)} is an address that images are not read from.",
            advice="Use an https link, or download the image and use the file.",
        )
    if (disc := terms.disc(path)) is not None:
        return _open_stored(path, disc, progress)
    if not path.exists():
        raise SourceError(f"{path} does not exist.", advice="Check the path of the source.")
    return _open_folder(path) if path.is_dir() else _open_file(path, progress)


def _drivers(path: Path) -> DriverFolder:
    if not path.is_dir():
        raise SourceError(f"{path} is not a folder.", advice="--drivers takes a folder with driver packages.")
    return DriverFolder(path, read_folder(path, []))


def _answer_file(path: Path) -> File:
    if not path.is_file():
        raise SourceError(f"{path} is not a file.", advice="Check the path of the answer file.")
    file = SourceFile(path)
    written = datetime.fromtimestamp(int(path.stat().st_mtime), UTC).replace(tzinfo=None)
    return File(str(path), FileRange(file, 0, file.size), written)


def _open_folder(path: Path) -> Source:
    notes: list[str] = []
    root = app_folder(path, notes) or read_folder(path, notes)
    return Source(path, "folder", path.resolve().name, root, notes=tuple(notes))


def _open_file(path: Path, progress: Progress) -> Source:
    if not path.is_file() and not path.is_block_device():
        raise SourceError(
            f"{path} is neither a file nor a folder.",
            advice="Use a disc image, a folder, or an optical drive's device.",
        )
    Store().use(path, progress)
    if path.name.endswith(UNFINISHED):
        from ..fetching.part import refuse_unfinished  # what fetches takes its time to load

        refuse_unfinished(path)
    if is_foreign_part(path.name):
        from ..fetching.foreign import refuse_foreign_part

        refuse_foreign_part(path)
    return _open_stored(path, SourceFile(path), progress)


def _open_stored(path: Place, stored: RangedFile, progress: Progress) -> Source:
    """Open an image by its bytes."""
    is_device = _is_device(stored)
    if not stored.size:
        raise SourceError(f"{path} is empty.", advice="The download did not begin, or failed: download it again.")
    if stored.size < _SMALLEST:
        raise SourceError(
            f"{path} has {stored.size} bytes, too few for an image.",
            advice="It is incomplete, or not an image: download it again.",
        )
    if is_device:  # its end is not looked at: of an optical disc it often cannot be read
        packing = None
    elif archive := next((source for reader in ARCHIVES if (source := reader(path, stored)) is not None), None):
        return archive
    else:  # a disk image may well begin as a compressed file does: with a block
        packing = None if is_disk_image(FileRange(stored, 0, stored.size)) else _packing(stored, progress)
    image: RangedFile = packing.file if packing else stored
    source = next(source for reader in READERS if (source := reader(path, image)) is not None)
    end = min(image.size, source.volume_size or image.size) if is_device else image.size
    return replace(source, image=source.image or FileRange(image, 0, end), packing=packing)


def _is_device(file: RangedFile) -> bool:
    return isinstance(file, SourceFile) and file.is_device


def _packing(stored: RangedFile, progress: Progress) -> Packing | None:
    """Return how a file is compressed, its size measured where nothing says it; None when it is not."""
    head = FileRange(stored, 0, stored.size).read_at(0, min(16, stored.size))
    form = next((form for form in FORMATS if form.recognises(head)), None)
    if form is None:
        return None
    size = form.stated_size(stored)
    if size is not None:
        return Packing(form.name, DecodedFile(stored, form, size), was_measured=False)
    size = measure(stored, form, progress)
    return Packing(form.name, DecodedFile(stored, form, size), was_measured=True)


# -- readers ---------------------------------------------------------------------------------------------------------


def _udf(path: Place, image: RangedFile) -> Source | None:
    if not has_udf(image):
        return None
    disc = UdfReader(image)
    return _disc(path, "disc image (UDF)", disc, image, max(disc.volume_size, iso9660_size(image)))


def _disc(path: Place, form: str, disc: UdfReader | Iso9660Reader, image: RangedFile, size: int) -> Source:
    return Source(path, form, disc.label, disc.root(), volume_size=size, damage=_cut(image, size))


def _cut(image: RangedFile, volume_size: int) -> tuple[str, ...]:
    """Say that a disc image ends before its volume does."""
    if volume_size <= image.size + _SLACK:
        return ()
    return (f"The disc's volume has {volume_size:,} bytes, the image {image.size:,}: a part of it is missing.",)


def _iso9660(path: Place, image: RangedFile) -> Source | None:
    if not has_iso9660(image):
        return None
    disc = Iso9660Reader(image)
    return _disc(path, f"disc image (ISO 9660, {disc.names} names)", disc, image, disc.volume_size)


def _disk_image(path: Place, image: RangedFile) -> Source | None:
    """A disk image of Macs, or a plain image with a volume of theirs; the first such volume has the files."""
    if _is_device(image):  # what tells a disk image lies at its end
        return None
    stored = FileRange(image, 0, image.size)
    form, inner = "image", image
    refuse_encrypted(stored, str(path))
    if is_disk_image(stored):
        inner = disk = DiskImage(stored, str(path))
        form = f"disk image (UDIF, {', '.join(disk.methods) or 'not compressed'})"
    whole = FileRange(inner, 0, inner.size)
    volumes = volumes_in(whole)
    readable = next((volume for volume in volumes if volume.kind in OF_VOLUMES), None)
    if any(volume.kind and volume.kind not in OF_VOLUMES for volume in volumes):
        readable = None  # a whole disk, with a volume for firmware: it is written as it is
    if readable is None and form == "image":
        return None
    if readable is None:
        _refuse_unread(path, volumes)
        return Source(path, form, "", Source.NO_FILES, image=whole)
    try:
        volume = OF_VOLUMES[readable.kind](inner, readable.offset, readable.size)
    except UnreadVolume as error:
        raise SourceError(f"{path}: {error.message}", advice=ON_A_MAC) from error
    root = volume.tree()
    held = packed_in(root, path)
    form += f", {volume.form}" + (", flat package" if held is not None else "")
    root = held if held is not None else root
    return Source(path, form, volume.label, root, image=whole, notes=volume.notes, damage=volume.damage)


def _refuse_unread(path: Place, volumes: Sequence[InsideVolume]) -> None:
    """Refuse an image that has no other volumes than such as are known and not read."""
    unread = [volume.known for volume in volumes if volume.known is not None]
    if unread and len(unread) == len(volumes):
        raise SourceError(
            f"{path} holds a volume of {unread[0].shown}, which is not supported.", advice=unread[0].instead
        )


def _install_image(path: Place, image: RangedFile) -> Source | None:
    """An install image on its own; the further parts of one lie beside it."""
    whole = FileRange(image, 0, image.size)
    if image.size < Header.SIZE or whole.read_at(0, len(MAGIC)) != MAGIC:
        return None
    try:
        header = InstallImage(whole, path.name).header
    except SourceError:
        return None  # no more than its first bytes are right
    number, count = header.part_number, header.part_count
    if number != 1:
        raise SourceError(
            f"{path} is part {number} of {count} of an install image.",
            advice="Name the first part; the others are found beside it.",
        )
    if count > 1 and isinstance(path, Link):
        raise SourceError(
            f"{path} is one part of several.", advice="Download all parts into one folder, and name the first."
        )
    files = {path.name: File(path.name, whole)}
    if count > 1 and isinstance(path, Path):
        for beside in map(path.with_name, part_names(path.name, count)):
            if beside.name not in files and beside.is_file():
                stored = SourceFile(beside)
                files[beside.name] = File(beside.name, FileRange(stored, 0, stored.size))
    return Source(path, INSTALL_IMAGE, "", Folder("", entries=dict(files)))


def _bare(path: Place, _image: RangedFile) -> Source:
    return Source(path, "image", "", Source.NO_FILES)


ARCHIVES: Sequence[Callable[[Place, RangedFile], Source | None]] = (app_archive, app_package)
"""What is opened by its own table instead of being unpacked; the first that knows a file."""
READERS: Sequence[Callable[[Place, RangedFile], Source | None]] = (_udf, _iso9660, _disk_image, _install_image, _bare)
"""The first that knows a file opens it; the last one knows every file."""
