"""The identities of a store's records, in bounded memory: many of them lie in a database."""

from __future__ import annotations

import sqlite3
import tempfile
from pathlib import Path

from widetrail.closing import Closing

MOST = 300_000
"""Identities that are held in memory; above that, all lie in a database."""


def is_among(digests: bytes, digest: bytes) -> bool:
    """Return whether a digest is one of several that are joined."""
    if len(digests) == 16:
        return digests == digest
    return any(digests[at : at + 16] == digest for at in range(0, len(digests), 16))


class Known(Closing):
    """The contents that are known of each key, as digests of 16 bytes: a key may have several."""

    def __init__(self, most: int = MOST) -> None:
        self._most, self._count = most, 0
        self._held: dict[bytes, bytes] = {}
        """By key its digests, joined."""
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._database: sqlite3.Connection | None = None

    def close(self) -> None:
        """Let go of everything."""
        if self._database is not None:
            self._database.close()
        if self._folder is not None:
            self._folder.cleanup()

    def __len__(self) -> int:
        return self._count

    def of(self, key: bytes) -> bytes:
        """Return the digests of a key, joined; empty where it is not known."""
        if (held := self._held.get(key)) is not None:
            return held
        if self._database is None:
            return b""
        row = self._database.execute("select digests from known where key = ?", (key,)).fetchone()
        return row[0] if row is not None else b""

    def add(self, key: bytes, digest: bytes) -> bool:
        """Take note of a content of a key; return whether it was not known."""
        digests = self.of(key)
        if digests and is_among(digests, digest):
            return False
        self._held[key] = digests + digest
        self._count += 1
        if len(self._held) >= self._most:
            self._spill()
        return True

    def _spill(self) -> None:
        if self._database is None:
            self._folder = tempfile.TemporaryDirectory(prefix="widetrail-records-")
            self._database = sqlite3.connect(Path(self._folder.name) / "known")
            for setting in ("journal_mode = off", "synchronous = off", "cache_size = -16000"):
                self._database.execute(f"pragma {setting}")
            self._database.execute(
                "create table known (key blob primary key, digests blob) without rowid"
            )
        self._database.executemany(
            "insert or replace into known values (?, ?)", sorted(self._held.items())
        )
        self._held.clear()
