"""Texts as XML can hold them."""

from __future__ import annotations

import re

_NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def plain(text: str) -> str:
    """Return a text without the characters that XML cannot hold (XML 1.0, section 2.2)."""
    return _NO_XML.sub("\ufffd", text)
