"""The family: a Windows that runs from the drive. What it wishes of a drive is in `wish.py`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

import msgspec
from msgspec.structs import replace

from ....common.errors import UsageError
from ....common.units import shown_size
from ....content.tree import Folder
from ....setup.folders import SETUP_IMAGES
from ....sources.source import INSTALL_IMAGE, Source
from ....starting.bootable import Bootable
from ...choices import Choices, TakenChoices, all_but
from ...facts import SourceFacts
from ...family import DriveShape, DriveWish, Family, Proposal, Question
from ..facts import facts_of
from ..proposals import SIGNINGS
from .editions import all_images, editions_of, words_of

_ALONE = "install-image"
"""The family of an image that is not an installer: what it is, as long as no purpose is chosen."""


class WindowsPortable(Family):
    """Editions of an install image, in an installer or on its own."""

    name: ClassVar[str] = "windows-portable"
    shown: ClassVar[str] = "Windows that runs from the drive"
    purpose: ClassVar[str] = "portable"
    alone: ClassVar[str] = "to become a system that runs from the drive, and takes all of it"
    takes: ClassVar[TakenChoices] = all_but(
        {
            "part_size": "with --purpose portable nothing is split",
            "waive": "with --purpose portable no setup runs that would check the machine",
            "ask_edition": "with --purpose portable no setup runs that would ask",
            **dict.fromkeys(
                ("entry_name", "default_entry", "menu_timeout"),
                "with --purpose portable the boot manager starts one system, and lists none",
            ),
        }
    )
    lacking: ClassVar[str] = "holds no install image (sources/install.wim, .esd or .swm)"
    without_purpose: ClassVar[str] = "install image without an installer around it"
    read_beside: ClassVar[frozenset[str]] = frozenset(("--answer-file",))

    def recognises(self, source: Source) -> bool:
        return source.packing is None and bool(all_images(source))

    def is_on(self, drive: Bootable) -> bool:
        """Tell whether a system lies on a drive, and no installer beside it on the same volume."""
        from .marks import HIVE

        return any(
            volume.find(HIVE) is not None and not any(volume.find(path) for path in SETUP_IMAGES)
            for volume in drive.volumes
        )

    def facts(self, source: Source) -> SourceFacts:
        return replace(facts_of(source), family=_ALONE if source.form == INSTALL_IMAGE else self.name)

    def on_drive(self, source: Source) -> Folder:
        raise UsageError(
            "--against: a system that runs from the drive changes it, so a source says nothing about it.",
            advice="'check' alone compares the drive with its own manifest.",
        )

    def for_secure_boot(self) -> Sequence[Proposal]:
        return SIGNINGS

    def question(self, source: Source, choices: Choices) -> Question | None:
        there = [edition for _, edition in editions_of(source)]
        if choices.edition is not None or len(there) < 2:
            return None
        return Question(
            "Which edition is to run from the drive?",
            ("Edition", "Architecture", "Build", "Installed"),
            [(each.name, each.architecture, str(each.build or "unknown"), shown_size(each.size)) for each in there],
            [msgspec.structs.replace(choices, edition=word) for word in words_of(source)],
        )

    def refuse_update(self) -> None:
        raise UsageError(
            "--update: a system that ran from the drive has changed it, so what is on it is no longer what was built.",
            advice="Save what is needed from it, and build it from scratch, without --update.",
        )

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        from .wish import wish  # with all that applies an image

        return wish(source, msgspec.structs.replace(choices, purpose=self.purpose), drive)
