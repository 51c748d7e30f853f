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

from ..drives.drive import Drive
from ..drives.guards import held_back
from ..drives.host import Host
from ..units import shown_size, sold_size
from .options import bay_option, json_option
from .show import console, emit_json
from .targets import Chosen, contents_of, host_of
from .text import visible_json


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
    """List the drives of this computer, or of a bay.

    Tag, size as sold and as shown, what is on them, free or held back.

    Finding drives needs no rights; what is on one that the system does not know of is only read with permission.
    """
    host = host_of(bay)
    drives = host.drives()
    if as_json and not watch:
        emit_json(
            "drives", {"bay": str(bay) if bay else None, "drives": [_body(host, drive, drives) for drive in drives]}
        )
        return
    out = console()
    if not as_json:
        for drive in drives:
            _show(out, host, drive, drives)
        free = sum(not held_back(drive, drives) for drive in drives)
        found = "drive is" if len(drives) == 1 else "drives are"
        out.print(f"\n{len(drives)} {found} here, {free} free. A drive is named by its tag.")
    if watch:
        _watch(host, drives, out, as_json=as_json)


def _watch(host: Host, before: tuple[Drive, ...], out: Console, *, as_json: bool) -> None:
    """Look every second; tell what came and went, until the user has seen enough."""
    if not as_json:
        out.print("Watching. Plug in or pull out a drive; Ctrl-C ends this.", style="dim")
    try:
        while True:
            time.sleep(1)
            now = host.drives()
            for drive, event in [(d, "appeared") for d in now if d not in before] + [
                (d, "disappeared") for d in before if d not in now
            ]:
                if as_json:
                    told = {"schema": 1, "command": "drives", "event": event, "drive": _body(host, drive, now)}
                    print(visible_json(json.dumps(told)), flush=True)
                    continue
                out.print(event, style="bold green" if event == "appeared" else "bold yellow")
                _show(out, host, drive, now)
            before = now
            sys.stdout.flush()
    except KeyboardInterrupt:
        return


def _body(host: Host, drive: Drive, among: tuple[Drive, ...]) -> dict[str, Any]:
    """Return a drive for JSON output."""
    words = ("tag", "model", "serial", "size", "sector_size", "physical_sector_size", "bus", "speed", "removable")
    body = {name: getattr(drive, name) for name in words}
    return {
        **body,
        "path": str(drive.path),
        "contents": _contents(host, drive),
        "held_back": list(held_back(drive, among)),
    }


def _contents(host: Host, drive: Drive) -> str:
    return contents_of(Chosen(drive.path, host, drive, drive.sector_size))


def _show(out: Console, host: Host, drive: Drive, among: tuple[Drive, ...]) -> None:
    reasons = held_back(drive, among)
    state = ("held back", "bold red") if reasons else ("free", "bold green")
    sizes = f"sold as {sold_size(drive.size)}, shown as {shown_size(drive.size)}"
    place = f", {drive.path}" if drive.path.is_block_device() else ""
    out.print(Text.assemble((drive.tag, "bold"), f"  {drive.model}, {sizes}, {_connection(drive)}{place}  ", state))
    out.print(f"      on it: {_contents(host, drive)}", style="dim")
    for reason in reasons:
        out.print(f"      it {reason}", style="dim")


def _connection(drive: Drive) -> str:
    return drive.speed if drive.bus in drive.speed else f"{drive.bus} {drive.speed}".strip()
