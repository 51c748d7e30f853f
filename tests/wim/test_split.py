"""Dividing install images: nothing lost, nothing changed, as few parts as can be; refusals with reasons."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable

import numpy as np
import pytest
from dissect.archive.wim import WIM
from hypothesis import given, settings
from hypothesis import strategies as st

from lucky_keystone.common.errors import SourceError
from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.demo.install_image import DemoEdition, install_image, small_resource
from lucky_keystone.wim.read import InstallImage
from lucky_keystone.wim.records import RESOURCE_SOLID, SIZE_MASK, Header, ResourceHeader, resource_dtype
from lucky_keystone.wim.split import ImagePart, divide

MIB = 1 << 20


def make(sizes: list[int], *, integrity: bool = True) -> bytes:
    """An install image with a resource of each size."""
    files = [
        (f"deck{n}.bin", small_resource(hashlib.shake_128(b"%d" % n).digest(size))) for n, size in enumerate(sizes)
    ]
    content = install_image(
        [DemoEdition("Tidewell", "T", files)],
        architecture=9,
        version=(11, 2, 30110, 1),
        language="en-GB",
        integrity=integrity,
        boot_index=1,
    )
    return b"".join(bytes(piece) for piece in stream(content))


def bytes_of(part: ImagePart) -> bytes:
    return b"".join(bytes(piece) for piece in stream(part.content, 65_537))


def resources_by_sum(image: InstallImage) -> dict[bytes, bytes]:
    """Return {SHA-1 in the table: raw bytes stored} of an image's resources."""
    return {
        bytes(entry["sha1"]): image.content.read_at(int(entry["offset"]), int(entry["size_and_flags"]) & SIZE_MASK)
        for entry in image.resources
    }


@settings(max_examples=25)
@given(
    st.lists(st.integers(1, 900_000), min_size=1, max_size=30, unique=True), st.integers(MIB, 3 * MIB), st.booleans()
)
def test_every_resource_is_in_exactly_one_part(sizes: list[int], limit: int, integrity: bool) -> None:
    whole = InstallImage(Literal(make(sizes, integrity=integrity)), "install.wim")
    parts = divide(whole, limit)

    seen: dict[bytes, bytes] = {}
    for number, part in enumerate(parts, 1):
        data = bytes_of(part)
        assert len(data) == part.content.size <= limit
        read = InstallImage(Literal(data), f"part {number}")
        header = read.header
        assert (header.part_number, header.part_count, header.boot_index) == (number, len(parts), 0)
        assert header.guid == whole.header.guid
        assert header.flags == whole.header.flags | 0x08  # spanned
        assert set(read.resources["part"].tolist()) <= {number}
        assert read.xml == whole.xml
        mine = resources_by_sum(read)
        assert not set(mine) & set(seen)
        seen |= mine
        if integrity:
            read.verify_integrity(lambda done, total: None)
        assert read.has_integrity == integrity
    assert seen == resources_by_sum(whole)
    assert all(hashlib.sha1(data).digest() == digest for digest, data in seen.items())
    total = sum(sizes) + 50 * len(sizes)
    assert len(parts) <= max(
        2 * -(-total // (limit - 65_536)), 1
    )  # next fit, the worst that may be chosen, stays below twice
    assert [bytes_of(part) for part in divide(whole, limit)] == [bytes_of(part) for part in parts]


def test_fewer_parts_are_found_than_in_the_originals_order() -> None:
    """600 + 600 + 400 + 400 KiB: in order they need three parts of 1 MiB and a bit, well combined two."""
    kib = [600, 600, 400, 400]
    image = InstallImage(Literal(make([size << 10 for size in kib], integrity=False)), "install.wim")

    assert len(divide(image, MIB + 8192)) == 2


def test_an_independent_parser_reads_the_parts() -> None:
    """It refuses parts as such, so their spanned flag is taken off for it; all else it reads is ours."""
    image = InstallImage(Literal(make([700_000, 600_001, 500_002])), "install.wim")
    parts = [WIM(io.BytesIO(edited(bytes_of(part), flags=0))) for part in divide(image, MIB)]

    found = [(number, resource) for number, part in enumerate(parts, 1) for resource in part.resources.values()]
    assert sorted(resource.hash for _, resource in found) == sorted(bytes(digest) for digest in image.resources["sha1"])
    for number, resource in found:
        assert resource.part_number == number
        assert hashlib.sha1(resource.open().read()).digest() == resource.hash
    root = next(iter(parts[0].images())).get("/")
    assert sorted(root.listdir()) == ["deck0.bin", "deck1.bin", "deck2.bin"]


def edited(data: bytes, **fields: object) -> bytes:
    return Header.unpack(data).with_changes(**fields).pack() + data[Header.SIZE :]


def with_entry(data: bytes, name: str, value: int) -> bytes:
    """Change a field of the first lookup table entry."""
    place = ResourceHeader.unpack(Header.unpack(data).lookup_table)
    table = np.frombuffer(data[place.offset : place.offset + place.stored_size], resource_dtype()).copy()
    table[name][0] = value
    return data[: place.offset] + table.tobytes() + data[place.offset + place.stored_size :]


PLAIN = make([100_000, 1_200_000])


@pytest.mark.parametrize(
    ("data", "limit", "message"),
    [
        (PLAIN, MIB, "resource [0-9a-f]{40} alone has 1200000 bytes"),
        (edited(PLAIN, part_number=2, part_count=3), 2 * MIB, "already part 2 of 3"),
        (edited(PLAIN, version=0xE00), 2 * MIB, "solid"),
        (with_entry(PLAIN, "size_and_flags", 100_000 | RESOURCE_SOLID << 56), 2 * MIB, "solid"),
        (with_entry(PLAIN, "offset", (1 << 64) - 5), 2 * MIB, "lookup table entry 0 at offset"),
        (with_entry(PLAIN, "size_and_flags", SIZE_MASK), 2 * MIB, "do not lie in the file"),
        (edited(PLAIN, xml=ResourceHeader(stored_size=9, offset=1 << 60).pack()), 2 * MIB, "xml: 9 bytes at"),
        (PLAIN[:150], 2 * MIB, "header: only 150 bytes long"),
        (b"PK" + PLAIN[2:], 2 * MIB, "not an install image"),
    ],
)
def test_what_cannot_be_divided_is_refused_with_the_reason(data: bytes, limit: int, message: str) -> None:
    with pytest.raises(SourceError, match=message):
        divide(InstallImage(Literal(data), "install.wim"), limit)


def test_a_damaged_image_is_named_with_the_place() -> None:
    data = bytearray(PLAIN)
    data[5000] ^= 1

    with pytest.raises(SourceError, match=r"install\.wim: bytes 208 to .* do not match its integrity table"):
        InstallImage(Literal(bytes(data)), "install.wim").verify_integrity(lambda done, total: None)


def crowded(xml: str = "", resources: int = 0) -> bytes:
    """An image whose facts or tables say more than an image can hold, all of it within the file."""
    header = Header.unpack(bytes(PLAIN[: Header.SIZE]))
    body = bytearray(PLAIN)
    changed = {}
    if xml:
        data = ("\ufeff" + xml).encode("utf-16-le")
        changed["xml"] = ResourceHeader(offset=len(body), stored_size=len(data), original_size=len(data)).pack()
        body += data
    if resources:
        entry = PLAIN[ResourceHeader.unpack(header.lookup_table).offset :][:50]
        size = 50 * resources
        changed["lookup_table"] = ResourceHeader(offset=len(body), stored_size=size, original_size=size).pack()
        body += entry * resources
    body[: Header.SIZE] = header.with_changes(**changed).pack()
    return bytes(body)


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (lambda: crowded("<WIM>" + "<IMAGE/>" * 500_000 + "</WIM>"), "XML: it describes more than"),
        (lambda: crowded("<WIM>" + "<a/>" * 600_000 + "</WIM>"), "XML: it describes more than"),
        (lambda: crowded("<WIM><IMAGE><NAME>" + "x" * 15_000_000 + "</NAME></IMAGE></WIM>"), "xml: "),
        (lambda: crowded(resources=20_000), "its resources overlap"),
    ],
    ids=["editions", "marks", "a name", "resources"],
)
def test_facts_and_tables_are_bounded(data: Callable[[], bytes], told: str) -> None:
    """What would keep the processor busy for half a minute is refused before that."""
    image = InstallImage(Literal(data()), "install.wim")
    with pytest.raises(SourceError, match=told):
        image.refuse_broken_tables()
    named = InstallImage(Literal(crowded("<WIM><IMAGE><NAME>" + "x" * 100_000 + "</NAME></IMAGE></WIM>")), "a.wim")
    assert len(named.editions[0].name) == 256


def test_rows_within_a_solid_resource_have_their_places_in_its_decoded_bytes() -> None:
    """They may lie far behind the file's end; the row of the solid resource itself may not."""
    table = ResourceHeader.unpack(Header.unpack(bytes(PLAIN[: Header.SIZE])).lookup_table)
    rows = np.frombuffer(PLAIN, resource_dtype(), table.stored_size // 50, table.offset).copy()
    body = bytearray(PLAIN)

    def with_rows() -> InstallImage:
        body[table.offset : table.offset + table.stored_size] = rows.tobytes()
        return InstallImage(Literal(bytes(body)), "install.esd")

    rows["size_and_flags"][0] |= np.uint64(RESOURCE_SOLID << 56)
    rows["original_size"][0] = 1 << 32
    rows["size_and_flags"][1] = 5 << 40 | RESOURCE_SOLID << 56
    rows["offset"][1] = 7 << 40
    with_rows().refuse_broken_tables()
    rows["offset"][0] = len(PLAIN)
    with pytest.raises(SourceError, match="lookup table entry 0"):
        with_rows().refuse_broken_tables()
