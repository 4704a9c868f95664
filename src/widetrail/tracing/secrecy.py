"""Which names suggest a secret, or the state of a licence."""

from __future__ import annotations

import re

from widetrail.tracing.record import VALUE_MOST, Changed, Part

_SECRET = re.compile(
    r"passw|passphrase|secret|token|credential|api.?key|private.?key|\bpin\b", re.IGNORECASE
)
_LICENCE = re.compile(r"licen[cs]e|serial|activat|product.?key|\bseat\b", re.IGNORECASE)


_TOLD = re.compile(
    r"((?:passw\w*|passphrase|secret|token|credential|api.?key|product.?key|serial)\s*[:=]\s*)\S.*",
    re.IGNORECASE,
)

HIDDEN = "***"


def without_secrets(line: str) -> str:
    """Return a line of a print-out without what stands after the name of a secret."""
    return _TOLD.sub(rf"\1{HIDDEN}", line)


def is_secret(name: str) -> bool:
    """Return whether a name suggests that its value is a secret; the last part of it counts."""
    return _SECRET.search(re.split(r"[/\\\0]", name)[-1]) is not None


def is_licence(name: str) -> bool:
    """Return whether a name suggests that it holds the state of a licence."""
    return _LICENCE.search(name) is not None


def changed_value(
    part: Part, was: str | None, now: str | None, marker: str, *, secret: bool
) -> Changed:
    """Return what is noted of a value that changed: nothing of it where its name suggests that it
    is a secret, or where it holds the marker and that is ``secret``."""
    marked = bool(marker) and now is not None and marker in now
    hidden = (secret and marked) or is_secret(part.at)
    kept = _kept(was, hidden=hidden), _kept(now, hidden=hidden)
    return Changed(part.form, part.at, *kept, marked=marked)


def _kept(text: str | None, *, hidden: bool) -> str | None:
    if text is None:
        return None
    return HIDDEN if hidden else text[:VALUE_MOST]
