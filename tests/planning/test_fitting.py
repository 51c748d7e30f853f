"""Fitting wishes that no family makes yet: any number of volumes, of any kind, and any of them taking the rest."""

from __future__ import annotations

from pathlib import Path

import pytest

from lucky_keystone.building.build import build
from lucky_keystone.building.compose import compose_drive
from lucky_keystone.checking.check import check_drive
from lucky_keystone.common.errors import UsageError
from lucky_keystone.common.progress import silent
from lucky_keystone.families.choices import Choices, all_but
from lucky_keystone.families.facts import SourceFacts
from lucky_keystone.families.family import DriveShape, DriveWish, Family, VolumeWish
from lucky_keystone.manifest.format import read_manifest
from lucky_keystone.planning import combining, make
from lucky_keystone.planning.plan import Plan
from lucky_keystone.sources.source import Source
from lucky_keystone.starting.bootable import PlannedDrive
from lucky_keystone.tables.table import read_table
from lucky_keystone.volumes.kinds import COMPOSED

from ..helpers.drives import MemoryDrive
from ..helpers.trees import file, folder

MIB = 1 << 20


class Ferries(Family):
    """A family whose drives have a volume for each ferry."""

    name, shown, takes, must_start = "ferries", "ferries", all_but({}), False

    def __init__(self, table: str, kinds: list[str], rest: int) -> None:
        self.table, self.kinds, self.rest = table, kinds, rest

    def facts(self, source: Source) -> SourceFacts:
        return SourceFacts(family=self.name, form="none")

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        volumes = [
            VolumeWish(
                name=f"ferry {number}",
                kind=COMPOSED[kind],
                tree=folder("", file(f"timetable {number}.txt", b"09:26 Steg 4\r\n" * number)),
                label=f"FERRY {number}",
                takes_rest=number == self.rest,
                use=COMPOSED[kind].use,
                note="a ferry's own",
            )
            for number, kind in enumerate(self.kinds, 1)
        ]
        return DriveWish(
            choices=choices,
            table=self.table,
            volumes=volumes,
            bootable=PlannedDrive(self.table, drive.sector_size, []),  # type: ignore[arg-type]
        )


def plan_of(monkeypatch: pytest.MonkeyPatch, table: str, kinds: list[str], rest: int, size: int | None) -> Plan:
    for module in (make, combining):
        monkeypatch.setattr(module, "family_for", lambda *_: Ferries(table, kinds, rest))
    return make.make_plan(Source(Path("ferries"), "folder", "", folder("")), Choices(), DriveShape("DECK", size))


@pytest.mark.parametrize(
    ("table", "kinds", "rest"),
    [
        ("gpt", ["ntfs", "fat32", "ntfs"], 2),
        ("gpt", ["ntfs"] * 6, 6),
        ("mbr", ["fat32", "ntfs", "ntfs", "ntfs"], 1),
        ("mbr", ["ntfs", "ntfs", "fat32"], 3),
    ],
)
def test_every_volume_is_in_the_table_the_manifest_and_the_check(
    table: str, kinds: list[str], rest: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = plan_of(monkeypatch, table, kinds, rest, 400 * MIB)
    drive = MemoryDrive(400 * MIB)
    build(compose_drive(plan), drive, silent)

    found, manifest = read_table(drive, 512), read_manifest(drive, 512)
    assert found is not None
    assert manifest is not None
    spans = [(p.first_lba * 512, p.sector_count * 512) for p in found.partitions]
    assert spans == [(volume.planned.start, volume.planned.size) for volume in plan.volumes]
    assert [note.offset for note in manifest.about.volumes] == [start for start, _ in spans]
    assert bytes(drive.data[(512 if table == "mbr" else 34 * 512) :][:8]) == (
        b"LKEYMAN2" if len(kinds) <= 4 else b"LKEYMAN3"
    )
    sizes = sorted((size, number) for number, (_, size) in enumerate(spans, 1))
    assert sizes[-1][1] == rest, "the one that takes the rest is the largest"
    report = check_drive(drive, silent)
    assert report.healthy, report.findings
    assert [volume.label for volume in report.volumes] == [f"FERRY {number}" for number in range(1, len(kinds) + 1)]
    start, _ = spans[-1]
    drive.data[start : start + 512] = bytes(512)
    assert not check_drive(drive, silent).healthy


def test_an_mbr_names_four_partitions_and_a_fifth_is_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(UsageError, match="5 volumes are more than the 4 that MBR can name"):
        plan_of(monkeypatch, "mbr", ["ntfs"] * 5, 1, None)


def test_a_small_volume_beyond_32_bits_of_sectors_says_0_for_them(monkeypatch: pytest.MonkeyPatch) -> None:
    """The FAT32 volume of a crossing on a drive of 4 TiB: no BIOS reaches there, and 32 bits do not say where it is."""
    plan = plan_of(monkeypatch, "gpt", ["ntfs", "fat32"], 1, 4 << 40)
    last = plan.volumes[-1].planned
    assert last.start // 512 > 1 << 32
    boot = compose_drive(plan).regions
    reserved = next(region for region in boot if region.offset == last.start)
    assert reserved.extents[0].content.read_at(28, 4) == bytes(4)  # type: ignore[attr-defined]
