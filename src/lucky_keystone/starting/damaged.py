"""What reading damaged certificates and signatures ends in, ours and the library's."""

from __future__ import annotations

from ..common.record import RecordError

DAMAGED = (RecordError, ValueError, TypeError, LookupError, AttributeError, OverflowError, RecursionError)
