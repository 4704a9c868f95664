"""The identities of a store's records, in bounded memory: many of them lie in a database."""

from __future__ import annotations

import marshal
import sqlite3
import tempfile
from collections.abc import Mapping
from pathlib import Path

from widetrail.closing import Closing
from widetrail.formats.record import Folder, Record, digest_of

MOST = 600_000
"""Identities that are held in memory; above that, all lie in a database."""

_BITS, _WITHIN, _TIMES = 26, 11, 20
"""Bits of a key's number (what its hash ends with), of those that tell the keys of one row apart,
and of the number of times that keys come into the database."""
_LAST = (1 << _BITS) - 1


def is_among(digests: bytes, digest: bytes) -> bool:
    """Return whether a digest is one of several that are joined."""
    if len(digests) == 16:
        return digests == digest
    return any(digests[at : at + 16] == digest for at in range(0, len(digests), 16))


class Keys:
    """What records are known by within one store."""

    def __init__(self, *, by_content: bool, by_folder: bool) -> None:
        self._by_content, self._by_folder = by_content, by_folder
        self._begin: dict[Folder, tuple[bytes, bytes]] = {}
        """What the keys in a folder begin with, of records that have an identity and of others."""

    def of(self, record: Record, folder: Folder) -> bytes:
        """Return the key of a record that is in ``folder`` there, of 64 bytes at most."""
        named, unnamed = self._begin.get(folder) or self._enter(folder)
        own = record.identity
        own = named + own if own and not self._by_content else unnamed + record.digest
        return own if len(own) <= 64 else b"#" + digest_of(own)

    def _enter(self, folder: Folder) -> tuple[bytes, bytes]:
        names = (name.encode("utf-8", "surrogateescape") for name in folder)
        mark = digest_of(*names) if self._by_folder else b""
        self._begin[folder] = b"#" + mark, b"=" + mark
        return self._begin[folder]


class Known(Closing):
    """The contents that are known of each key, as digests of 16 bytes: a key may have several."""

    def __init__(self, most: int = MOST) -> None:
        self._most, self._count = most, 0
        self._held: dict[bytes, bytes] = {}
        """By key its digests, joined."""
        self._database: _Database | None = None

    def close(self) -> None:
        """Let go of everything."""
        if self._database is not None:
            self._database.close()

    def __len__(self) -> int:
        return self._count

    def of(self, key: bytes) -> bytes:
        """Return the digests of a key, joined; empty where it is not known."""
        held = self._held.get(key)
        if held is None:
            return self._database.of(key) if self._database is not None else b""
        return held

    def add(self, key: bytes, digest: bytes) -> bool:
        """Take note of a content of a key; return whether it was not known."""
        digests = self._held.get(key)
        if digests is None and (database := self._database) is not None and database.may_have(key):
            digests = database.of(key)
        if digests:
            if is_among(digests, digest):
                return False
            digest = digests + digest
        self._held[key] = digest
        self._count += 1
        if len(self._held) >= self._most:
            if self._database is None:
                self._database = _Database()
            self._database.take_in(self._held)
            self._held.clear()
        return True


class _Database(Closing):
    """Keys with their digests in a database of this process; a row holds a share of what came in
    at once, since rows are dear, and a bit in memory tells of most keys that are not there."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="widetrail-records-")
        self._sql = sqlite3.connect(Path(self._folder.name) / "known")
        for setting in ("journal_mode = off", "synchronous = off", "cache_size = -16000"):
            self._sql.execute(f"pragma {setting}")
        self._sql.execute("create table known (place integer primary key, keys blob)")
        self._times = 0
        self._bits = bytearray(1 << _BITS - 3)

    def close(self) -> None:
        """Remove it."""
        self._sql.close()
        self._folder.cleanup()

    def may_have(self, key: bytes) -> bool:
        """Return whether a key may have come in; mostly it has where this says so."""
        number = hash(key) & _LAST
        return self._bits[number >> 3] >> (number & 7) & 1 == 1

    def of(self, key: bytes) -> bytes:
        """Return the digests of a key as they came in last."""
        if not self.may_have(key):
            return b""
        share = (hash(key) & _LAST) >> _WITHIN
        found = self._sql.execute(
            "select keys from known where place > ? and place < ? order by place desc",
            (share << _TIMES, (share + 1) << _TIMES),
        )
        shares = (_digests(some, key) for (some,) in found if key in some)
        return next(filter(None, shares), b"")

    def take_in(self, held: Mapping[bytes, bytes]) -> None:
        """Take in what is known of many keys."""
        self._times += 1
        bits = self._bits
        shares: list[list[bytes]] = [[] for _ in range(1 << _BITS - _WITHIN)]
        for pair in held.items():
            number = hash(pair[0]) & _LAST
            bits[number >> 3] |= 1 << (number & 7)
            shares[number >> _WITHIN] += pair
        rows = (
            ((number << _TIMES) + self._times, marshal.dumps(pairs))
            for number, pairs in enumerate(shares)
            if pairs
        )
        self._sql.executemany("insert into known values (?, ?)", rows)


def _digests(row: bytes, key: bytes) -> bytes:
    """Return the digests of a key in a row, which has each key and then its digests."""
    pairs: list[bytes] = marshal.loads(row)
    return next((pairs[at + 1] for at in range(0, len(pairs), 2) if pairs[at] == key), b"")
