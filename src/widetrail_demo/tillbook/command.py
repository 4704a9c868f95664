"""The command ``tillbook``, and what Tillbook keeps.

A ledger is a folder with ``book.db`` wherever the person likes; ``tillbook.json`` in the settings
lists them. A hand-over takes ledgers touched in the last 24 months into one file, shows a phrase,
and is opened on another machine with that phrase. Only an administrator may do either.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import sqlite3
import sys
import time
import zipfile
from pathlib import Path

from widetrail_demo import here

MONTHS = 24
_WORDS = ("reed", "fen", "alder", "wren", "moss", "sedge", "otter", "marsh")


def register() -> Path:
    """Return the list of ledgers."""
    return here.config_folder() / "Tillbook" / "tillbook.json"


def ledgers() -> list[dict[str, str]]:
    """Return the ledgers listed: ``name`` and ``folder``, as this computer writes paths."""
    if not register().exists():
        return []
    listed: list[dict[str, str]] = json.loads(register().read_text(encoding="utf-8"))["ledgers"]
    return listed


def create_ledger(folder: Path, entries: list[tuple[str, str, int]]) -> None:
    """Make a ledger; ``entries`` are day, words and pence."""
    folder.mkdir(parents=True)
    connection = sqlite3.connect(folder / "book.db")
    with connection:
        connection.execute("create table entry (day text, words text, pence integer)")
        connection.executemany("insert into entry values (?, ?, ?)", entries)
    connection.close()


def main() -> None:
    """Run ``tillbook`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("tillbook", description="Book-keeping of the plant sale.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print the ledgers")
    hand = commands.add_parser("hand-over", help="write ledgers in use into one file")
    hand.add_argument("--ledger", required=True)
    hand.add_argument("--to", required=True)
    receive = commands.add_parser("receive", help="open a hand-over; the phrase comes by input")
    receive.add_argument("file")
    receive.add_argument("--into", required=True)
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            _list()
        case "hand-over":
            _hand_over(arguments.ledger, here.real(arguments.to))
        case "receive":
            _receive(here.real(arguments.file), arguments.into)


def _list() -> None:
    print(f"Tillbook: {len(ledgers())} ledgers")
    for ledger in ledgers():
        connection = sqlite3.connect(here.real(ledger["folder"]) / "book.db")
        count, total, last = connection.execute(
            "select count(*), coalesce(sum(pence), 0), max(day) from entry"
        ).fetchone()
        connection.close()
        print(f"  {ledger['name']}: {count} entries, {total / 100:.2f}, last {last}")


def _phrase(data: bytes) -> str:
    digest = hashlib.sha256(data).digest()
    return " ".join(_WORDS[byte % len(_WORDS)] for byte in digest[:4])


def _hand_over(name: str, to: Path) -> None:
    ledger = next((entry for entry in ledgers() if entry["name"] == name), None)
    if ledger is None:
        sys.exit(f"tillbook: there is no ledger {name}")
    book = here.real(ledger["folder"]) / "book.db"
    if time.time() - book.stat().st_mtime > MONTHS * 30.44 * 86400:
        sys.exit(f"tillbook: {name} was not touched for {MONTHS} months")
    with zipfile.ZipFile(to, "w") as archive:
        archive.writestr("name", name)
        archive.write(book, "book.db")
    print(f"needs: {book.stat().st_size} bytes")
    print("leaves behind: the printed forms")
    print(f"phrase: {_phrase(book.read_bytes())}")


def _receive(file: Path, into: str) -> None:
    with zipfile.ZipFile(file) as archive:
        name, data = archive.read("name").decode(), archive.read("book.db")
    if sys.stdin.readline().strip() != _phrase(data):
        sys.exit("tillbook: that is not the phrase")
    folder = here.real(into)
    folder.mkdir(parents=True)
    (folder / "book.db").write_bytes(data)
    register().parent.mkdir(parents=True, exist_ok=True)
    text = json.dumps({"ledgers": [*ledgers(), {"name": name, "folder": into}]}, indent=1)
    register().write_text(text, encoding="utf-8")
    print(f"received: {name}")


if __name__ == "__main__":
    main()
