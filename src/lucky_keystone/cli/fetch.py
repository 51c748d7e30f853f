"""`fetch`: gets an image from a server."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ..errors import UsageError
from ..units import exact_size, shown_size
from .manner import manner
from .options import Sha256, Size, output_options
from .show import console, emit_json, facts, paragraph
from .stages import Stages


@click.command(
    epilog="""\b
Examples:
  lucky-keystone fetch https://images.tidewell.example/tidewell-12.iso --sha256 SUM
  lucky-keystone fetch https://images.tidewell.example/tidewell-12.iso --into images/
  lucky-keystone fetch NEW-LINK --into tidewell-12.iso
  lucky-keystone fetch - --into tidewell-12.iso < link.txt"""
)
@click.argument("link", metavar="LINK")
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    metavar="FILE-or-FOLDER",
    help="Where the image goes; else into this folder, under the link's own name.",
)
@click.option("--sha256", type=Sha256(), metavar="SUM", help="The image must have this SHA-256.")
@click.option("--size", type=Size(), metavar="BYTES", help="How large it is, where the server does not say it.")
@click.option(
    "--authority",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Certificates of an authority of your own (PEM), trusted for this beside the system's.",
)
@click.option("--patient", is_flag=True, help="Keep trying for an hour where the server does not answer.")
@click.option("--from-scratch", is_flag=True, help="Drop the part that is here, and begin again.")
@output_options
def command(
    link: str,
    into: Path | None,
    sha256: str | None,
    size: int | None,
    authority: Path | None,
    patient: bool,
    from_scratch: bool,
) -> None:
    """Get an image from LINK ('-': the link is read from standard input) into a file.

    The file has its name only when it is whole. The same command continues after any break, also with a fresh link.
    """
    from ..fetching.client import HttpClient
    from ..fetching.fetch import Events, Wanted, fetch
    from ..fetching.link import parse_link

    found = parse_link(sys.stdin.readline().strip() if link == "-" else link)
    path = into if into is not None and not into.is_dir() else (into or Path()) / _named(found.file_name)
    client, events = HttpClient(authority), Events()
    wanted = Wanted(sha256 or "", size)
    with Stages() as stages:
        events.told = stages.note
        try:
            done = fetch(found, path, wanted, client, stages, events, patient=patient, from_scratch=from_scratch)
        finally:
            client.close()
    if manner().as_json:
        from .documents import FetchDocument

        emit_json(
            FetchDocument(
                path=str(done.path),
                size=done.size,
                sha256=done.sha256,
                proven=done.proven,
                origin=done.origin,
                resumed_at=events.resumed_at,
                interruptions=events.interruptions,
                damaged=events.damaged,
            )
        )
        return
    out = console()
    rows = [("Image", str(done.path)), ("Size", exact_size(done.size)), ("SHA-256", done.sha256), ("From", done.origin)]
    if events.resumed_at:
        rows.append(("Continued", f"after {shown_size(events.resumed_at)} that were here already"))
    if events.damaged:
        rows.append(("Damaged", f"{exact_size(events.damaged)} here had changed, and were fetched again"))
    if events.interruptions:
        rows.append(("Interrupted", f"{events.interruptions} times, and continued"))
    facts(out, rows)
    if done.proven:
        paragraph(out, "It has the SHA-256 that was given.", style="good")
    else:
        paragraph(out, "Not proven: compare its SHA-256 with the one that its maker names.", style="warn")


def _named(name: str) -> str:
    if not name:
        raise UsageError("The link does not end in a plain file name.", advice="Name the file with --into FILE.")
    return name
