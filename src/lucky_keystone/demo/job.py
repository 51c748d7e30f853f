"""The whole job of the Tidewell Ferry Company's workshop, as commands on made-up data."""

from __future__ import annotations

import shutil
from contextlib import ExitStack
from pathlib import Path

from ..common.invoker import make_folder
from ..common.progress import Progress
from ..common.shell import quoted
from ..rehearsal.emulator import FIRMWARES, find_image
from .bay import make_bay
from .disc import write_disc
from .mac import MODELS, RELEASES, write_app
from .mac_releases import CATALOGUE, write_releases
from .old_stick import write_old_stick
from .parts import PARTS
from .rescue import DISC as TOOLS
from .rescue import boot_programs, write_rescue
from .server import WorkshopServer, write_catalogue
from .shop import COUNTER, CREW, PRINTERS, write_shop
from .signing import authority_certificate
from .steps import Step, tags_of
from .system import write_system
from .tidewell import DISC, LABEL, MOMENT, installer
from .updater import write_updater

_AUTHORITY = "tidewell-authority.pem"
_UPDATER = "ticket-printer-4.2.img.gz"
_APPS = "installer apps"
_PLOVER = "plover parts"
_CATALOGUE = "tidewell.toml"
_SYSTEM = "tidewell-bridge.wim"
_OLD_STICK = "counter-4.img"
_PAGE = "counter.html"
_BREAKS_AFTER = 200_000
"""Bytes after which the workshop's server breaks off, once."""

LEFT = (
    (DISC, "the installer disc"),
    ("bay", "the drives of the workshop"),
    (_UPDATER, "the ticket printers' updater, as it was downloaded"),
    ("printer.img", "the drive it became, byte for byte"),
    (_CATALOGUE, "the workshop's catalogue; its server ended with the demo"),
    ("store", "the downloaded images"),
    (CATALOGUE, "a catalogue of macOS releases, and beside it what the server gave of them"),
    (_PLOVER, "the parts of a macOS release, as they were fetched"),
    ("crew.img", "the crew laptops' drive: NTFS with everything, FAT32 with what firmware reads"),
    (_OLD_STICK, "counter 4's old stick, mended"),
    (TOOLS, "the workshop's rescue disc"),
    ("bench.img", "the drive for the bench: the installer, and the rescue disc in the boot manager's list"),
    (_APPS, "installer apps of Macs, one of each generation"),
    ("poster.img", "the drive of the poster studio's Mac"),
    ("studio.img", "the combined drive: Windows, and two releases for Macs"),
    (_SYSTEM, "an image with the bridge's system"),
    ("bridge.img", "the drive it became: it runs from there"),
    ("counter.toml", "the plan: edit it and build again"),
    ("counter.png", "the drive, drawn to scale"),
    (_PAGE, "a page to keep with the drive"),
    ("printers.csv", "a list of drives, and beside it the drives that were made by it"),
    ("log.sqlite", "the record of what was done here"),
)
"""What the job leaves in its folder, where it ran that far: the name, and what it is."""


def make_job(folder: Path, progress: Progress, only: str | None, stack: ExitStack) -> list[Step]:
    """Make the data and the bay; return the commands of the job, or of one part of it, with what each is for.

    The workshop's server runs until `stack` is closed.
    """
    link, apps = _write_data(folder, progress, stack)
    bay, disc, updater = ["--bay", str(folder / "bay")], str(folder / DISC), str(folder / _UPDATER)
    crew = ["--file-system", "fat32+ntfs", "--firmware", "uefi", "--label", "Crew", "--trust", str(folder / _AUTHORITY)]
    parts = {
        "look": [Step("Which drives are there?", ["drives", *bay]), Step("What is on the disc?", ["inspect", disc])],
        "counter": _counter(folder, disc),
        "crew": [
            Step(
                "The crew laptops trust the workshop's authority: nothing split, Secure Boot left on.",
                ["build", disc, "--onto", str(folder / "crew.img"), *crew],
            )
        ],
        "machines": _machines(folder, disc),
        "mend": _mend(str(folder / _OLD_STICK)),
        "bench": _bench(folder, disc),
        "printer": [
            Step(
                "The ticket printers' firmware updater: an image that is written byte for byte, compressed as it came.",
                ["build", updater, "--onto", str(folder / "printer.img"), "--size", "64MiB"],
            ),
            Step(
                "Its manifest lies at the drive's end: the beginning is the image's.",
                ["check", str(folder / "printer.img")],
            ),
        ],
        "server": _from_server(folder, link),
        "poster": _poster(folder, disc, apps),
        "bridge": _bridge(folder),
        "record": [Step("What was done today?", ["log"])],
    }
    return [step for part in PARTS if only in (None, part) for step in parts[part]]


def _write_data(folder: Path, progress: Progress, stack: ExitStack) -> tuple[str, dict[str, str]]:
    """Write everything the job begins with; return the updater's link, and the installer apps by release."""
    make_bay(folder / "bay")
    disc = installer(is_signed=True, boot_programs=boot_programs())
    write_disc(folder / DISC, disc, LABEL, MOMENT, progress)
    write_rescue(folder / TOOLS, progress)
    (folder / _AUTHORITY).write_bytes(authority_certificate())
    write_updater(folder / _UPDATER)
    apps = _make_apps(folder / _APPS)
    served = {_UPDATER: folder / _UPDATER}
    server = WorkshopServer(served, breaks_after=_BREAKS_AFTER)
    stack.callback(server.close)
    served |= write_releases(folder, {Path(apps[name]): RELEASES[name] for name in ("10.13", "14")}, server.link)
    write_catalogue(folder / _CATALOGUE, folder / _UPDATER, server.link(_UPDATER))
    write_system(folder / _SYSTEM)
    write_old_stick(folder / _OLD_STICK)
    write_shop(folder, _AUTHORITY, _UPDATER)
    return server.link(_UPDATER), apps


def _counter(folder: Path, disc: str) -> list[Step]:
    """A drive for the ticket counters: planned, built from the plan, checked, and documented."""
    tag, bay = tags_of(folder)["stick-large.img"], ["--bay", str(folder / "bay")]
    plan, figure, page = (str(folder / name) for name in ("counter.toml", "counter.png", _PAGE))
    return [
        Step(
            "How would the large stick be built?",
            ["plan", disc, "--for", tag, *bay, "--save", plan, "--figure", figure],
        ),
        Step("Build it.", ["build", plan, "--onto", tag, *bay, "--yes"]),
        Step("Check it, as one would weeks later.", ["check", tag, *bay]),
        Step(
            "A page to keep with it, which says where it comes from, why it is so, and how to start from it.",
            ["report", tag, *bay, "--to", page, "--source", disc],
        ),
    ]


def _machines(folder: Path, disc: str) -> list[Step]:
    """What machines decide of a drive, and many drives from a list."""
    known = [word for name in (COUNTER, CREW) for word in ("--machine", str(folder / name))]
    batch = ["build", "--batch", str(folder / PRINTERS), "--yes"]
    return [
        Step("What is this computer, and what does the installer ask of it?", ["machine", "--for", disc]),
        Step(
            "One stick for a counter and a laptop: the two machines decide what nobody chose.", ["plan", disc, *known]
        ),
        Step("A drive for each printer, from a list: what can share a pass does.", batch),
        Step("The list once more: what is there already is left alone.", batch),
    ]


def _mend(stick: str) -> list[Step]:
    """A stick whose files are wanted still: nothing on it is erased."""
    return [
        Step("Counter 4's stick was made by hand years ago, and no machine starts it. Why not?", ["check", stick], 1),
        Step("What would have to be written?", ["mend", stick, "--dry-run"], 1),
        Step("Mend it: its files stay where they are, and it can be taken back.", ["mend", stick, "--yes"]),
        Step("And now?", ["check", stick]),
    ]


def _bench(folder: Path, disc: str) -> list[Step]:
    """One stick for the bench: what it is to start is chosen on the machine's own screen."""
    drive, tools = str(folder / "bench.img"), str(folder / TOOLS)
    both = [disc, "--with", tools, "--entry-name", "Install Tidewell", "--entry-name", "Harbour tools"]
    return [
        Step(
            "One stick for the bench: one edition of the installer, and the workshop's rescue disc, in one list.",
            ["build", *both, "--edition", "Counter", "--menu-timeout", "20", "--onto", drive],
        ),
        Step("What was it built from?", ["inspect", drive]),
        Step("Is everything on it as the two discs have it?", ["check", drive, "--against", disc, "--against", tools]),
    ]


def _make_apps(folder: Path) -> dict[str, str]:
    """Write an installer app of each generation; return their paths by release."""
    make_folder(folder)
    return {name: str(write_app(folder, release)) for name, release in RELEASES.items()}


def _from_server(folder: Path, link: str) -> list[Step]:
    """An image from the workshop's server, chosen by its catalogue."""
    catalogue = str(folder / _CATALOGUE)
    return [
        Step(
            "The updater comes from the workshop's server, chosen by its catalogue. The server breaks off once.",
            ["fetch", "--catalogue", catalogue, "--release", "Ticket printer"],
        ),
        Step("It is kept for further drives.", ["images"]),
        Step("For the next one nothing is downloaded.", ["fetch", link, "--catalogue", catalogue]),
        Step(
            "Which releases does the catalogue of macOS have for the poster studio's Mac?",
            ["fetch", "--catalogue", str(folder / CATALOGUE), "--list", "--for", MODELS[1]],
        ),
        Step(
            "One of them comes in parts, and each is proven.",
            ["fetch", "--catalogue", str(folder / CATALOGUE), "--release", "10.13", "--into", str(folder / _PLOVER)],
        ),
        Step("Together they are an installer app.", ["inspect", str(folder / _PLOVER)]),
    ]


def _poster(folder: Path, disc: str, apps: dict[str, str]) -> list[Step]:
    """The poster studio's Mac, and one stick for everything."""
    drive = str(folder / "poster.img")
    return [
        Step("The poster studio's Mac: what is in the installer app?", ["inspect", apps["11"]]),
        Step(
            "Its drive, made without another Mac.",
            ["build", apps["11"], "--onto", drive, "--size", "16GB", "--machine-model", MODELS[1]],
        ),
        Step("Does everything that a Mac reads hold?", ["check", drive, "--machine-model", MODELS[1]]),
        Step(
            "One stick for laptops and two Macs: the Windows installer, and beside it two of the apps.",
            ["build", disc, "--with", apps["11"], "--with", apps["10.13"], "--onto", str(folder / "studio.img")],
        ),
    ]


def _bridge(folder: Path) -> list[Step]:
    """A whole system in the pocket, for whoever stands on the bridge; started where an emulator is installed."""
    drive = str(folder / "bridge.img")
    steps = [
        Step(
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
        Step("Is everything there, and does its boot store name this drive?", ["check", drive]),
    ]
    for name in ("bios", "uefi-x64"):
        firmware = FIRMWARES[name]
        if shutil.which(firmware.program) and (not firmware.images or find_image(firmware.images)):
            title = f"Start it, in an emulator with real firmware ({firmware.name})."
            picture = str(folder / f"bridge-{name}.png")
            steps.append(Step(title, ["rehearse", drive, "--firmware", name, "--seconds", "600", "--picture", picture]))
    return steps


def try_next(folder: Path) -> list[str]:
    """Return command lines that are worth trying on what the job left, with what each shows."""
    bay, tags = f"--bay {quoted(str(folder / 'bay'))}", tags_of(folder)
    tag, build = tags["stick-large.img"], f"lucky-keystone build {quoted(str(folder / DISC))}"
    return [
        f"{build} --onto {tags['disk-archive.img']} {bay}    # protected, and why",
        f"{build} --onto {tag} {bay} --update    # nothing to write",
        f"lucky-keystone gauge {tag} --marks {bay}",
        "lucky-keystone demo --mishaps training    # what can go wrong, and what helps",
    ]
