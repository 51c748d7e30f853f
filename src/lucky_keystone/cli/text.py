"""Text from outside (names, labels, messages that quote them) made safe to show on a terminal."""

from __future__ import annotations

import re

_STEERING = "\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ud800-\udfff"
_HIDDEN = re.compile(f"[\t\n{_STEERING}]")
_DELETE = "\x7f"
_IN_JSON = re.compile(f"[{_STEERING}]")


def visible(text: str) -> str:
    """Return one line, with a box for every character that could steer a terminal or begin a line of its own.

    Also for what turns the writing direction, and for what no terminal can show.
    """
    return _HIDDEN.sub("\ufffd", text)


def visible_line(text: str) -> str:
    """The same for a line of ours that may begin and end with line breaks of its own."""
    inside = text.strip("\n")
    start = len(text) - len(text.lstrip("\n"))
    end = len(text) - len(text.rstrip("\n")) if inside else 0
    return "\n" * start + visible(inside) + "\n" * end


def visible_json(document: str) -> str:
    """Return a JSON document with such characters in its texts written as escapes; it reads the same."""
    if document.isascii() and _DELETE not in document:  # an encoder has escaped all others of ASCII
        return document
    return _IN_JSON.sub(lambda found: f"\\u{ord(found.group()):04x}", document)
