"""On-disk structures, declared field by field with the offset in sight.

    @record(size=4)
    class Example:
        first: int = u16(0x00, "sectors")
        second: bytes = raw(0x02, 2, "reserved", default=bytes(2))

Numbers are little-endian, or big-endian with `@record(size=4, big_endian=True)`.

Instances are frozen and complete when made. `pack()` and `unpack()` come from the same lines; a gap, an overlap or a
wrong total size fails when the module is imported, and a value that does not fit is refused.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping, Sequence
from operator import itemgetter
from typing import Any, ClassVar, NamedTuple, Self, TypeVar, dataclass_transform

from .errors import KeystoneError

_RecordT = TypeVar("_RecordT", bound="Record")


class RecordError(KeystoneError):
    """Bytes too short for a record, or a value that a field cannot hold. Readers turn it into their own error."""


class _Place(NamedTuple):
    offset: int
    width: int
    kind: str  # "number" in the record's byte order, "be" (a big-endian number in any record) or "raw"
    doc: str
    default: Any  # _NONE without one

    @property
    def code(self) -> str:
        """The letter of the `struct` module for this field; "s" also for numbers it has no letter for."""
        return {1: "B", 2: "H", 4: "I", 8: "Q"}.get(self.width, "s") if self.kind == "number" else "s"


_NONE = object()


def u8(offset: int, doc: str, default: Any = _NONE) -> Any:
    """An unsigned byte."""
    return _Place(offset, 1, "number", doc, default)


def u16(offset: int, doc: str, default: Any = _NONE) -> Any:
    """A 16-bit number in the record's byte order."""
    return _Place(offset, 2, "number", doc, default)


def u32(offset: int, doc: str, default: Any = _NONE) -> Any:
    """A 32-bit number in the record's byte order."""
    return _Place(offset, 4, "number", doc, default)


def u64(offset: int, doc: str, default: Any = _NONE) -> Any:
    """A 64-bit number in the record's byte order."""
    return _Place(offset, 8, "number", doc, default)


def unsigned(offset: int, width: int, doc: str, default: Any = _NONE) -> Any:
    """A number of any width in bytes, in the record's byte order (the install-image format has one of 7)."""
    return _Place(offset, width, "number", doc, default)


def big_endian(offset: int, width: int, doc: str, default: Any = _NONE) -> Any:
    """A big-endian number of `width` bytes, whatever the record's byte order."""
    return _Place(offset, width, "be", doc, default)


def raw(offset: int, width: int, doc: str, default: Any = _NONE) -> Any:
    """Bytes of exactly this width."""
    return _Place(offset, width, "raw", doc, default)


class Record:
    """What `@record` adds to a declaration: a frozen value with `pack()` and `unpack()`."""

    SIZE: ClassVar[int]
    _layout: ClassVar[Mapping[str, _Place]]
    _defaults: ClassVar[dict[str, Any]]
    _struct: ClassVar[struct.Struct]
    _order: ClassVar[str]
    """Of its numbers, as `struct` writes it: '<' or '>'."""
    _odd: ClassVar[tuple[tuple[str, Any], ...]]
    """Numbers that `struct` has no letter for, with their byte order."""

    def __init__(self, **values: Any) -> None:
        complete = self._defaults | values
        if complete.keys() != self._layout.keys():
            wrong = ", ".join(sorted(complete.keys() ^ self._layout.keys()))
            raise TypeError(f"{type(self).__name__}: without value, or no field: {wrong}")
        self.__dict__.update(complete)

    def __setattr__(self, name: str, value: object) -> None:
        raise AttributeError(f"{type(self).__name__}.{name}: records are frozen")

    def __eq__(self, other: object) -> bool:
        return self.__dict__ == other.__dict__ if type(other) is type(self) else NotImplemented

    def __hash__(self) -> int:
        return hash(tuple(getattr(self, name) for name in self._layout))

    def __repr__(self) -> str:
        values = ", ".join(f"{name}={getattr(self, name)!r}" for name in self._layout)
        return f"{type(self).__name__}({values})"

    def with_changes(self, **values: Any) -> Self:
        """Return a copy with other values in some fields."""
        return type(self)(**self.__dict__ | values)

    @classmethod
    def unpack(cls, data: bytes | bytearray | memoryview, offset: int = 0) -> Self:
        """Read the record from `data` at `offset` (bytes). Raises RecordError when the bytes end too early."""
        if offset < 0 or offset + cls.SIZE > len(data):
            raise RecordError(
                f"{cls.__name__}: {cls.SIZE} bytes wanted at {offset}, {max(len(data) - offset, 0)} there"
            )
        values = dict(zip(cls._layout, cls._struct.unpack_from(data, offset), strict=True))
        for name, order in cls._odd:
            values[name] = int.from_bytes(values[name], order)
        self = object.__new__(cls)
        self.__dict__.update(values)  # past the constructor: a large volume has millions of records
        return self

    def pack(self) -> bytes:
        """Return the record as it is on disk, exactly `SIZE` bytes. Raises RecordError for a value too wide."""
        values: list[int | bytes] = []
        for name, place in self._layout.items():
            value = getattr(self, name)
            if place.kind == "raw":
                if len(value) != place.width:
                    raise RecordError(f"{type(self).__name__}.{name}: {len(value)} bytes given, {place.width} wanted")
            elif not 0 <= value < 1 << (8 * place.width):
                raise RecordError(f"{type(self).__name__}.{name}: {value} does not fit {place.width} bytes")
            elif place.code == "s":
                value = value.to_bytes(place.width, _byte_order(place, self._order))
            values.append(value)
        return self._struct.pack(*values)

    @classmethod
    def places(cls) -> list[tuple[str, _Place, Any]]:
        """Return name, place and default (None without one) of every field, in order."""
        return [(name, place, cls._defaults.get(name)) for name, place in cls._layout.items()]

    @classmethod
    def byte_order(cls) -> str:
        """Return the byte order of its numbers as `struct` writes it."""
        return cls._order

    @classmethod
    def offset_of(cls, name: str) -> int:
        """Return the offset of the field `name` in bytes, for error messages and patches."""
        return cls._layout[name].offset


def unpacker(kind: type[Record], names: Sequence[str]) -> Callable[[bytes, int], tuple[int, ...]]:
    """Return a function that reads the numbers `names`, in field order, out of a record at an offset (bytes).

    For structures that are read hundreds of thousands of times. The function raises struct.error where the bytes end.
    """
    code, found = kind.byte_order(), []
    for name, place, _ in kind.places():
        if name in names and place.code == "s":
            raise TypeError(f"{kind.__name__}.{name} is not a number that can be read quickly")
        code += place.code if name in names else f"{place.width}x"
        found += [name] if name in names else []
    if found != list(names):
        raise TypeError(f"fields in order are {found}, not {list(names)}")
    return struct.Struct(code).unpack_from


def packer(*parts: tuple[type[Record], Mapping[str, int]], names: Sequence[str]) -> Callable[..., bytes]:
    """Return a function that packs one or several records in a row, quickly, from the values of `names` in field order.

    It is for structures that are written hundreds of thousands of times. Each part has its fixed numbers; all other
    fields but `names` have their defaults. The function raises struct.error for a value that does not fit.
    """
    code = parts[0][0].byte_order()
    constants: list[int | bytes] = []
    slots: list[tuple[bool, int]] = []  # of each packed value: whether it is given, and its place among its kind
    found: list[str] = []
    for kind, values in parts:
        for name, place, default in kind.places():
            value = values.get(name, default)
            if name in names and name not in values:
                if place.code == "s":
                    raise TypeError(f"{kind.__name__}.{name} is not a number that can be packed quickly")
                slots.append((True, len(found)))
                found.append(name)
                code += place.code
            elif value is None:
                raise TypeError(f"{kind.__name__}.{name} has no value")
            elif not value or value == bytes(place.width):
                code += f"{place.width}x"
            else:
                slots.append((False, len(constants)))
                constants.append(value)
                code += f"{place.width}s" if place.code == "s" else place.code
    if found != list(names):
        raise TypeError(f"fields in order are {found}, not {list(names)}")
    pack = struct.Struct(code).pack
    if not constants:
        return pack
    fixed = tuple(constants)
    in_order = itemgetter(*(place if given else len(names) + place for given, place in slots))

    def with_constants(*given: int) -> bytes:
        if len(given) != len(names):
            raise struct.error(f"{len(names)} values are packed, not {len(given)}")
        return pack(*in_order(given + fixed))

    return with_constants


def _byte_order(place: _Place, order: str) -> Any:
    return "big" if place.kind == "be" or order == ">" else "little"


@dataclass_transform(
    frozen_default=True, kw_only_default=True, field_specifiers=(u8, u16, u32, u64, unsigned, big_endian, raw)
)
def record(*, size: int, big_endian: bool = False) -> Any:
    """Turn an annotated class into a frozen Record of `size` bytes; see the module's head.

    Its numbers are little-endian unless `big_endian` says otherwise.
    """
    order = ">" if big_endian else "<"

    def build(cls: type[_RecordT]) -> type[_RecordT]:
        layout = {name: place for name, place in vars(cls).items() if isinstance(place, _Place)}
        end = 0
        for name, place in layout.items():
            if place.offset != end:
                raise TypeError(f"{cls.__name__}.{name} is at {place.offset:#x}, the field before ends at {end:#x}")
            end += place.width
            delattr(cls, name)  # it would stand for a value that an instance lacks
        if end != size:
            raise TypeError(f"{cls.__name__} has {end} bytes, {size} declared")
        cls.SIZE, cls._layout, cls._order = size, layout, order
        cls._defaults = {name: place.default for name, place in layout.items() if place.default is not _NONE}
        cls._odd = tuple(
            (name, _byte_order(place, order))
            for name, place in layout.items()
            if place.code == "s" and place.kind != "raw"
        )
        codes = (f"{place.width}s" if place.code == "s" else place.code for place in layout.values())
        cls._struct = struct.Struct(order + "".join(codes))
        return cls

    return build
