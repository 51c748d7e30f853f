"""Packed and solid install images, editions' trees, and what is given beside a source: lists, answers, drivers."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable, Mapping
from pathlib import Path
from uuid import UUID

from asn1crypto import pem

from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.content.regions import RegionKind
from lucky_keystone.content.tree import File, Folder
from lucky_keystone.demo.signing import authority_certificate
from lucky_keystone.families.windows.portable.marks import marked
from lucky_keystone.hive.edit import HiveEditor
from lucky_keystone.hive.read import Hive
from lucky_keystone.hive.records import checksum
from lucky_keystone.setup.answer_file import check_answer_file, commands_of, made_answer_file, with_commands
from lucky_keystone.setup.drivers import packages_in
from lucky_keystone.starting.boot_store import PartitionName, read_systems
from lucky_keystone.starting.signature_lists import read_database
from lucky_keystone.starting.store_making import WantedStore, make_store
from lucky_keystone.volumes.ntfs.catalogue import catalogue
from lucky_keystone.volumes.ntfs.compose import compose
from lucky_keystone.volumes.ntfs.geometry import geometry
from lucky_keystone.volumes.ntfs.layout import place
from lucky_keystone.wim.applied import applied_tree
from lucky_keystone.wim.combining import Wanted, combined, with_sums
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.resources import Resources
from lucky_keystone.wim.whole import WholeImage

from ..helpers.install_images import Item, install_image
from ..helpers.signing import SHA256, X509, list_of
from ..helpers.systems import system, system_hive
from .targets import Target, in_memory, on_file

INF = b"""[Version]
Signature="$Windows NT$"
Class=Net
CatalogFile=gull.cat
[Manufacturer]
%T%=Gull,NTamd64.10.0,NTarm64
[Gull.NTamd64.10.0]
x=y
"""


def setup_targets(folder: Path) -> dict[str, Target]:
    """Make a target of every kind in the new folder `folder`."""
    folder.mkdir()
    found = {
        f"{method}{' solid' if solid else ''} image": _image(method, chunk, solid=solid)
        for method, chunk, solid in (
            *(("xpress", 4096, False), ("lzx", 32768, False), ("lzms", 32768, False)),
            *(("xpress", 8192, True), ("lzx", 32768, True), ("lzms", 16384, True)),
        )
    }
    found["edition"] = _edition()
    found["applied edition"] = _edition(system(), _apply)
    found["combined image"] = _combined(solid=False)
    found["combined solid image"] = _combined(solid=True)
    found["hive"] = _hive(system_hive(), _edit)
    found["boot store"] = _hive(_store(), _systems)
    lists = folder / "db"
    lists.write_bytes(list_of(X509, pem.unarmor(authority_certificate())[2]) + list_of(SHA256, bytes(32), b"a" * 32))
    whole = on_file(lists, [(0, lists.stat().st_size), (0, 28)])
    found["signature lists"] = Target(whole.read, whole.write, whole.spans, lambda: _use_lists(lists))
    answers = bytearray(made_answer_file(["x64", "x86"], ["reg add HKLM\\SYSTEM\\Setup\\LabConfig /v BypassTPMCheck"]))
    found["answer file"] = _whole(answers, lambda: _use_answers(bytes(answers)))
    inf = bytearray(INF)
    found["driver package"] = _whole(inf, lambda: _use_drivers(bytes(inf)))
    return found


def _whole(data: bytearray, use: Callable[[], None]) -> Target:
    return Target(*in_memory(data), [(0, len(data))], use)


def _tree() -> dict[str, Item]:
    text = b"The 7:40 to Fairwater leaves from berth three. " * 30
    code = b"\x48\x8b\x05\x10\0\0\0\xe8\x44\x33\0\0\xff\x15\1\0\0\0" * 60
    below = {"a.txt": Item(text), "b.dll": Item(code, short="B~1.DLL"), "c": Item(text[:70], streams={"s": code[:90]})}
    return {"Windows": Item(None, {"System32": Item(None, below)}), "link": Item(b"r", attributes=0x420)}


def _read(data: bytes) -> None:
    image = WholeImage([InstallImage(Literal(data), "install.wim")])
    for edition in image.editions:
        tree = image.tree(edition)
        for path, entry in tree.walk():
            if not entry.is_folder:
                for _ in stream(image.content(entry, path)):
                    pass


def _image(method: str, chunk: int, *, solid: bool) -> Target:
    data = bytearray(install_image([_tree()], method, chunk, solid=solid))
    table = struct.unpack_from("<QQ", data, 48)
    spans = [(208, len(data) - 208)] * 4 + [(208, 64)] * 2 + [(table[1], table[0] & 0xFFFFFF), (0, 208)]
    return Target(*in_memory(data), spans, lambda: _read(bytes(data)))


def _apply(data: bytes) -> None:
    """Lay an edition out on a volume, and make all of its own structures."""
    image = WholeImage([InstallImage(Literal(data), "install.wim")])
    tree = applied_tree(Resources(image), image.tree(image.editions[0]))
    marked(tree, "offline", chosen=False)
    shape = geometry(hidden=0, total=(64 << 20) // 512, sector_size=512, cluster_size=4096)
    layout = place(catalogue(tree, "PIER 4", shape.record_size), shape)
    for region in compose(layout, serial=1, boot_sector=bytes(512), further_code=b""):
        for extent in region.extents if region.kind is not RegionKind.LOG else ():
            for _ in stream(extent.content):
                pass


def _hive(data: bytes, use: Callable[[bytes], None]) -> Target:
    """A hive, its checksum made right."""
    held = bytearray(data)

    def used() -> None:
        held[508:512] = checksum(held).to_bytes(4, "little")
        use(bytes(held))

    return Target(*in_memory(held), [(4096, len(held) - 4096)] * 4 + [(0, 512)], used)


def _edit(data: bytes) -> None:
    list(Hive(data, "SYSTEM").walk())
    editor = HiveEditor(data, "SYSTEM")
    editor.set_number("ControlSet002\\Control", "PortableOperatingSystem", 1)
    editor.set_number("ControlSet002\\Services\\partmgr\\Parameters", "SanPolicy", 4)
    editor.finished()


def _store() -> bytes:
    where = PartitionName(7, 1 << 20)
    return make_store(
        WantedStore(
            firmware="bios",
            loader=UUID(int=1),
            resume=UUID(int=2),
            description="Tidewell Crew",
            language="en-GB",
            timeout=5,
            system=where,
            start=where,
            has_resume=True,
            has_memory_test=True,
            time=1,
        )
    )


def _systems(data: bytes) -> None:
    list(read_systems(Hive(data, "BCD")))


def _edition(tree: Mapping[str, Item] | None = None, read: Callable[[bytes], None] = _read) -> Target:
    """Its metadata, with the sum made right."""
    data = bytearray(install_image([tree or _tree()], "none"))
    size, table = struct.unpack_from("<QQ", data, 48)
    rows = [table + 50 * n for n in range((size & 0xFFFFFF) // 50)]
    row = next(at for at in rows if data[at + 7] & 2)
    length, start = struct.unpack_from("<QQ", data, row)
    length &= (1 << 56) - 1

    def use() -> None:
        data[row + 30 : row + 50] = hashlib.sha1(data[start : start + length]).digest()
        read(bytes(data))

    return Target(*in_memory(data), [(start, length)], use)


def _combined(*, solid: bool) -> Target:
    """One of two images that are put together: its header, tables and XML."""
    data = bytearray(install_image([_tree(), _tree()], "xpress", 8192, solid=solid))
    good = WholeImage([InstallImage(Literal(bytes(data)), "good.wim")])
    size, table = struct.unpack_from("<QQ", data, 48)
    tables = [(table, size & 0xFFFFFF), (0, 208)]
    solids = [(208, 64)] if solid else []

    def use() -> None:
        image = WholeImage([InstallImage(Literal(bytes(data)), "install.wim")])
        made = combined([Wanted(image, image.editions), Wanted(good, good.editions[:1])], "combined.wim")
        whole = WholeImage([InstallImage(Literal(b"".join(map(bytes, stream(with_sums(made))))), "combined.wim")])
        for edition in whole.editions:
            for path, entry in whole.tree(edition).walk():
                if not entry.is_folder:
                    _ = whole.content(entry, path).size

    return Target(*in_memory(data), [*tables * 3, *solids * 3, (table, len(data) - table)], use)


def _use_lists(path: Path) -> None:
    read_database(path)


def _use_answers(data: bytes) -> None:
    commands_of(data)
    check_answer_file(data, "answers.xml", ["x64"])
    check_answer_file(with_commands(data, ["x64"], ["echo"]), "merged.xml", ["x64"])


def _use_drivers(data: bytes) -> None:
    list(packages_in(Folder("", entries={"gull.inf": File("gull.inf", Literal(data))})))
