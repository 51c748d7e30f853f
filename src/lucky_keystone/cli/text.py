"""Text from outside (names, labels, messages that quote them) made safe to show on a terminal."""

from __future__ import annotations

import re

_HIDDEN = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def visible(text: str) -> str:
    """Return `text` with every character that could steer a terminal, or turn the writing direction, shown as a box."""
    return _HIDDEN.sub("\ufffd", text)
