"""Canonical JSON: one byte sequence for one value, so that a digest can stand for it.

Keys are sorted, there is no white space, and everything outside ASCII is escaped, so names that
are no valid text (lone surrogates, PEP 383) survive too.
"""

from __future__ import annotations

import hashlib
import json


def canonical(value: object) -> bytes:
    """Return ``value`` (plain JSON values) in canonical form, without a line end."""
    text = json.dumps(value, sort_keys=True, separators=(",", ":"), allow_nan=False)
    return text.encode("ascii")


def digest(data: bytes) -> str:
    """Return the SHA-256 of ``data`` in hexadecimal."""
    return hashlib.sha256(data).hexdigest()
