"""Quillbox's sealed export: tables of a mailroom as JSON, sealed with a passphrase.

The seal is a stand-in's own: a keystream of SHA-256 blocks and an HMAC, so that a wrong passphrase
is told. It protects nothing real.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import sqlite3
from datetime import UTC, datetime
from itertools import count

SORTS = {
    "letters": ("letter", "account, folder, sender, subject, sent"),
    "contacts": ("contact", "name, address"),
    "calendar": ("event", "day, title"),
    "tasks": ("task", "title, done"),
    "notes": ("note", "title"),
}
"""The sorts that can be exported, with their table and columns."""

KNOWN_BY = {"contacts": "name", "tasks": "title"}
"""The columns by which what is there already is known, where they are not all."""

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
    connection: sqlite3.Connection, data: bytes, passphrase: str, duplicates: str
) -> dict[str, int]:
    """Take an export in; return how many of each sort came in.

    What is known by its name already is left (``skip``), replaced, or kept beside the other.

    Raises:
        WrongPassphrase: The seal does not open, or it is not an export.
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
            known = KNOWN_BY.get(sort, columns)
            there = {tuple(row) for row in _rows(connection, table, known)}
            place = [columns.split(", ").index(name) for name in known.split(", ")]
            keys = [tuple(row[n] for n in place) for row in rows]
            if duplicates == "replace":
                where = " and ".join(f"{name} = ?" for name in known.split(", "))
                connection.executemany(
                    f"delete from {table} where {where}", [key for key in keys if key in there]
                )
            left = there if duplicates == "skip" else set()
            new = [row for row, key in zip(rows, keys, strict=True) if key not in left]
            marks = ", ".join("?" for _ in columns.split(","))
            connection.executemany(f"insert into {table} ({columns}) values ({marks})", new)
            came[sort] = len(new)
    return came


def _letters(connection: sqlite3.Connection) -> tuple[bytes, int]:
    """Return all letters as a mailbox, each with the folder that it is in."""
    rows = _rows(connection, "letter", "id, account, folder, sender, subject, sent")
    box = b"".join(map(_letter, rows))
    return box, len(rows)


def _letter(row: list[object]) -> bytes:
    number, account, folder, sender, subject, sent = map(str, row)
    from email.message import EmailMessage  # slow to import, and only this needs it
    from email.utils import format_datetime

    made = EmailMessage()
    made["From"], made["To"], made["Subject"] = sender, account, subject
    moment = datetime.fromisoformat(sent).replace(hour=9, tzinfo=UTC)
    made["Date"] = format_datetime(moment)
    made["Message-ID"] = f"<{number}.{sent}@{account.partition('@')[2]}>"
    made["X-Quillbox-Folder"] = folder
    made.set_content(f"{subject}\n\nFrom the beds, {sent}.\n")
    head = f"From {sender} {moment:%a %b %e %H:%M:%S %Y}\n".encode()
    return head + made.as_bytes().replace(b"\nFrom ", b"\n>From ") + b"\n"


def _contacts(connection: sqlite3.Connection) -> tuple[bytes, int]:
    """Return all contacts as cards."""
    rows = _rows(connection, "contact", "id, name, address")
    cards = (
        f"BEGIN:VCARD\r\nVERSION:3.0\r\nUID:quillbox-{number}\r\nFN:{name}\r\n"
        f"EMAIL:{address}\r\nEND:VCARD\r\n"
        for number, name, address in rows
    )
    return "".join(cards).encode(), len(rows)


def _calendar(connection: sqlite3.Connection) -> tuple[bytes, int]:
    """Return the calendar in the open form."""
    rows = _rows(connection, "event", "id, day, title")
    entries = "".join(
        f"BEGIN:VEVENT\r\nUID:quillbox-{number}\r\nDTSTAMP:20260101T000000Z\r\n"
        f"DTSTART;VALUE=DATE:{str(day).replace('-', '')}\r\nSUMMARY:{title}\r\nEND:VEVENT\r\n"
        for number, day, title in rows
    )
    head = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Marram Works//Quillbox//EN\r\n"
    return f"{head}{entries}END:VCALENDAR\r\n".encode(), len(rows)


OPEN = {"letters": _letters, "contacts": _contacts, "calendar": _calendar}
"""What can be handed out in an open form, by sort: the bytes, and how many there are."""


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
