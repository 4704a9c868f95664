"""The command ``tillbook``, and what Tillbook keeps.

A ledger is a folder with ``book.db`` wherever the person likes; ``tillbook.json`` in the settings
lists them. A hand-over writes a ledger that was not closed, and is not too large, into a file. It
shows the ledger's check number, with which the file is opened on another machine; only an
administrator may do either. Anybody may write a dated copy of a ledger and restore it to a folder
that they pick; it is verified both times.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import sqlite3
import sys
import tempfile
import zipfile
from datetime import date
from pathlib import Path
from typing import Any

from widetrail_demo import here

MOST = 1024 * 1024
"""Bytes of a ledger that is handed over, at most."""


def register() -> Path:
    """Return the list of ledgers."""
    return here.config_folder() / "Tillbook" / "tillbook.json"


def ledgers() -> list[dict[str, str]]:
    """Return the ledgers listed: ``name`` and ``folder``, as this computer writes paths."""
    if not register().exists():
        return []
    listed: list[dict[str, str]] = json.loads(register().read_text(encoding="utf-8"))["ledgers"]
    return listed


def create_ledger(
    folder: Path, entries: list[tuple[str, str, int]], *, closed: bool = False
) -> None:
    """Make a ledger; ``entries`` are day, words and pence."""
    folder.mkdir(parents=True)
    connection = sqlite3.connect(folder / "book.db")
    with connection:
        connection.execute("create table entry (day text, words text, pence integer)")
        connection.executemany("insert into entry values (?, ?, ?)", entries)
        connection.execute("create table about (closed text)")
        connection.execute("insert into about values (?)", ("yes" if closed else "no",))
    connection.close()


def main() -> None:
    """Run ``tillbook`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("tillbook", description="Book-keeping of the plant sale.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print the ledgers")
    hand = commands.add_parser("hand-over", help="write a ledger into a file, for another machine")
    hand.add_argument("--ledger", required=True)
    hand.add_argument("--to", required=True)
    receive = commands.add_parser(
        "receive", help="open a hand-over; its check number comes by input"
    )
    receive.add_argument("file")
    receive.add_argument("--into", required=True)
    copy = commands.add_parser("copy", help="write a dated copy of a ledger, and verify it")
    copy.add_argument("--ledger", required=True)
    copy.add_argument("--to", required=True)
    restore = commands.add_parser("restore", help="verify a dated copy, and restore it to a folder")
    restore.add_argument("file")
    restore.add_argument("--to", required=True)
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            _list()
        case "hand-over":
            _hand_over(arguments.ledger, here.real(arguments.to))
        case "receive":
            _receive(here.real(arguments.file), arguments.into)
        case "copy":
            _copy(arguments.ledger, here.real(arguments.to))
        case "restore":
            _restore(here.real(arguments.file), arguments.to)


def _list() -> None:
    print(f"Tillbook: {len(ledgers())} ledgers")
    for ledger in ledgers():
        book = here.real(ledger["folder"]) / "book.db"
        count, total, last = _asked(
            book, "select count(*), coalesce(sum(pence), 0), max(day) from entry"
        )
        print(f"  {ledger['name']}: {count} entries, {total / 100:.2f}, last {last}")


def _check_number(data: bytes) -> str:
    number = int.from_bytes(hashlib.sha256(data).digest()[:4], "big") % 100_000_000
    return f"{number // 10_000:04}-{number % 10_000:04}"


def _asked(book: Path, query: str) -> tuple[Any, ...]:
    connection = sqlite3.connect(book)
    try:
        row: tuple[Any, ...] = connection.execute(query).fetchone()
        return row
    finally:
        connection.close()


def _book(name: str) -> Path:
    ledger = next((entry for entry in ledgers() if entry["name"] == name), None)
    if ledger is None:
        sys.exit(f"tillbook: there is no ledger {name}")
    return here.real(ledger["folder"]) / "book.db"


def _hand_over(name: str, to: Path) -> None:
    book = _book(name)
    if _asked(book, "select closed from about") == ("yes",):
        sys.exit(f"tillbook: {name} is closed, and is not handed over any more")
    if book.stat().st_size > MOST:
        sys.exit(f"tillbook: {name} has more than 1 MiB, and is not handed over")
    with zipfile.ZipFile(to, "w") as archive:
        archive.writestr("name", name)
        archive.write(book, "book.db")
    print("not in it: the printed forms")
    print(f"check number: {_check_number(book.read_bytes())}")


def _receive(file: Path, into: str) -> None:
    with zipfile.ZipFile(file) as archive:
        name, data = archive.read("name").decode(), archive.read("book.db")
    if sys.stdin.readline().strip() != _check_number(data):
        sys.exit("tillbook: that is not the check number")
    _keep(name, data, into)
    print(f"received: {name}")


def _keep(name: str, data: bytes, into: str) -> None:
    """Put a ledger in a folder that is not there yet, and list it."""
    folder = here.real(into)
    folder.mkdir(parents=True)
    (folder / "book.db").write_bytes(data)
    register().parent.mkdir(parents=True, exist_ok=True)
    text = json.dumps({"ledgers": [*ledgers(), {"name": name, "folder": into}]}, indent=1)
    register().write_text(text, encoding="utf-8")


def _copy(name: str, to: Path) -> None:
    data = _book(name).read_bytes()
    with zipfile.ZipFile(to, "w") as archive:
        archive.writestr("name", name)
        archive.writestr("day", date.today().isoformat())
        archive.writestr("book.db", data)
        archive.writestr("sha256", hashlib.sha256(data).hexdigest())
    print(f"verified: {_verified(to)} entries")


def _verified(file: Path) -> int:
    """Return how many entries a dated copy holds, once it is seen to be whole."""
    with zipfile.ZipFile(file) as archive, tempfile.TemporaryDirectory() as scratch:
        data = archive.read("book.db")
        if hashlib.sha256(data).hexdigest() != archive.read("sha256").decode():
            sys.exit("tillbook: the copy is not what was written")
        (Path(scratch) / "book.db").write_bytes(data)
        count: int = _asked(Path(scratch) / "book.db", "select count(*) from entry")[0]
        return count


def _restore(file: Path, to: str) -> None:
    count = _verified(file)
    with zipfile.ZipFile(file) as archive:
        name, data = archive.read("name").decode(), archive.read("book.db")
    if any(ledger["name"] == name for ledger in ledgers()):
        sys.exit(f"tillbook: there is a ledger {name} already")
    _keep(name, data, to)
    print(f"restored: {name}\nverified: {count} entries")


if __name__ == "__main__":
    main()
