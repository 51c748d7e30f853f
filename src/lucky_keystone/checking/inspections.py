"""What a check looks at beside structure, one function per check: another one is a line here."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..common.progress import Progress
from ..starting.bootable import ReadBootVolume, ReadDrive
from .answers import note_answers
from .found import FoundVolume
from .macwalk import verify_base_systems, with_certificates
from .report import Report
from .setup_images import check_setup_images

READ_BESIDE: Sequence[Callable[[ReadBootVolume], ReadBootVolume]] = (with_certificates,)
"""What is read of a volume so that the rules of starting can judge it."""
OF_TREES: Sequence[Callable[[Sequence[FoundVolume], Report], None]] = (check_setup_images,)
"""Look at what lies on the volumes of drives that are made file by file."""
OF_CONTENTS: Sequence[Callable[[ReadDrive, Progress, Report], None]] = (verify_base_systems,)
"""Read contents that carry sums of their own."""
NOTES: Sequence[Callable[[Sequence[FoundVolume], Report], None]] = (note_answers,)
"""Say what is no fault, and good to know."""
