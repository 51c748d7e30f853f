"""What an installer app carries: its payload image, the base system in it, and the files that a start needs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from functools import cached_property
from typing import Any

from msgspec import Struct

from ...common.errors import KeystoneError, SourceError
from ...common.remembering import remembered
from ...content.bundles import SUPPORT
from ...content.contents import Seekable, seekable
from ...content.ranges import FileRange
from ...content.tree import File, Folder
from ...sources.certificates import PACKAGES, certified_until, is_package
from ...sources.chunk_list import ENDING, ChunkList, misfit, read_chunk_list
from ...sources.deflated import DeflatedFile
from ...sources.nested import OpenedImage, open_image
from ...sources.source import Source
from ...sources.zip_archive import ZipArchive
from ...starting.boot_configuration import read_property_list
from ...starting.mac_models import ListedMacs, listed_macs
from .app import FROM_ITS_IMAGE, InstallerApp, find_apps, the_app
from .generations import (
    ASSET,
    BESIDE,
    GENERATIONS,
    LOADER,
    MODELS,
    SILICON,
    SYSTEM,
    VERSION,
    WHOLE_VOLUME,
    Generation,
    WantedFile,
)

_BASE, _BASE_SUMS, _INSTALLED = "BaseSystem.dmg", "BaseSystem.chunklist", "InstallESD.dmg"
_MANIFEST = "BuildManifest.plist"
_ASSET_FOLDER = "com_apple_MobileAsset_MacSoftwareUpdate"
_AGAIN = "The installer is incomplete or damaged: download or copy it again."
_LARGEST_SMALL_FILE = 256 << 20
"""Bytes: kernels have tens of megabytes."""


class ListedImage(Struct, frozen=True):
    """An image with a chunk list."""

    name: str
    file: File
    listed: ChunkList | None
    """None where the list is damaged, or of another form."""
    fault: str = ""
    """Why the list cannot be this image's, as a sentence."""
    note: str = ""


def _listed_in(support: Folder, where: str) -> Iterator[ListedImage]:
    """Yield the images in a folder beside which a list lies under the same stem."""
    for name, entry in support.entries.items():
        if not isinstance(entry, File) or not name.lower().endswith(ENDING):
            continue
        stem = name[: -len(ENDING)]
        image = support.entries.get(f"{stem}.dmg", support.entries.get(f"{stem}.pkg"))
        if isinstance(image, File):
            yield _listed(image, entry, f"{where}/{image.name}", f"{where}/{name}")


def _listed(image: File, sums: File, name: str, list_name: str) -> ListedImage:
    try:
        listed = read_chunk_list(sums.content, list_name)
    except SourceError as error:
        return ListedImage(name, image, None, error.message)
    if listed is None:
        note = f"{list_name} is of an unknown form: {image.name} is not compared with it."
        return ListedImage(name, image, None, note=note)
    fault = misfit(listed, image.size)
    return ListedImage(name, image, None if fault else listed, fault)


class Payload(Struct, frozen=True, eq=False, dict=True):
    """An app with its images opened as far as they can be."""

    app: InstallerApp
    generation: Generation
    image: OpenedImage | None
    """The image by which the generation is known; None of a system volume that is a source itself."""
    base: OpenedImage | None
    """The base system; None of those that have none."""
    base_file: File | None
    """The base image itself."""
    base_sums: File | None
    """Its chunk list."""
    archive: ZipArchive | None = None
    """The zipped asset."""
    notes: tuple[str, ...] = ()
    volume: Folder | None = None
    """Everything that a drive without the app holds: the payload image is a system's volume, or a source is one."""

    @cached_property
    def packages(self) -> OpenedImage | None:
        """The image with the packages that would be installed; None where it is not there."""
        if self.generation is not BESIDE:
            return self.image
        file = self.app.file(_INSTALLED)
        return open_image(seekable(file.content), _name(self.app, _INSTALLED)) if file is not None else None

    @cached_property
    def certified_until(self) -> date | None:
        """The day on which the first certificate of a package ends; None where none was found."""
        try:
            volume = self.packages.volume if self.packages is not None else None
            files = list(volume.beside(f"{PACKAGES}/x")) if volume is not None else []
            if self.image is None and self.volume is not None:  # the packages are on the volume that is the source
                folder = self.volume.find_folder(PACKAGES)
                files = [entry for entry in folder.entries.values() if isinstance(entry, File)] if folder else []
        except KeystoneError:
            return None
        return certified_until(seekable(file.content) for file in files if is_package(file.name))

    @cached_property
    def listed(self) -> Sequence[ListedImage]:
        """The images of the app, and the base image, that have a chunk list beside them."""
        support = self.app.folder.find_folder(SUPPORT)
        found = list(_listed_in(support, f"{self.app.name}/{SUPPORT}")) if support is not None else []
        in_app = {id(each.file) for each in found}
        if self.base_file is not None and self.base_sums is not None and id(self.base_file) not in in_app:
            name = self.base.name if self.base is not None else _BASE
            found.append(_listed(self.base_file, self.base_sums, name, f"{name.removesuffix(_BASE)}{_BASE_SUMS}"))
        return found

    def find(self, wanted: WantedFile) -> tuple[File, list[File]] | None:
        """Return a file that a start needs, and those beside it under the same stem; None where it is nowhere."""
        for path in (wanted.path, *wanted.elsewhere):
            for found in (self._in_archive(path), self._in_base(path)):
                if found is not None:
                    return found
        return None

    def _in_base(self, path: str) -> tuple[File, list[File]] | None:
        volume = self.base.volume if self.base else None
        file = volume.find(path) if volume else None
        if volume is None or file is None:
            return None
        name = path.rpartition("/")[2]
        return file, [other for other in volume.beside(path) if _goes_along(other.name, name)]

    def _in_archive(self, path: str) -> tuple[File, list[File]] | None:
        """Look for the whole path first, then for the name alone."""
        names = self.archive.names if self.archive is not None else ()
        name = path.rpartition("/")[2]
        member = next((known for known in names if known.endswith("/" + path)), None)
        member = member or next((known for known in names if known.rpartition("/")[2] == name), None)
        if member is None:
            return None
        folder = member.removesuffix(name)
        beside = [known[len(folder) :] for known in names if known.startswith(folder)]
        others = [folder + other for other in beside if "/" not in other and _goes_along(other, name)]
        return self._member(member), [self._member(other) for other in others]

    @cached_property
    def silicon_objects(self) -> Mapping[str, File]:
        """What the asset has for Apple silicon, by path below its folder `boot`; nothing without a manifest."""
        names = self.archive.names if self.archive is not None else ()
        manifest = next((name for name in names if f"/{name}".endswith(f"/{SILICON}/{_MANIFEST}")), None)
        if manifest is None:
            return {}
        folder = manifest.removesuffix(_MANIFEST)
        paths = [name[len(folder) :] for name in names if name.startswith(folder)]
        return {path: self._member(folder + path) for path in paths if _is_for_silicon(path)}

    def _member(self, path: str) -> File:
        assert self.archive is not None
        found = self.archive.member(path)
        assert found is not None
        return File(path.rpartition("/")[2], found.content, found.modified)

    @cached_property
    def version(self) -> Mapping[str, Any]:
        """SystemVersion.plist of the base system, or of the payload image; empty where neither has one."""
        return self._list(VERSION)

    @cached_property
    def listed_macs(self) -> ListedMacs:
        """The Macs that the system says it runs on; none where it does not say."""
        return listed_macs(self._list(MODELS))

    def _list(self, path: str) -> Mapping[str, Any]:
        found = self.find(WantedFile(path))
        file = found[0] if found else None
        if file is None and self.image is not None and self.image.volume is not None:
            file = self.image.volume.find(path)
        if file is None and self.volume is not None:
            file = self.volume.find_file(path)
        value = read_property_list(seekable(file.content)) if file is not None else None
        return value if isinstance(value, dict) else {}

    @property
    def release(self) -> str:
        """'10.13.6' and so on, '' where nothing says it."""
        value = self.version.get("ProductVersion") or self.app.text("DTPlatformVersion")
        return value if isinstance(value, str) else ""

    @property
    def build(self) -> str:
        value = self.version.get("ProductBuildVersion", "")
        return value if isinstance(value, str) else ""


def _is_for_silicon(path: str) -> bool:
    """Tell whether a file below the manifest's folder is for Apple silicon: Intel's files are there too."""
    parts = path.split("/")
    if any(part in ("", ".", "..") for part in parts):
        return False
    return path == _MANIFEST or parts[0] == "Firmware" or (len(parts) == 1 and path.startswith("kernelcache."))


def _goes_along(name: str, boot_file: str) -> bool:
    """True for a file that is beside a boot file under the same stem: 'boot.efi.x.im4m' beside 'boot.efi'."""
    stem = boot_file.partition(".")[0]
    return name != boot_file and name.startswith(stem + ".")


@remembered
def payload_of(source: Source) -> Payload:
    """Open what the app of a source carries. Raises SourceError for stubs, half downloads and damaged images."""
    if is_system_volume(source):
        app = InstallerApp(f"{source.label or source.path.stem}.app", Folder(""), {})
        return Payload(app, SYSTEM, None, None, None, None, volume=source.root)
    app = the_app(source)
    for generation in GENERATIONS:
        file = app.file(generation.image)
        if file is None:
            continue
        if not file.size:
            raise SourceError(f"{_name(app, generation.image)} is empty.", advice=_AGAIN)
        image, notes = _opened(seekable(file.content), _name(app, generation.image))
        if generation is BESIDE:
            return Payload(app, generation, image, image, file, app.file(_BASE_SUMS), notes=notes)
        if generation is ASSET:
            return _with_asset(app, image, notes)
        if image.volume is None:
            raise SourceError(f"{image.name}: {image.unread}.", advice=_AGAIN)
        if image.volume.find(generation.inside) is None:
            continue
        if generation is WHOLE_VOLUME:
            return Payload(app, generation, image, image, None, None, notes=notes, volume=image.volume.tree())
        base_file = image.volume.find(_BASE)
        assert base_file is not None
        base, more = _opened(seekable(base_file.content), f"{image.name}: {_BASE}")
        sums = image.volume.find(_BASE_SUMS)
        return Payload(app, generation, image, base, base_file, sums, notes=notes + more)
    raise SourceError(_why_none(app), advice=FROM_ITS_IMAGE)


def _opened(content: Seekable, name: str) -> tuple[OpenedImage, tuple[str, ...]]:
    """Open an image; return it with what is to be said of the pass that a deflated one takes."""
    image = open_image(content, name)
    if not (isinstance(content, FileRange) and isinstance(content.file, DeflatedFile)):
        return image, ()
    return image, (f"{name} is deflated in an archive: it was decoded once to be read at any place.",)


def is_system_volume(source: Source) -> bool:
    """Tell whether a source is the volume of a system that starts by itself, as a base system's image is."""
    return not find_apps(source) and source.root.find_file(LOADER) is not None


def _name(app: InstallerApp, image: str) -> str:
    return f"{app.name}/{SUPPORT}/{image}"


def _why_none(app: InstallerApp) -> str:
    known = [generation.image for generation in GENERATIONS]
    support = app.folder.find_folder(SUPPORT)
    there = [name for name in support.entries if name.lower().endswith(".dmg")] if support else []
    if any(name in known for name in there):
        return f"{app.name}: {', '.join(there)} holds neither a base system nor a loader."
    return (
        f"{app.name} is a stub: it contains no payload (none of {', '.join(dict.fromkeys(known))} is in {SUPPORT}) "
        "and would download it when it is run."
    )


def _with_asset(app: InstallerApp, image: OpenedImage, notes: tuple[str, ...]) -> Payload:
    """Find the zipped asset in the payload image, and the base image in it."""
    if image.volume is None:
        raise SourceError(
            f"{image.name}: {image.unread}. The base system of {app.title} ({_BASE}) is only available from there.",
            advice="Build this drive on a Mac, or take an earlier point release of the installer.",
        )
    archives = [path for path in image.volume.paths() if path.lower().endswith(".zip")]
    for path in [path for path in archives if _ASSET_FOLDER.lower() in path.lower()] or archives:
        file = image.volume.find(path)
        if file is None:
            continue
        archive = ZipArchive(seekable(file.content), f"{image.name}: {path}")
        base_path = next((name for name in archive.names if name.rpartition("/")[2] == _BASE), None)
        if base_path is None:
            continue
        member = archive.member(base_path)
        assert member is not None
        base_file = File(_BASE, member.content, member.modified)
        sums_path = base_path.removesuffix(_BASE) + _BASE_SUMS
        sums = archive.member(sums_path)
        base, more = _opened(member.content, f"{image.name}: {path}: {_BASE}")
        return Payload(
            app,
            ASSET,
            image,
            base,
            base_file,
            File(_BASE_SUMS, sums.content, sums.modified) if sums else None,
            archive,
            notes + more,
        )
    raise SourceError(f"{image.name} holds no zipped asset with {_BASE} in it.", advice=_AGAIN)


def boot_files(payload: Payload, wanted: Iterator[WantedFile]) -> Iterator[tuple[WantedFile, File, list[File]]]:
    """Yield what the drive is given beside the app, with what goes along. Raises SourceError for what is missing."""
    for item in wanted:
        found = payload.find(item)
        if found is not None:
            _refuse_large(found[0])
            yield item, *found
        elif item.needed:
            raise SourceError(_missing(payload, item), advice="Build this drive on a Mac, or take another release.")


def _refuse_large(file: File) -> None:
    if file.size > _LARGEST_SMALL_FILE:
        raise SourceError(f"{file.name} has {file.size:,} bytes, more than a loader can load.", advice=_AGAIN)


def _missing(payload: Payload, item: WantedFile) -> str:
    release = payload.release or payload.app.title
    if payload.base is not None and payload.base.unread:
        return (
            f"{item.path} of {release} is only available from the base system ({payload.base.name}), "
            f"and {payload.base.unread}."
        )
    return f"{item.path} is missing from the base system of {release}."
