"""Installers of other releases than the demo's, as folders: older, newer, for two architectures."""

from __future__ import annotations

import hashlib
from pathlib import Path

from lucky_keystone.content.contents import Literal
from lucky_keystone.demo.loaders import bios_loader, uefi_loader
from lucky_keystone.starting.pe import REMOVABLE_LOADERS

from .install_images import Item, install_image

PROCESSORS = {"x86": 0, "x64": 9, "arm64": 12}
LOADER = "bootmgfw.efi"


def tree(path: str, item: Item) -> dict[str, Item]:
    """Return a tree with one file at a path."""
    name, _, below = path.partition("/")
    return {name: Item(None, tree(below, item)) if below else item}


def merged(*trees: dict[str, Item]) -> dict[str, Item]:
    made: dict[str, Item] = {}
    for each in trees:
        for name, item in each.items():
            before = made.get(name)
            both = before is not None and before.data is None and item.data is None
            made[name] = Item(None, merged(dict(before.below), dict(item.below))) if both and before else item
    return made


def put(folder: Path, path: str, data: bytes) -> None:
    place = folder / path
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_bytes(data)


def some(name: str, size: int) -> bytes:
    return hashlib.shake_128(name.encode()).digest(size)


def release(
    folder: Path,
    *,
    build: int,
    architectures: tuple[str, ...] = ("x64",),
    loaders: dict[str, bytes] | None = None,
    inside: dict[str, bytes] | None = None,
    in_setup: dict[str, bytes] | None = None,
    method: str = "lzx",
    installation: str = "Client",
) -> Path:
    """Write an installer.

    `loaders`: removable loaders by architecture. `inside`: files of the install image's editions. `in_setup`: files of
    the setup environment. Several architectures have folders of their own.
    """
    loaders = {each: uefi_loader(each) for each in architectures} if loaders is None else loaders
    settings = some("settings", 9000)
    for path in ("boot/bcd", "efi/microsoft/boot/bcd"):
        put(folder, path, settings)
    put(folder, "setup.exe", some("setup", 3000))
    put(folder, "efi/microsoft/boot/fonts/wharf_boot.ttf", some("font", 5000))
    for architecture, loader in loaders.items():
        put(folder, f"efi/boot/{REMOVABLE_LOADERS[architecture]}", loader)
    for architecture in architectures:
        place = f"{architecture}/sources" if len(architectures) > 1 else "sources"
        files = [tree(path, Item(data)) for path, data in (inside or {}).items()]
        facts = {"architecture": PROCESSORS[architecture], "build": build, "installation": installation}
        ballast = {
            f"ballast {n}.bin": Item(some(f"{architecture} {n}", 600_000)) for n in range(2 if method == "none" else 1)
        }
        editions = [merged(*files, ballast), merged(*files)]
        put(folder, f"{place}/install.wim", install_image(editions, method, **facts))  # type: ignore[arg-type]
        of_setup = [tree(path, Item(data)) for path, data in (in_setup or {}).items()]
        environment = install_image([{"a": Item(b"a")}, merged(*of_setup)], method, name="Setup", **facts)  # type: ignore[arg-type]
        put(folder, f"{place}/boot.wim", environment)
        if architecture == architectures[0]:
            put(folder, "bootmgr", bios_loader(300 << 10, settings, Literal(environment)))
    return folder
