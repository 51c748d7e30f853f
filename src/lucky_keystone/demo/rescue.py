"""The workshop's own rescue disc: a setup environment with tools, and nothing to install. All of it is made up."""

from __future__ import annotations

from pathlib import Path

from ..common.progress import Progress
from ..content.contents import Literal
from ..content.tree import File, Folder
from .disc import write_disc
from .install_image import DemoEdition, Resource, install_image, small_resource
from .tidewell import MOMENT, VERSION, noise

DISC = "harbour-tools.iso"
_X64 = 9


def boot_programs() -> list[tuple[str, Resource]]:
    """Return what a setup environment is started by, within its image."""
    return [
        (f"Windows/System32/boot/winload.{ending}", small_resource(noise(f"winload {ending}", 40_000)))
        for ending in ("exe", "efi")
    ]


def write_rescue(path: Path, progress: Progress) -> None:
    """Write the disc."""
    tools = [(f"Tools/{name}.exe", small_resource(noise(name, 300_000))) for name in ("memory", "disks", "network")]
    image = install_image(
        [DemoEdition("Harbour Tools", "Tools", [*boot_programs(), *tools])],
        architecture=_X64,
        version=VERSION,
        language="en-GB",
        boot_index=1,
    )
    root = Folder("", MOMENT)
    root.put("sources/boot.wim", File("boot.wim", image, MOMENT))
    root.put("boot/boot.sdi", File("boot.sdi", Literal(noise("tools sdi", 1_200_000)), MOMENT))
    root.put("readme.txt", File("readme.txt", Literal(b"The workshop's tools, pier 4.\r\n"), MOMENT))
    write_disc(path, root, "HARBOUR_TOOLS", MOMENT, progress)
