"""Quillbox's sealed export: tables of a mailroom as JSON, sealed with a passphrase.

The seal is a stand-in's own: a keystream of SHA-256 blocks and an HMAC, so that a wrong passphrase
is told. It protects nothing real.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import sqlite3
from itertools import count

SORTS = {
    "letters": ("letter", "account, folder, sender, subject, sent"),
    "contacts": ("contact", "name, address"),
    "calendar": ("event", "day, title"),
    "tasks": ("task", "title, done"),
    "notes": ("note", "title"),
}
"""The sorts that can be exported, with their table and columns."""

MOST = 4 * 1024**3
MAGIC = b"quillbox export 1\n"


class WrongPassphrase(Exception):
    """The seal does not open."""


def export_room(connection: sqlite3.Connection, sorts: list[str], passphrase: str) -> bytes:
    """Return the sealed export of some sorts of a mailroom."""
    tables: dict[str, list[list[object]]] = {
        "account": _rows(connection, "account", "address, label")
    }
    for sort in sorts:
        tables[sort] = _rows(connection, *SORTS[sort])
    return MAGIC + _sealed(json.dumps(tables, ensure_ascii=False).encode(), passphrase)


def import_room(
    connection: sqlite3.Connection, data: bytes, passphrase: str, *, keep_duplicates: bool
) -> dict[str, int]:
    """Take an export in; return how many of each sort came in.

    Raises:
        WrongPassphrase: The seal does not open, or it is no export.
    """
    if not data.startswith(MAGIC):
        raise WrongPassphrase
    tables = json.loads(_opened(data[len(MAGIC) :], passphrase))
    came = {}
    with connection:
        accounts = tables.pop("account")
        connection.executemany("insert or ignore into account values (?, ?)", accounts)
        for sort, rows in tables.items():
            table, columns = SORTS[sort]
            there = {tuple(row) for row in _rows(connection, table, columns)}
            new = [row for row in rows if keep_duplicates or tuple(row) not in there]
            marks = ", ".join("?" for _ in columns.split(","))
            connection.executemany(f"insert into {table} ({columns}) values ({marks})", new)
            came[sort] = len(new)
    return came


def _rows(connection: sqlite3.Connection, table: str, columns: str) -> list[list[object]]:
    found = connection.execute(f"select {columns} from {table} order by rowid")
    return [list(row) for row in found]


def _sealed(data: bytes, passphrase: str) -> bytes:
    key = passphrase.encode()
    body = _keyed(data, key)
    return hmac.digest(key, body, "sha256") + body


def _opened(data: bytes, passphrase: str) -> bytes:
    key, seal, body = passphrase.encode(), data[:32], data[32:]
    if not hmac.compare_digest(hmac.digest(key, body, "sha256"), seal):
        raise WrongPassphrase
    return _keyed(body, key)


def _keyed(data: bytes, key: bytes) -> bytes:
    blocks = (hashlib.sha256(key + n.to_bytes(8, "big")).digest() for n in count())
    out = bytearray()
    for start, block in zip(range(0, len(data), 32), blocks, strict=False):
        out += bytes(a ^ b for a, b in zip(data[start : start + 32], block, strict=False))
    return bytes(out)
