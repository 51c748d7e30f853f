"""Driver packages: for which architectures and which class of device, by their .inf files.

As the vendor's description of INF files has it: section [Version] with Class and CatalogFile, section [Manufacturer]
whose lines name the models' section and the systems that it is decorated for.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from ..common.errors import KeystoneError
from ..content.contents import seekable
from ..content.tree import File, Folder

FOLDER = "$WinPEDriver$"
"""In a drive's root: setup takes what is in it by itself."""
_LARGEST = 8 << 20
_MOST_PACKAGES = 20_000
_CONTINUED = re.compile(r"\\\r?\n")
_SECTION = re.compile(r"\[([^\]]*)\]")
_DECORATIONS = {"ntamd64": "x64", "ntx86": "x86", "ntarm64": "arm64"}
_EVERY = frozenset(_DECORATIONS.values())


class DriverPackage(Struct, frozen=True):
    """A package of the folder that was given."""

    path: str
    """Of its .inf file, in the folder."""
    device_class: str
    """Net, System and so on; '' where it does not say."""
    architectures: frozenset[str]
    """Empty where nothing says it."""
    fault: str
    """Why setup will not take it; '' where nothing speaks against it."""


def packages_in(folder: Folder) -> Iterator[DriverPackage]:
    """Yield the packages of a folder, by their .inf files."""
    for number, (path, file) in enumerate(item for item in folder.files() if item[0].lower().endswith(".inf")):
        if number == _MOST_PACKAGES:
            return
        yield _package(folder, path, file)


def _package(folder: Folder, path: str, file: File) -> DriverPackage:
    if file.size > _LARGEST:
        return DriverPackage(path, "", frozenset(), f"it has {file.size:,} bytes: no .inf file")
    try:
        text = _text(seekable(file.content).read_at(0, file.size))
    except KeystoneError as error:
        return DriverPackage(path, "", frozenset(), error.message)
    sections = _sections(text)
    version = dict(_pairs(sections.get("version", [])))
    if "signature" not in version:
        return DriverPackage(path, "", frozenset(), "it has no [Version] with a signature: no driver package")
    architectures = _architectures(sections)
    catalogs = {value for key, value in version.items() if key.split(".")[0] == "catalogfile" and value}
    beside = path.rpartition("/")[0]
    missing = [name for name in sorted(catalogs) if folder.find_file(f"{beside}/{name}") is None]
    fault = f"its signature {missing[0]} is not beside it" if missing else "" if catalogs else "it is not signed"
    return DriverPackage(path, version.get("class", ""), architectures, fault)


def _text(data: bytes) -> str:
    for mark, encoding in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(encoding, "replace")
    return data.decode("cp1252", "replace")


def _sections(text: str) -> dict[str, list[str]]:
    """Return lines by section, both without comments; names in lower case. Sections of one name are one."""
    found: dict[str, list[str]] = {}
    here: list[str] = []
    for raw in _CONTINUED.sub("", text).splitlines():
        line = raw.split(";", 1)[0].strip()
        if match := _SECTION.fullmatch(line):
            here = found.setdefault(match.group(1).strip().lower(), [])
        elif line:
            here.append(line)
    return found


def _pairs(lines: list[str]) -> Iterator[tuple[str, str]]:
    for line in lines:
        key, sign, value = line.partition("=")
        if sign:
            yield key.strip().lower(), value.strip().strip('"').strip()


def _architectures(sections: dict[str, list[str]]) -> frozenset[str]:
    """Return what the models' sections are decorated for; a plain one is for 32-bit systems."""
    found: set[str] = set()
    for _, value in _pairs(sections.get("manufacturer", [])):
        models, *decorations = [part.strip().lower() for part in value.split(",")]
        if models in sections or not decorations:
            found |= {"x86"}
        for decoration in decorations:
            system = decoration.split(".")[0]
            if system == "nt":
                found |= _EVERY
            elif system in _DECORATIONS and f"{models}.{decoration}" in sections:
                found.add(_DECORATIONS[system])
    return frozenset(found)
