"""`demo`: the whole job on made-up data, or everything that can go wrong with it."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from ..common.errors import DriveError, ProtectError, naming
from ..common.invoker import make_folder
from ..common.places import IMAGES, RECORD
from ..common.shell import command_line, quoted
from ..common.units import shown_size
from ..drives.bay import Bay
from ..drives.image_file import holds_holes
from .captured import run_captured
from .manner import manner
from .options import Word, output_options
from .show import console, emit_json
from .stages import Stages

_DISC = "tidewell-11.iso"
_AUTHORITY = "tidewell-authority.pem"
_UPDATER = "ticket-printer-4.2.img.gz"
_APPS = "installer apps"
_CATALOGUE = "tidewell.toml"
_SYSTEM = "tidewell-bridge.wim"
_OLD_STICK = "counter-4.img"
_PAGE = "counter.html"
_PARTS = ("look", "counter", "crew", "machines", "mend", "printer", "server", "poster", "bridge", "record")
"""What the demo shows, in order; a drive each for counter PCs, crew laptops, printers, the studio's Mac, the bridge."""
_ROOM = 400 << 20
"""Bytes of disk that everything takes, with some to spare."""
_APPARENT = 1_300_000_000_000
"""Bytes of all drives, were their zeros stored."""
_BREAKS_AFTER = 200_000
"""Bytes after which the workshop's server breaks off, once."""


@dataclass(frozen=True)
class _Step:
    """One command of the job."""

    title: str
    arguments: list[str]
    code: int = 0
    """The exit code it is meant to end with."""
    lesson: str = ""
    before: Callable[[], None] | None = None


@click.command(
    epilog="""\b
Examples:
  lucky-keystone demo
  lucky-keystone demo /tmp/tidewell
  lucky-keystone demo --only printer /tmp/printer
  lucky-keystone demo --mishaps /tmp/training"""
)
@click.argument("folder", type=click.Path(path_type=Path), default=Path("tidewell-demo"))
@click.option(
    "--mishaps", is_flag=True, help="For training: fake, failing, slow and vanishing drives, and what to do about each."
)
@click.option("--only", type=Word(_PARTS), help="Run only this part of the job.")
@output_options
def command(folder: Path, mishaps: bool, only: str | None) -> int:
    """Make the Tidewell Ferry Company's installer disc and drives in FOLDER, and do the whole job with them.

    The disc holds an install image larger than 4 GiB and the larger drives are of their full size, but all of it is
    sparse and takes little room on this computer.
    """
    if mishaps and only:
        raise click.UsageError("--only names a part of the job, and --mishaps shows something else.")
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise ProtectError(
            f"{folder} is there already and not empty.", advice="Name a new folder: lucky-keystone demo OTHER"
        )
    _refuse_no_room(folder)
    out = console()
    if not manner().as_json:
        out.print("The Tidewell Ferry Company's workshop sets up its machines. Everything here is made up.\n")
    with (
        naming(str(folder), DriveError, advice="Choose a folder that can be written to."),
        Stages() as stages,
    ):
        steps = _make_mishaps(folder, stages) if mishaps else _make_job(folder, stages, only)
    from .documents import CommandRun, DemoDocument

    done: list[CommandRun] = []
    for step in steps:
        if step.before:
            step.before()
        code, document = _run(step, folder)
        line = command_line(step.arguments)
        done.append(CommandRun(command_line=line, exit_code=code, document=document))
        if code != step.code:
            break
    else:
        code = 0
    if manner().as_json:
        emit_json(DemoDocument(folder=str(folder), steps=done))
    elif code:
        out.print(f"\nThe demo ends here: exit code {code}.", style="bad")
    elif mishaps:
        out.print(
            f"\nThe drives are in {folder / 'bay'}: give them other faults in bay.toml and try again.", style="bold"
        )
    else:
        _closing(folder)
    return code


def _refuse_no_room(folder: Path) -> None:
    """Raise DriveError where the demo's files would not fit, before the first of them is made."""
    above = next(place for place in (folder, *folder.absolute().parents) if place.is_dir())
    free = shutil.disk_usage(above).free
    if not holds_holes(above):
        raise DriveError(
            f"The file system of {above} stores zeros as well: the demo would take {shown_size(_APPARENT)} there.",
            advice="Choose a folder on another disk: lucky-keystone demo OTHER",
        )
    if free < _ROOM:
        raise DriveError(
            f"The demo takes {shown_size(_ROOM)}, and {shown_size(free)} are free in {above}.",
            advice="Make room there, or choose a folder on another disk: lucky-keystone demo OTHER",
        )


def _run(step: _Step, folder: Path) -> tuple[int, Any]:
    """Run a command of this program as if it had been typed, with a record and a store of the demo's own."""
    from .main import main

    own = {RECORD: str(folder / "log.sqlite"), IMAGES: str(folder / "store")}
    before = {name: os.environ.get(name) for name in own}
    os.environ.update(own)
    try:
        if manner().as_json:
            return run_captured(step.arguments)
        out = console()
        out.print()
        out.print(step.title, style="bold")
        out.print(f"$ {command_line(step.arguments)}\n", style="typed")
        code = main(step.arguments)
        if step.lesson:
            out.print(f"\n  -> {step.lesson}", style="lesson")
        return code, None
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value


def _make_job(folder: Path, stages: Stages, only: str | None) -> list[_Step]:
    """Make the data and the bay; return the commands of the job, or of one part of it, with what each is for."""
    from ..demo.bay import make_bay
    from ..demo.disc import write_disc
    from ..demo.old_stick import write_old_stick
    from ..demo.server import WorkshopServer, write_catalogue
    from ..demo.shop import write_shop
    from ..demo.signing import authority_certificate
    from ..demo.system import write_system
    from ..demo.tidewell import LABEL, MOMENT, installer
    from ..demo.updater import write_updater

    make_bay(folder / "bay")
    write_disc(folder / _DISC, installer(is_signed=True), LABEL, MOMENT, stages)
    (folder / _AUTHORITY).write_bytes(authority_certificate())
    write_updater(folder / _UPDATER)
    server = WorkshopServer({_UPDATER: folder / _UPDATER}, breaks_after=_BREAKS_AFTER)
    click.get_current_context().call_on_close(server.close)
    write_catalogue(folder / _CATALOGUE, folder / _UPDATER, server.link(_UPDATER))
    apps = _make_apps(folder / _APPS)
    write_system(folder / _SYSTEM)
    write_old_stick(folder / _OLD_STICK)
    write_shop(folder, _AUTHORITY, _UPDATER)
    tags = _tags(folder)
    tag = tags["stick-large.img"]
    bay, disc, updater = ["--bay", str(folder / "bay")], str(folder / _DISC), str(folder / _UPDATER)
    plan, figure, page = (str(folder / name) for name in ("counter.toml", "counter.png", _PAGE))
    crew = ["--file-system", "fat32+ntfs", "--firmware", "uefi", "--label", "Crew", "--trust", str(folder / _AUTHORITY)]
    parts = {
        "look": [_Step("Which drives are there?", ["drives", *bay]), _Step("What is on the disc?", ["inspect", disc])],
        "counter": [
            _Step(
                "How would the large stick be built?",
                ["plan", disc, "--for", tag, *bay, "--save", plan, "--figure", figure],
            ),
            _Step("Build it.", ["build", plan, "--onto", tag, *bay, "--yes"]),
            _Step("Check it, as one would weeks later.", ["check", tag, *bay]),
            _Step(
                "A page to keep with it, which says where it comes from, why it is so, and how to start from it.",
                ["report", tag, *bay, "--to", page, "--source", disc],
            ),
        ],
        "crew": [
            _Step(
                "The crew laptops trust the workshop's authority: nothing split, Secure Boot left on. A pair.",
                ["build", disc, "--onto", str(folder / "crew.img"), *crew],
            )
        ],
        "machines": _machines(folder, disc),
        "mend": _mend(str(folder / _OLD_STICK)),
        "printer": [
            _Step(
                "The ticket printers' firmware updater: an image that is written byte for byte, compressed as it came.",
                ["build", updater, "--onto", str(folder / "printer.img"), "--size", "64MiB"],
            ),
            _Step(
                "Its manifest lies at the drive's end: the beginning is the image's.",
                ["check", str(folder / "printer.img")],
            ),
        ],
        "server": _from_server(folder, server.link(_UPDATER)),
        "poster": _poster(folder, disc, apps),
        "bridge": _bridge(folder),
        "record": [_Step("What was done today?", ["log"])],
    }
    return [step for part in _PARTS if only in (None, part) for step in parts[part]]


def _machines(folder: Path, disc: str) -> list[_Step]:
    """What machines decide of a drive, and many drives from a list."""
    from ..demo.shop import COUNTER, CREW, PRINTERS

    known = [word for name in (COUNTER, CREW) for word in ("--machine", str(folder / name))]
    batch = ["build", "--batch", str(folder / PRINTERS), "--yes"]
    return [
        _Step("What is this computer, and what does the installer ask of it?", ["machine", "--for", disc]),
        _Step(
            "One stick for a counter and a laptop: the two machines decide what nobody chose.", ["plan", disc, *known]
        ),
        _Step("A drive for each printer, from a list: what can share a pass does.", batch),
        _Step("The list once more: what is there already is left alone.", batch),
    ]


def _mend(stick: str) -> list[_Step]:
    """A stick whose files are wanted still: nothing on it is erased."""
    return [
        _Step("Counter 4's stick was made by hand years ago, and no machine starts it. Why not?", ["check", stick], 1),
        _Step("What would have to be written?", ["mend", stick, "--dry-run"], 1),
        _Step("Mend it: its files stay where they are, and it can be taken back.", ["mend", stick, "--yes"]),
        _Step("And now?", ["check", stick]),
    ]


def _make_apps(folder: Path) -> dict[str, str]:
    """Write an installer app of each generation; return their paths by release."""
    from ..demo.mac import RELEASES, write_app

    make_folder(folder)
    return {name: str(write_app(folder, release)) for name, release in RELEASES.items()}


def _from_server(folder: Path, link: str) -> list[_Step]:
    """An image from the workshop's server, chosen by its catalogue."""
    catalogue = str(folder / _CATALOGUE)
    return [
        _Step(
            "The updater comes from the workshop's server, chosen by its catalogue. The server breaks off once.",
            ["fetch", "--catalogue", catalogue, "--release", "Ticket printer"],
        ),
        _Step("It is kept for further drives.", ["images"]),
        _Step("For the next one nothing is downloaded.", ["fetch", link, "--catalogue", catalogue]),
    ]


def _poster(folder: Path, disc: str, apps: dict[str, str]) -> list[_Step]:
    """The poster studio's Mac, and one stick for everything."""
    from ..demo.mac import MODELS

    drive = str(folder / "poster.img")
    return [
        _Step("The poster studio's Mac: what is in the installer app?", ["inspect", apps["11"]]),
        _Step(
            "Its drive, made without another Mac.",
            ["build", apps["11"], "--onto", drive, "--size", "16GB", "--machine-model", MODELS[1]],
        ),
        _Step("Does everything that a Mac reads hold?", ["check", drive, "--machine-model", MODELS[1]]),
        _Step(
            "One stick for laptops and two Macs: the Windows installer, and beside it two of the apps.",
            ["build", disc, "--with", apps["11"], "--with", apps["10.13"], "--onto", str(folder / "studio.img")],
        ),
    ]


def _bridge(folder: Path) -> list[_Step]:
    """A whole system in the pocket, for whoever stands on the bridge; started where an emulator is installed."""
    from ..rehearsal.emulator import FIRMWARES, find_image

    drive = str(folder / "bridge.img")
    steps = [
        _Step(
            "The ferry's bridge: a Windows that runs from the drive itself, on any PC.",
            [
                "build",
                str(folder / _SYSTEM),
                "--purpose",
                "portable",
                "--onto",
                drive,
                "--trust",
                str(folder / _AUTHORITY),
            ],
        ),
        _Step("Is everything there, and does its boot store name this drive?", ["check", drive]),
    ]
    for name in ("bios", "uefi-x64"):
        firmware = FIRMWARES[name]
        if shutil.which(firmware.program) and (not firmware.images or find_image(firmware.images)):
            title = f"Start it, in an emulator with real firmware ({firmware.name})."
            picture = str(folder / f"bridge-{name}.png")
            steps.append(
                _Step(title, ["rehearse", drive, "--firmware", name, "--seconds", "600", "--picture", picture])
            )
    return steps


def _make_mishaps(folder: Path, stages: Stages) -> list[_Step]:
    """Make a small disc and the bay of bad drives; return what goes wrong and what helps."""
    from ..demo.disc import write_disc
    from ..demo.mishaps import cure, make_mishaps
    from ..demo.tidewell import LABEL, MOMENT, installer

    make_mishaps(folder / "bay")
    write_disc(folder / _DISC, installer(hollow_size=32 << 20, hollow_count=6), LABEL, MOMENT, stages)
    tags = _tags(folder)
    bay, disc = ["--bay", str(folder / "bay")], str(folder / _DISC)

    def build(*names: str) -> list[str]:
        return ["build", disc, *(word for name in names for word in ("--onto", tags[name])), *bay, "--yes"]

    figure = ["--figure", str(folder / "fake.png")]
    return [
        _Step("A box of unknown sticks.", ["drives", *bay]),
        _Step(
            "A bargain.",
            build("fake.img"),
            5,
            "A few marks, written and read, unmask a fake before the waiting begins.",
        ),
        _Step(
            "How large is it really?",
            ["gauge", tags["fake.img"], "--marks", "--yes", *bay, *figure],
            1,
            "Give it back.",
        ),
        _Step(
            "A loose plug.",
            build("loose.img"),
            5,
            "Nothing is lost but time: what was not finished does not look finished.",
        ),
        _Step(
            "The same command, with the plug pushed in.",
            build("loose.img"),
            0,
            "What it said it had taken was read again and compared; what its cache had lost was written again.",
            before=lambda: cure(folder / "bay", "loose.img"),
        ),
        _Step(
            "A slow stick beside a fast one.",
            build("slow.img", "used.img"),
            0,
            "The fast one did not wait for the slow one.",
        ),
        _Step("A worn stick.", build("worn.img"), 5, "It takes data and keeps other data: only reading back shows."),
        _Step("Where is it worn?", ["gauge", tags["worn.img"], "--erase", "--yes", *bay], 1, "Throw it away."),
        _Step("A stick with a bad cable.", build("jittery.img"), 0, "What may pass is tried again, and counted."),
        _Step(
            "A stick back to ordinary storage.", ["reclaim", tags["used.img"], "--label", "TIMETABLES", "--yes", *bay]
        ),
        _Step("What happened today?", ["log"]),
    ]


def _tags(folder: Path) -> dict[str, str]:
    return {drive.path.name: drive.tag for drive in Bay(folder / "bay").drives()}


def _closing(folder: Path) -> None:
    out = console()
    bay, disc, tags = folder / "bay", folder / _DISC, _tags(folder)
    out.print(f"\nEverything is in {folder}:", style="bold")
    for path, what in (
        (disc, "the installer disc"),
        (bay, "the drives of the workshop"),
        (folder / _UPDATER, "the ticket printers' updater, as it was downloaded"),
        (folder / "printer.img", "the drive it became, byte for byte"),
        (folder / _CATALOGUE, "the workshop's catalogue; its server ended with the demo"),
        (folder / "store", "the store, with the image that was fetched"),
        (folder / "crew.img", "the crew laptops' drive: NTFS with everything, FAT32 with what firmware reads"),
        (folder / _OLD_STICK, "counter 4's old stick, mended"),
        (folder / _APPS, "installer apps of Macs, one of each generation"),
        (folder / "poster.img", "the drive of the poster studio's Mac"),
        (folder / "studio.img", "the combined drive: Windows, and two releases for Macs"),
        (folder / _SYSTEM, "an image with the bridge's system"),
        (folder / "bridge.img", "the drive it became: it runs from there"),
        (folder / "counter.toml", "the plan: edit it and build again"),
        (folder / "counter.png", "the drive, drawn to scale"),
        (folder / _PAGE, "a page to keep with the drive"),
        (folder / "printers.csv", "a list of drives, and beside it the drives that were made by it"),
        (folder / "log.sqlite", "the record of what was done here"),
    ):
        if path.exists():
            out.print(f"  {path}: {what}")
    out.print("\nTry next:", style="bold")
    tag, archive = tags["stick-large.img"], tags["disk-archive.img"]
    build, onto_bay = f"lucky-keystone build {quoted(str(disc))}", f"--bay {quoted(str(bay))}"
    for line in (
        f"{build} --onto {archive} {onto_bay}    # held back, and why",
        f"{build} --onto {tag} {onto_bay} --update    # nothing to write",
        f"lucky-keystone gauge {tag} --marks --bay {quoted(str(bay))}",
        "lucky-keystone demo --mishaps training    # what can go wrong, and what helps",
    ):
        out.print(f"  {line}")
