"""Marks in a system that runs from a drive, and what is put into it; everything else in it stays as it is."""

from __future__ import annotations

from msgspec import Struct

from ....common.errors import SourceError
from ....content.contents import Literal, seekable, stream
from ....content.tree import File, Folder
from ....hive.edit import HiveEditor
from ....hive.read import Hive, HiveError
from ....setup import answer_file
from ...family import Decision

HIVE = "Windows/System32/config/SYSTEM"
_LOGS = (".LOG1", ".LOG2", ".LOG")
_LARGEST_HIVE = 256 << 20
_LOG_HEAD = 512
_ENTRY_MARKS = (b"HvLE", b"DIRT")
"""Begin the entries of a hive's log, newer and older."""
ANSWERS = "Windows/Panther/unattend.xml"
"""Where the first start of an applied system looks for answers. Not proven here."""
SAN_POLICIES = {"offline": 4, "online": 1}
"""Of partmgr: 4 keeps internal disks offline, 1 brings all disks online."""


class Marked(Struct, frozen=True):
    """An edition with its marks."""

    root: Folder
    decisions: tuple[Decision, ...]


def marked(root: Folder, internal_disks: str, *, chosen: bool) -> Marked:
    """Mark a system as one that runs from a drive. Raises SourceError where its hive cannot be edited."""
    file = root.find_file(HIVE)
    if file is None:
        raise SourceError(f"The edition has no {HIVE}.", advice="It is not a system that can be started; use another.")
    if not 0 < file.size <= _LARGEST_HIVE:
        raise SourceError(f"{HIVE} has {file.size:,} bytes.", advice="The image is damaged; get it again.")
    data = b"".join(bytes(piece) for piece in stream(file.content))
    decisions = []
    try:
        hive = Hive(data, HIVE)
        if hive.is_dirty:
            _refuse_log_entries(root)
            reason = "it was not closed properly, but its logs hold nothing that is missing in it"
            decisions.append(Decision("registry", f"{HIVE} is taken as it is", reason))
        control = _control_set(hive)
        editor = HiveEditor(data, HIVE)
        editor.set_number(f"{control}\\Control", "PortableOperatingSystem", 1)
        policy = SAN_POLICIES[internal_disks]
        editor.set_number(f"{control}\\Services\\partmgr\\Parameters", "SanPolicy", policy)
        edited = editor.finished()
    except HiveError as error:
        raise SourceError(error.message, advice="The image is damaged; use another one.") from error
    letters = hive.find("MountedDevices")
    if letters is not None and letters.node.value_count:
        reason = "it gave them to other drives where it was captured, so its own volume may get another letter than C"
        decisions.append(Decision("drive letters", f"the system remembers {letters.node.value_count:,}", reason))
    why = "the system runs on any machine, and must not touch what is on its disks"
    if internal_disks == "online":
        why = "the machine's own disks get letters, and can be written to"
    by = "you" if chosen else "tool"
    decisions += [
        Decision("internal disks", internal_disks, why, by, "internal_disks"),  # type: ignore[arg-type]
        Decision(
            "marks", f"portable system, SAN policy {policy}", f"in {HIVE}, {control}; nothing else is changed in it"
        ),
    ]
    return Marked(root.replaced(HIVE, File(file.name, Literal(edited), file.modified, file.special)), tuple(decisions))


def with_answers(root: Folder, given: File, architecture: str) -> Marked:
    """Put an answer file where the first start looks for one. Raises UsageError for anything else."""
    data = b"".join(bytes(piece) for piece in stream(given.content)) if given.size <= answer_file.LARGEST else b""
    if not data:
        raise SourceError(f"{given.name} has {given.size:,} bytes: no answer file has.", advice="Check it.")
    notes = answer_file.check_answer_file(data, given.name, [architecture])
    if root.find_file(ANSWERS) is not None:
        raise SourceError(
            f"--answer-file: the edition has an answer file of its own, {ANSWERS}.", advice="Leave the choice out."
        )
    why = "; ".join((f"goes to {ANSWERS}, where the first start looks for it", *notes))
    folder = root.find_folder("Windows/Panther") or root.find_folder("Windows")
    special = folder.special if folder is not None else root.special
    made = File("unattend.xml", Literal(data), given.modified, special.for_new_file())
    return Marked(root.replaced(ANSWERS, made), (Decision("answers", given.name, why, "you"),))


def _control_set(hive: Hive) -> str:
    """Return the control set that the system starts with: the value Default of Select has its number."""
    select = hive.find("Select")
    value = select.value("Default") if select is not None else None
    name = f"ControlSet{value.number():03}" if value is not None and len(value.data) == 4 else ""
    if not name or hive.find(f"{name}\\Control") is None:
        raise HiveError(f"{HIVE}: it does not say which control set the system starts with, or has no such set.")
    return name


def _refuse_log_entries(root: Folder) -> None:
    for ending in _LOGS:
        log = root.find_file(HIVE + ending)
        if log is None or log.size < _LOG_HEAD + 4:
            continue
        if seekable(log.content).read_at(_LOG_HEAD, 4) in _ENTRY_MARKS:
            raise SourceError(
                f"{HIVE} was not closed properly: its latest changes are in {HIVE}{ending} only.",
                advice="Start the system that the image was captured from, shut it down, and capture it again.",
            )
