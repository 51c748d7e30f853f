"""The poster studio's installer apps, one of each generation: everything in them is made up."""

from __future__ import annotations

import hashlib
import plistlib
import zipfile
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..building.stream import stream_regions
from ..common.progress import silent
from ..content.contents import Literal
from ..content.extents import MIB, align_up
from ..content.ranges import FileRange
from ..content.source_file import SourceFile
from ..content.tree import File, Folder, Special, UnixFacts
from ..drives.image_file import ImageFile
from ..sources.chunk_list import Chunk, ChunkListHead
from ..starting.boot_configuration import T2_FILES
from ..volumes.hfsplus.kind import HFSPLUS
from .apfs import PREBOOT, ApfsPart, write_apfs
from .disk_image import Part, write_disk_image
from .loaders import mac_loader
from .mac_packages import flat_package
from .signing import package_certificate

MOMENT = datetime(2026, 3, 14, 9, 26, 52)
MODELS = ("TidewellBook7,1", "TidewellBook7,2", "TidewellStudio3,1")
"""Macs that the apps say they run on."""
_CORE = "System/Library/CoreServices"
_ASSET = "com_apple_MobileAsset_MacSoftwareUpdate"
FOR_SILICON = ("BuildManifest.plist", "kernelcache.release.tdw", "Firmware/all_flash/iBoot.tdw.im4p")
_BLOCK = 4096
_PIECE = 10 * MIB
"""Bytes of which a chunk list has a sum each."""


class Release(Struct, frozen=True):
    """A made-up release."""

    title: str
    version: str
    build: str
    generation: str
    """'whole', 'container', 'beside' or 'asset'."""
    kernel: str
    is_apfs: bool = False
    """Whether the base system is on APFS, and the kernel in it alone."""
    is_payload_apfs: bool = False
    """Whether the image in SharedSupport is one as well."""

    @property
    def app(self) -> str:
        return f"Install {self.title}.app"


RELEASES = {
    "10.8": Release("Tidewell Heron", "10.8.5", "12F45", "whole", "mach_kernel"),
    "10.9": Release(
        "Tidewell Egret",
        "10.9.5",
        "13F34",
        "container",
        "System/Library/Caches/com.apple.kext.caches/Startup/kernelcache",
    ),
    "10.12": Release(
        "Tidewell Curlew", "10.12.6", "16G29", "container", "System/Library/PrelinkedKernels/prelinkedkernel"
    ),
    "10.13": Release(
        "Tidewell Plover", "10.13.6", "17G66", "beside", "System/Library/PrelinkedKernels/prelinkedkernel"
    ),
    "11": Release("Tidewell 11", "11.7", "20G817", "asset", "System/Library/KernelCollections/BootKernelExtensions.kc"),
    "14": Release("Tidewell 14", "14.2", "23C64", "asset", "System/Library/KernelCollections/BootKernelExtensions.kc"),
    "15": Release(
        *("Tidewell 15", "15.1", "24B83", "asset", "System/Library/KernelCollections/BootKernelExtensions.kc"),
        is_apfs=True,
    ),
    "26": Release(
        *("Tidewell 26", "26.0", "25A354", "asset", "System/Library/KernelCollections/BootKernelExtensions.kc"),
        is_apfs=True,
        is_payload_apfs=True,
    ),
}


def noise(name: str, size: int) -> bytes:
    """Return bytes that do not shrink, the same for a name."""
    return hashlib.shake_128(b"poster studio " + name.encode()).digest(size)


def write_app(folder: Path, release: Release, *, payload_size: int = 4 * MIB, files: int = 40) -> Path:
    """Write a release's app into `folder`; return its path. `payload_size`: bytes of what it would install."""
    app = folder / release.app
    contents = app / "Contents"
    for name in ("MacOS", "Resources", "SharedSupport", "Frameworks/Studio.framework/Versions/A"):
        (contents / name).mkdir(parents=True)
    _list(contents / "Info.plist", _info(release))
    (contents / "PkgInfo").write_text("APPLTDWL")
    program = contents / "MacOS" / "InstallAssistant"
    program.write_bytes(b"\xcf\xfa\xed\xfe" + noise("program", 30_000))
    program.chmod(0o755)
    (contents / "Resources" / "InstallAssistant.icns").write_bytes(
        b"icns" + (2048).to_bytes(4, "big") + noise("i", 2040)
    )
    for number in range(files):
        (contents / "Resources" / f"poster {number:02}.txt").write_text(f"Poster {number} of the studio.\n" * 20)
    versions = contents / "Frameworks" / "Studio.framework" / "Versions"
    (versions / "A" / "Studio").write_bytes(b"\xcf\xfa\xed\xfe" + noise("framework", 9000))
    (versions / "A" / "Studio").chmod(0o755)
    (versions / "Current").symlink_to("A")
    (versions.parent / "Studio").symlink_to("Versions/Current/Studio")
    support, scratch = contents / "SharedSupport", folder / "scratch.img"
    {"whole": _whole, "container": _container, "beside": _beside, "asset": _asset}[release.generation](
        support, scratch, release, payload_size
    )
    scratch.unlink(missing_ok=True)
    return app


def _info(release: Release) -> dict[str, Any]:
    return {
        "CFBundleDisplayName": f"Install {release.title}",
        "CFBundleIdentifier": "org.tidewell.InstallAssistant",
        "CFBundleIconFile": "InstallAssistant",
        "CFBundleShortVersionString": release.version,
        "DTPlatformVersion": release.version,
    }


def _list(path: Path, values: Mapping[str, Any]) -> None:
    path.write_bytes(plistlib.dumps(dict(values)))


def _tree(files: Mapping[str, bytes]) -> Folder:
    root = Folder("", MOMENT)
    for path, data in files.items():
        name = path.rpartition("/")[2]
        root.put(path, File(name, Literal(data), MOMENT, Special(unix=UnixFacts(mode=0o644))))
    return root


def _boot_files(release: Release) -> dict[str, bytes]:
    """What a base system has for a start."""
    version = {"ProductName": "Tidewell", "ProductVersion": release.version, "ProductBuildVersion": release.build}
    models = {"SupportedModelProperties": list(MODELS), "SupportedBoardIds": ["Mac-Tidewell7"]}
    return {
        f"{_CORE}/boot.efi": mac_loader(),
        f"{_CORE}/PlatformSupport.plist": plistlib.dumps(models),
        f"{_CORE}/SystemVersion.plist": plistlib.dumps(version),
        release.kernel: noise(f"kernel {release.version}", 2 * MIB),
    }


def _base_system(release: Release) -> dict[str, bytes]:
    more = {f"{_CORE}/boot.efi.tdw7.im4m": noise("manifest", 700)} if release.generation == "beside" else {}
    if release.generation in ("beside", "asset"):  # what Macs with a T2 chip read, in either of its places
        place = "System/Library/PrelinkedKernels" if release.generation == "beside" else _CORE
        more |= {f"{place}/{name}": noise(name, 5000) for name in T2_FILES}
        more[f"{place}/immutablekernel.tdw7.im4m"] = noise("manifest of the kernel", 700)
    return {**_boot_files(release), **more, "System/Installation/Studio.txt": b"The base system.\n" * 9000}


def _package(release: Release, size: int) -> bytes:
    """Return a flat package with a payload of noise, and a signature whose certificate has ended for old releases."""
    is_old = release.generation in ("whole", "container")
    certificate = package_certificate(*(("090101", "190414") if is_old else ("240101", "340414")))
    return flat_package({"Payload": noise("payload", size)}, certificate)


def _image(
    path: Path, scratch: Path, files: Mapping[str, bytes], label: str, methods: Sequence[str], *, on_apfs: bool = False
) -> None:
    """Write a disk image with one volume of `files`, through a plain image that is removed again."""
    if on_apfs:
        other = ApfsPart("Preboot", _tree({"com.tidewell/empty.txt": b"Nothing here.\n"}), role=PREBOOT)
        write_apfs(scratch, [other, ApfsPart(label, _tree(files), copied=True)], name=label)
        plain = SourceFile(scratch)
        write_disk_image(path, [Part("disk image (Apple_APFS : 0)", FileRange(plain, 0, plain.size))], methods)
        scratch.unlink()
        return
    size = align_up(sum(align_up(len(data), _BLOCK) for data in files.values()) + 2 * MIB, MIB)
    planned = HFSPLUS.draft(_tree(files), label, _BLOCK, 512).settle(0, size)
    with ImageFile.make(scratch, size) as image:
        stream_regions(planned.regions(0x7469_6465_7765_6C6C), image, silent)
    plain = SourceFile(scratch)
    free = [(planned.used_end, size - _BLOCK)]
    write_disk_image(path, [Part("disk image (Apple_HFS : 0)", FileRange(plain, 0, size), free)], methods)
    scratch.unlink()


def chunk_list_of(image: bytes) -> bytes:
    """The chunk list of an image, unsigned."""
    pieces = [image[at : at + _PIECE] for at in range(0, len(image), _PIECE)]
    sums = [Chunk(chunk_size=len(piece), chunk_sha256=hashlib.sha256(piece).digest()).pack() for piece in pieces]
    end = ChunkListHead.SIZE + len(sums) * Chunk.SIZE
    head = ChunkListHead(
        cl_magic=b"CNKL", cl_header_size=ChunkListHead.SIZE, cl_file_ver=1, cl_chunk_method=1, cl_sig_method=1,
        unused=0, cl_chunk_count=len(sums), cl_chunk_offset=ChunkListHead.SIZE, cl_sig_offset=end,
    )  # fmt: skip
    return head.pack() + b"".join(sums) + noise("signature", 256)


def _base(path: Path, scratch: Path, release: Release, methods: Sequence[str]) -> bytes:
    _image(path, scratch, _base_system(release), "Tidewell Base System", methods, on_apfs=release.is_apfs)
    return path.read_bytes()


def _whole(support: Path, scratch: Path, release: Release, payload_size: int) -> None:
    configuration = plistlib.dumps({"Kernel Flags": "", "Kernel Cache": f"/{release.kernel}"})
    files = {
        **_boot_files(release),
        "Library/Preferences/SystemConfiguration/com.apple.Boot.plist": configuration,
        "Packages/Essentials.pkg": _package(release, payload_size),
    }
    _image(support / "InstallESD.dmg", scratch, files, "Tidewell Install ESD", ["zlib"])


def _container(support: Path, scratch: Path, release: Release, payload_size: int) -> None:
    base = _base(support / "inner.dmg", scratch, release, ["zlib", "bzip2"])
    (support / "inner.dmg").unlink()
    files = {
        "BaseSystem.dmg": base,
        "BaseSystem.chunklist": chunk_list_of(base),
        "Packages/Essentials.pkg": _package(release, payload_size),
    }
    _image(support / "InstallESD.dmg", scratch, files, "Tidewell Install ESD", ["zlib"])


def _beside(support: Path, scratch: Path, release: Release, payload_size: int) -> None:
    base = _base(support / "BaseSystem.dmg", scratch, release, ["LZFSE", "zlib"])
    (support / "BaseSystem.chunklist").write_bytes(chunk_list_of(base))
    files = {"Packages/Core.pkg": _package(release, payload_size)}
    _image(support / "InstallESD.dmg", scratch, files, "Tidewell Install ESD", ["zlib"])
    _list(support / "InstallInfo.plist", {"Payload Image Info": {"URL": "InstallESD.dmg"}})


def _asset(support: Path, scratch: Path, release: Release, payload_size: int) -> None:
    """The base image is a deflated member of the asset; boot files lie in it once more, the kernel where it must."""
    base = _base(support / "inner.dmg", scratch, release, ["LZFSE"])
    (support / "inner.dmg").unlink()
    asset = support / "asset.zip"
    boot = _boot_files(release)
    with zipfile.ZipFile(asset, "w") as archive:

        def put(path: str, data: bytes, method: int = zipfile.ZIP_DEFLATED) -> None:
            info = zipfile.ZipInfo(path, MOMENT.timetuple()[:6])
            info.compress_type, info.external_attr = method, 0o100644 << 16
            archive.writestr(info, data)

        put("AssetData/Restore/BaseSystem.dmg", base)
        put("AssetData/Restore/BaseSystem.chunklist", chunk_list_of(base))
        for path, data in boot.items():
            if path != release.kernel:
                put(f"AssetData/boot/{path}", data)
        for path in FOR_SILICON if release.version.split(".")[0] != "11" else ():
            put(f"AssetData/boot/{path}", noise(path, 9000))
        put("AssetData/payloadv2/payload.000", noise("payload", payload_size), zipfile.ZIP_STORED)
    files = {f"{_ASSET}/0a1b2c.zip": asset.read_bytes(), f"{_ASSET}/list.xml": plistlib.dumps({"Assets": []})}
    asset.unlink()
    image = support / "SharedSupport.dmg"
    _image(image, scratch, files, "Shared Support", ["raw"], on_apfs=release.is_payload_apfs)
