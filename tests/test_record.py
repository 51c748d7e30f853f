"""Records: one declaration packs, unpacks, and refuses what does not fit."""

from __future__ import annotations

import pytest

from lucky_keystone.common.record import Record, RecordError, big_endian, raw, record, u8, u16, unsigned


@record(size=12)
class Sample(Record):
    """A number of every kind."""

    first: int = u8(0, "")
    odd: int = unsigned(1, 7, "")
    second: int = u16(8, "", default=0x1234)
    network: int = big_endian(10, 2, "")


def test_a_record_packs_to_literal_bytes_and_back() -> None:
    sample = Sample(first=1, odd=0x0203, network=0xA0B)

    assert sample.pack() == bytes.fromhex("01 0302000000000 0 3412 0a0b".replace(" ", ""))
    assert Sample.unpack(b"??" + sample.pack(), 2) == sample


@pytest.mark.parametrize("values", [{"first": 256}, {"first": -1}, {"odd": 1 << 56}])
def test_a_value_too_wide_is_refused(values: dict[str, int]) -> None:
    with pytest.raises(RecordError, match=next(iter(values))):
        Sample(**{"first": 0, "odd": 0, "network": 0} | values).pack()


def test_bytes_that_end_early_are_refused() -> None:
    with pytest.raises(RecordError, match="12 bytes wanted at 0, 11 there"):
        Sample.unpack(bytes(11))


@pytest.mark.parametrize(("offset", "size"), [(2, 4), (0, 4)])
def test_gaps_and_wrong_sizes_fail_when_declared(offset: int, size: int) -> None:
    with pytest.raises(TypeError, match="Wrong"):

        @record(size=size)
        class Wrong(Record):
            value: bytes = raw(offset, 1, "")
