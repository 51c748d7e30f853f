"""`drives`: what is attached."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..common.units import shown_size, sold_size
from ..doing.targets import Chosen, contents_of, host_of
from ..drives.drive import Drive
from ..drives.guards import held_back
from ..drives.host import Host
from ..winapi.names import is_device_name
from .headings import Command
from .manner import manner
from .options import bay_option, output_options
from .show import assembled, console, emit_json, paragraph

if TYPE_CHECKING:
    from rich.console import Console

    from .documents import DriveBody


@click.command(
    cls=Command,
    epilog="""\b
Examples:
  lucky-keystone drives
  lucky-keystone drives --watch
  lucky-keystone drives --bay tidewell/bay --json""",
)
@bay_option
@click.option(
    "--watch", is_flag=True, help="Keep watching, and report which drives appear and disappear, until Ctrl-C."
)
@output_options
def command(bay: Path | None, watch: bool) -> None:
    """List the drives of this computer, or of a bay (a folder of simulated drives).

    Each has a tag: four characters from its model, serial number and size, the same in every port. The list shows its
    size as sold and as systems show it, what is on it, and whether it is free or protected, and why.

    Finding drives needs no special permission; reading what is on one may.
    """
    host = host_of(bay)
    drives = host.drives()
    if manner().as_json and not watch:
        from .documents import DrivesDocument, OpticalBody

        bodies = [_body(host, drive, drives) for drive in drives]
        discs = [
            OpticalBody(path=str(each.path), model=each.model, state=each.state.value, size=each.size)
            for each in host.optical_drives()
        ]
        emit_json(DrivesDocument(bay=str(bay) if bay else None, drives=bodies, optical=discs))
        return
    out = console()
    if not manner().as_json:
        for drive in drives:
            show_drive(out, host, drive, drives)
        free = sum(not held_back(drive, drives) for drive in drives)
        found = "1 drive" if len(drives) == 1 else f"{len(drives)} drives"
        named = " Name a drive by its tag." if drives else ""
        out.print(f"\n{found} found, {free} free.{named}")
        _show_optical(out, host)
    if watch:
        _watch(host, drives, out)


def _show_optical(out: Console, host: Host) -> None:
    """Print the optical drives, whose discs are sources."""
    found = host.optical_drives()
    if not found:
        return
    out.print("\nOptical drives, whose discs can be built from:")
    for each in found:
        size = f" of {shown_size(each.size)}" if each.size else ""
        paragraph(out, f"{each.path}, {each.model}: {each.state.value}{size}", indent=2, hanging=6)


def _watch(host: Host, before: tuple[Drive, ...], out: Console) -> None:
    """Look every second and report what came and went, until the user has seen enough."""
    if not manner().as_json:
        out.print("Watching. Plug in or unplug a drive; press Ctrl-C to stop.", style="quiet")
    try:
        while True:
            time.sleep(1)
            now = host.drives()
            for drive in now:
                if drive not in before:
                    _report(out, host, drive, now, "appeared")
            for drive in before:
                if drive not in now:
                    _report(out, host, drive, now, "disappeared")
            before = now
            sys.stdout.flush()
    except KeyboardInterrupt:
        return


def _report(out: Console, host: Host, drive: Drive, among: tuple[Drive, ...], event: str) -> None:
    if manner().as_json:
        from .documents import DriveEvent
        from .events import as_json

        told = DriveEvent(event="appeared" if event == "appeared" else "disappeared", drive=_body(host, drive, among))
        print(as_json(told), flush=True)
        return
    out.print(event, style="good" if event == "appeared" else "warn")
    show_drive(out, host, drive, among)


def _body(host: Host, drive: Drive, among: tuple[Drive, ...]) -> DriveBody:
    from .documents import DriveBody

    return DriveBody(
        tag=drive.tag,
        model=drive.model,
        serial=drive.serial,
        size=drive.size,
        sector_size=drive.sector_size,
        physical_sector_size=drive.physical_sector_size,
        bus=drive.bus,
        speed=drive.speed,
        removable=drive.removable,
        path=str(drive.path),
        contents=_contents(host, drive),
        held_back=tuple(held_back(drive, among)),
    )


def _contents(host: Host, drive: Drive) -> str:
    return contents_of(Chosen(drive.path, host, drive, drive.sector_size))


def show_drive(out: Console, host: Host, drive: Drive, among: tuple[Drive, ...]) -> None:
    """Print a drive: tag, model, sizes, connection, state, what is on it."""
    reasons = held_back(drive, among)
    state = ("protected", "bad") if reasons else ("free", "good")
    sizes = f"sold as {sold_size(drive.size)}, shown as {shown_size(drive.size)}"
    is_device = is_device_name(str(drive.path)) or drive.path.is_block_device()
    place = f", {drive.path}" if is_device else ""
    words = f"  {drive.model}, {sizes}, {_connection(drive)}{place}  "
    paragraph(out, assembled((drive.tag, "bold"), words, state), hanging=6)
    details = [f"on it: {_contents(host, drive)}", *(f"it {reason}" for reason in reasons)]
    if manner().verbose:
        details.insert(0, f"serial number {drive.serial or 'unknown'}, {_sectors(drive)}, {drive.path}")
    for detail in details:
        paragraph(out, detail, style="quiet", indent=6)


def _sectors(drive: Drive) -> str:
    physical = drive.physical_sector_size
    inside = f" ({physical:,} inside)" if physical not in (0, drive.sector_size) else ""
    return f"sectors of {drive.sector_size:,} bytes{inside}"


def _connection(drive: Drive) -> str:
    return drive.speed if drive.bus in drive.speed else f"{drive.bus} {drive.speed}".strip()
