"""Installer apps for tests, as what carries them: a folder, a disk image, a zip archive."""

from __future__ import annotations

import os
import plistlib
import random
import shutil
import stat
import subprocess
import zipfile
from pathlib import Path

from lucky_keystone.building.stream import stream_regions
from lucky_keystone.common.progress import silent
from lucky_keystone.content.ranges import FileRange
from lucky_keystone.content.source_file import SourceFile
from lucky_keystone.content.tree import Folder
from lucky_keystone.demo.disk_image import Part, write_disk_image
from lucky_keystone.demo.mac import RELEASES, write_app
from lucky_keystone.drives.image_file import ImageFile
from lucky_keystone.sources.folder import read_folder
from lucky_keystone.volumes.hfsplus.kind import HFSPLUS

from .judges import need
from .pbzx import packed_pbzx
from .trees import file

CARRIERS = ("folder", "disk image", "zip archive", "package in a disk image", "package, pbzx")


def app_of(release: str, folder: Path) -> Path:
    folder.mkdir(parents=True, exist_ok=True)
    return write_app(folder, RELEASES[release], payload_size=1 << 20, files=4)


def carried(app: Path, carrier: str, folder: Path) -> Path:
    """Put an app into what carries it; return the source to be given."""
    if carrier == "folder":
        return app
    if carrier == "zip archive":
        path = folder / "app.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            for place in sorted(app.rglob("*")):
                name = f"{app.name}/{place.relative_to(app)}"
                info = zipfile.ZipInfo(name, (2026, 3, 14, 9, 26, 52))
                info.create_system, info.compress_type = 3, zipfile.ZIP_DEFLATED
                info.external_attr = place.lstat().st_mode << 16
                if place.is_symlink():
                    archive.writestr(info, str(place.readlink()))
                elif place.is_file():
                    archive.writestr(info, place.read_bytes())
        return path
    if carrier == "package, pbzx":
        return packaged(app, folder, in_chunks=True)
    plain, path = folder / "app.img", folder / "app.dmg"
    if carrier == "disk image":
        root = Folder("", entries={app.name: read_folder(app, [], as_unix=True)})
        root.entries[app.name].name = app.name
    else:
        package = packaged(app, folder)
        root = Folder("", entries={"Studio.pkg": file("Studio.pkg", package.read_bytes())})
    planned = HFSPLUS.draft(root, "Tidewell", 4096, 512).settle(0, 32 << 20)
    with ImageFile.make(plain, planned.end) as image:
        stream_regions(planned.regions(7), image, silent)
    content = SourceFile(plain)
    write_disk_image(path, [Part("Tidewell", FileRange(content, 0, content.size))], ["zlib", "LZFSE"])
    plain.unlink()
    return path


def packaged(app: Path, folder: Path, *, in_chunks: bool = False) -> Path:
    """Make a flat package with another program: the images are members of their own, the rest is the payload."""
    place, parts, package = folder / "root", folder / "parts", folder / "Studio.pkg"
    shutil.copytree(app, place / "Applications" / app.name, symlinks=True)
    (parts / "Studio.pkg").mkdir(parents=True)
    for image in (place / "Applications" / app.name / "Contents/SharedSupport").glob("*.dmg"):
        image.rename(parts / "Studio.pkg" / image.name)
    payload = parts / "Studio.pkg" / "Payload"
    archive = [need("bsdtar"), "-c", "--format", "odc", *([] if in_chunks else ["-z"]), "-f", payload, "-C", place, "."]
    subprocess.run(archive, check=True)
    if in_chunks:
        payload.write_bytes(packed_pbzx(payload.read_bytes(), 64 << 10, random.Random(7)))
    subprocess.run([need("bsdtar"), "-c", "--format", "xar", "-f", package, "-C", parts, "Studio.pkg"], check=True)
    return package


def parts_of(app: Path, folder: Path, *, packed: bool = False) -> Path:
    """Put the parts of an app beside each other: its images, and the app without them in a package."""
    place, parts = folder / "bare", folder / "parts"
    parts.mkdir(parents=True)
    shutil.copytree(app, place / "Applications" / app.name, symlinks=True)
    for part in sorted((place / "Applications" / app.name / "Contents/SharedSupport").iterdir()):
        part.rename(parts / part.name)
    pack = folder / "pack"
    pack.mkdir()
    payload = [need("bsdtar"), "-c", "--format", "odc", "-z", "-f", pack / "Payload", "-C", place, "."]
    subprocess.run(payload, check=True)
    made = parts / "InstallAssistantAuto.pkg"
    subprocess.run([need("bsdtar"), "-c", "--format", "xar", "-f", made, "-C", pack, "Payload"], check=True)
    if packed:
        image = parts / "InstallESD.dmg"
        around = parts / "InstallESDDmg.pkg"
        subprocess.run([need("bsdtar"), "-c", "--format", "xar", "-f", around, "-C", parts, image.name], check=True)
        image.unlink()
        told = plistlib.loads((parts / "InstallInfo.plist").read_bytes())
        told["Payload Image Info"] = {"URL": around.name, "id": "com.apple.pkg.InstallESDDmg", "chunklistURL": "x"}
        (parts / "InstallInfo.plist").write_bytes(plistlib.dumps(told))
    return parts


def facts_on_disk(app: Path) -> dict[str, tuple[int, bytes]]:
    """Return {path: (mode, bytes or where a link points)} of an app on this computer."""
    found = {}
    for place in app.rglob("*"):
        mode = place.lstat().st_mode
        data = os.fsencode(place.readlink()) if stat.S_ISLNK(mode) else b"" if place.is_dir() else place.read_bytes()
        found[str(place.relative_to(app))] = (mode if not stat.S_ISLNK(mode) else stat.S_IFLNK | 0o755, data)
    return found
