"""`drives`: what is attached."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from ..drives.attached import attached
from ..drives.bay import list_bay
from ..drives.drive import Drive, held_back
from ..drives.image_file import ImageFile
from ..errors import KeystoneError
from ..units import shown_size, sold_size
from .options import bay_option, json_option
from .show import console, emit_json


@click.command(
    epilog="""\b
Examples:
  lucky-keystone drives
  lucky-keystone drives --watch
  lucky-keystone drives --bay tidewell/bay --json"""
)
@bay_option
@click.option("--watch", is_flag=True, help="Go on, and tell which drives appear and disappear. Ctrl-C ends it.")
@json_option
def command(bay: Path | None, watch: bool, as_json: bool) -> None:
    """List the drives of this computer, or of a bay: tag, size as sold and as shown, what is on them, free or held back.

    Only descriptions are read, so it needs no rights. Real drives are listed and checked by this version, not yet written.
    """
    drives = _list(bay)
    if as_json and not watch:
        emit_json("drives", {"bay": str(bay) if bay else None, "drives": [_body(drive, drives) for drive in drives]})
        return
    out = console()
    if not as_json:
        for drive in drives:
            _show(out, drive, drives)
        free = sum(not held_back(drive, drives) for drive in drives)
        found = "drive is" if len(drives) == 1 else "drives are"
        out.print(f"\n{len(drives)} {found} here, {free} free. A drive is named by its tag.")
    if watch:
        _watch(bay, drives, out, as_json=as_json)


def _list(bay: Path | None) -> tuple[Drive, ...]:
    return list_bay(bay) if bay is not None else attached()


def _watch(bay: Path | None, before: tuple[Drive, ...], out: Console, *, as_json: bool) -> None:
    """Look every second; tell what came and went, until the user has seen enough."""
    if not as_json:
        out.print("Watching. Plug in or pull out a drive; Ctrl-C ends this.", style="dim")
    try:
        while True:
            time.sleep(1)
            now = _list(bay)
            for drive, event in [(d, "appeared") for d in now if d not in before] + [(d, "disappeared") for d in before if d not in now]:
                if as_json:
                    print(json.dumps({"schema": 1, "command": "drives", "event": event, "drive": _body(drive, now)}), flush=True)
                    continue
                out.print(event, style="bold green" if event == "appeared" else "bold yellow")
                _show(out, drive, now)
            before = now
            sys.stdout.flush()
    except KeyboardInterrupt:
        return


def _body(drive: Drive, among: tuple[Drive, ...]) -> dict[str, Any]:
    """Return a drive for JSON output."""
    told = ("tag", "model", "serial", "size", "sector_size", "physical_sector_size", "bus", "speed", "removable")
    body = {name: getattr(drive, name) for name in told}
    return {**body, "path": str(drive.path), "contents": _contents(drive), "held_back": list(held_back(drive, among))}


def _contents(drive: Drive) -> str:
    """What is on a drive: as the system tells it, else from its own bytes where they may be read."""
    from ..drives.contents import describe

    if drive.volumes:
        return ", ".join(drive.volumes)
    try:
        with ImageFile(drive.path) as image:
            return describe(image, drive.sector_size)
    except KeystoneError:
        return "not known: it cannot be read without the right to (put sudo in front)"


def _show(out: Console, drive: Drive, among: tuple[Drive, ...]) -> None:
    reasons = held_back(drive, among)
    state = ("held back", "bold red") if reasons else ("free", "bold green")
    sizes = f"sold as {sold_size(drive.size)}, shown as {shown_size(drive.size)}"
    place = f", {drive.path}" if drive.path.is_block_device() else ""
    out.print(Text.assemble((drive.tag, "bold"), f"  {drive.model}, {sizes}, {_connection(drive)}{place}  ", state))
    out.print(f"      on it: {_contents(drive)}", style="dim")
    for reason in reasons:
        out.print(f"      it {reason}", style="dim")


def _connection(drive: Drive) -> str:
    return drive.speed if drive.bus in drive.speed else f"{drive.bus} {drive.speed}".strip()
