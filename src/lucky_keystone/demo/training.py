"""What can go wrong with drives, and what helps, as commands on drives that misbehave."""

from __future__ import annotations

from pathlib import Path

from ..common.progress import Progress
from .disc import write_disc
from .mishaps import cure, make_mishaps
from .steps import Step, tags_of
from .tidewell import DISC, LABEL, MOMENT, installer


def make_training(folder: Path, progress: Progress) -> list[Step]:
    """Make a small disc and the bay of bad drives; return what goes wrong and what helps."""
    make_mishaps(folder / "bay")
    write_disc(folder / DISC, installer(hollow_size=32 << 20, hollow_count=6), LABEL, MOMENT, progress)
    tags = tags_of(folder)
    bay, disc = ["--bay", str(folder / "bay")], str(folder / DISC)

    def build(*names: str) -> list[str]:
        return ["build", disc, *(word for name in names for word in ("--onto", tags[name])), *bay, "--yes"]

    figure = ["--figure", str(folder / "fake.png")]
    return [
        Step("A box of unknown sticks.", ["drives", *bay]),
        Step(
            "A bargain.",
            build("fake.img"),
            5,
            "A few marks, written and read, unmask a fake before the waiting begins.",
        ),
        Step(
            "How large is it really?",
            ["gauge", tags["fake.img"], "--marks", "--yes", *bay, *figure],
            1,
            "Give it back.",
        ),
        Step(
            "A loose plug.",
            build("loose.img"),
            5,
            "Nothing is lost but time: what was not finished does not look finished.",
        ),
        Step(
            "The same command, with the plug pushed in.",
            build("loose.img"),
            0,
            "What it said it had taken was read again and compared; what its cache had lost was written again.",
            before=lambda: cure(folder / "bay", "loose.img"),
        ),
        Step(
            "A slow stick beside a fast one.",
            build("slow.img", "used.img"),
            0,
            "The fast one did not wait for the slow one.",
        ),
        Step("A worn stick.", build("worn.img"), 5, "It takes data and keeps other data: only reading back shows."),
        Step("Where is it worn?", ["gauge", tags["worn.img"], "--erase", "--yes", *bay], 1, "Throw it away."),
        Step("A stick with a bad cable.", build("jittery.img"), 0, "What may pass is tried again, and counted."),
        Step(
            "A stick back to ordinary storage.", ["reclaim", tags["used.img"], "--label", "TIMETABLES", "--yes", *bay]
        ),
        Step("What happened today?", ["log"]),
    ]
