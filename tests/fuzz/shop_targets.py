"""What a shop writes down: files of machines, presets, batches, and the record."""

from __future__ import annotations

import os
from pathlib import Path

from lucky_keystone.common import places
from lucky_keystone.common.errors import DriveError
from lucky_keystone.doing.batch_file import read_batch
from lucky_keystone.machine.facts import blank, read_machine
from lucky_keystone.planning.presets import read_presets
from lucky_keystone.shop.built import KeptBuild, KeptDecision, recall, remember
from lucky_keystone.shop.log import LogEntry, add, find
from lucky_keystone.shop.shelf import ShopShelf
from lucky_keystone.shop.trends import trends

from .targets import Target, in_memory

PRESETS = b"""presets = 1

[preset.counter]
about = "ticket counters"
firmware = "bios"
cluster = "8 KiB"
machine = ["counter-3.toml"]

[preset.crew]
waive = "tpm,memory"
"""
BATCH = b'drive,source,label,size\nG7KM,tidewell.iso,"Crew, 1",\nb.img,tidewell.iso,CREW 2,16GB\n'


def shop_targets(folder: Path) -> dict[str, Target]:
    """Make a target of every kind in the new folder `folder`."""
    folder.mkdir()
    filled = blank().replace("\n# ", "\n").encode()
    texts = {"machine file": (filled, read_machine), "presets": (PRESETS, read_presets), "batch": (BATCH, read_batch)}
    found: dict[str, Target] = {}
    for name, (text, read) in texts.items():
        held, place = bytearray(text), folder / f"{name}.txt"

        def use(held: bytearray = held, place: Path = place, read: object = read) -> None:
            place.write_bytes(held)
            read(place)  # type: ignore[operator]

        found[name] = Target(*in_memory(held), [(0, len(held))], use)
    found["record"] = _record(folder / "log.sqlite")
    return found


def _record(place: Path) -> Target:
    before = os.environ.get(places.RECORD)
    os.environ[places.RECORD] = str(place)
    for number in range(40):
        day = f"2026-11-{number % 28 + 1:02}T08:00:00Z"
        add(LogEntry(moment=day, command="gauge", result="done", tag="G7KM", model="Ferry", reading=number))
    ShopShelf("drive").put(b"manifest")
    remember("77", KeptBuild(source="x.iso", decisions=(KeptDecision(topic="table", value="MBR", reason="why"),)))
    held = bytearray(place.read_bytes())
    _set(before)

    def use() -> None:
        before = os.environ.get(places.RECORD)
        os.environ[places.RECORD] = str(place)
        try:
            for other in place.parent.glob("log*.sqlite*"):
                other.unlink()
            place.write_bytes(held)
            trends(find())
            ShopShelf("drive").get()
            recall("77")
            add(LogEntry(moment="2026-11-29T08:00:00Z", command="check", result="done", tag="G7KM"))
        except DriveError as error:  # of a newer version, or for reading only: both are bytes in its head
            assert error.advice
        finally:
            _set(before)

    return Target(*in_memory(held), [(0, 100), (0, len(held)), (0, len(held))], use)


def _set(value: str | None) -> None:
    if value is None:
        os.environ.pop(places.RECORD, None)
    else:
        os.environ[places.RECORD] = value
