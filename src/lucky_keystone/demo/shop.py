"""What the Tidewell workshop has written down of its machines, and a list of drives to be made."""

from __future__ import annotations

from pathlib import Path

from ..common.invoker import write_text

COUNTER, CREW, PRINTERS = "counter-3.toml", "crew-1.toml", "printers.csv"

_COUNTER = """\
# A ticket counter's PC, by its label: it does not run at present.
machine = 1
name = "Counter 3"
architecture = "x64"
bios = "yes"
uefi = "no"
security_module = "none"
memory = "4 GiB"
storage = "128 GB"
popcnt = "yes"
sse4_2 = "yes"
"""
_CREW = """\
# A crew laptop, as 'lucky-keystone machine' found it. It trusts the workshop's own authority.
machine = 1
name = "Crew 1"
model = "Skiff 14"
architecture = "x64"
started_by = "uefi"
bios = "no"
uefi = "yes"
uefi_width = 64
secure_boot = "on"
trusts = ["{authority}"]
security_module = "2.0"
memory = "8 GiB"
storage = "256 GB"
popcnt = "yes"
sse4_2 = "yes"
"""
_PRINTERS = """\
drive,source,size
printer-pier.img,{updater},64MiB
printer-deck.img,{updater},64MiB
"""


def write_shop(folder: Path, authority: str, updater: str) -> None:
    """Write two machines' files and a batch into `folder`; `authority` and `updater` are files there."""
    write_text(folder / COUNTER, _COUNTER)
    write_text(folder / CREW, _CREW.format(authority=authority))
    write_text(folder / PRINTERS, _PRINTERS.format(updater=updater))
