"""The command ``quillbox``."""

from __future__ import annotations

import argparse
import json
import os
import signal
import sys
import time

from widetrail_demo import here
from widetrail_demo.quillbox import store


def main() -> None:
    """Run ``quillbox`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("quillbox", description="Mail, contacts, calendar and notes.")
    parser.add_argument("--release", action="version", version=f"Quillbox {here.release('8.0')}")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print what every mailroom holds")
    opened = commands.add_parser("open", help="open the chosen mailroom until told to end")
    opened.add_argument("--for", dest="seconds", type=float, default=3600.0)
    receive = commands.add_parser("receive", help="receive a letter in the chosen mailroom")
    receive.add_argument("account")
    receive.add_argument("subject")
    arguments = parser.parse_args()
    _first_start()
    match arguments.command:
        case "list":
            for room in store.rooms():
                _print_room(room)
        case "open":
            _open(arguments.seconds)
        case "receive":
            _receive(arguments.account, arguments.subject)


def _first_start() -> None:
    if not (store.root() / "mailrooms.json").exists():
        room = store.Room(store.root() / "rooms" / "first", "Mailroom", chosen=True)
        store.create_room(room.folder)
        store.write_index([room], here.release("8.0"))


def _chosen() -> store.Room:
    return next(room for room in store.rooms() if room.chosen)


def _print_room(room: store.Room) -> None:
    print(f"{room.label}{' *' if room.chosen else ''}")
    connection = store.open_letters(room.folder)
    rows = connection.execute(
        "select address, (select count(*) from letter where account = address) from account"
        " order by address"
    )
    for address, letters in rows:
        print(f"  {address}: {letters} letters")
    for table in ("contact", "event", "task", "note"):
        count = connection.execute(f"select count(*) from {table}").fetchone()[0]
        print(f"  {table}s: {count}")
    for sent, sender, subject in connection.execute(
        "select sent, sender, subject from letter order by sent limit 3"
    ):
        print(f"  {sent}  {sender}: {subject}")
    connection.close()
    rules = json.loads((room.folder / "filters.json").read_text(encoding="utf-8"))["rules"]
    print(f"  filter rules: {len(rules)}")


def _open(seconds: float) -> None:
    room = _chosen()
    lock = room.folder / store.LOCK
    if lock.exists():
        sys.exit("quillbox: it is open already")
    lock.write_text(str(os.getpid()))
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    connection = store.open_letters(room.folder)
    connection.execute("begin immediate")
    print("Quillbox is open.", flush=True)
    try:
        time.sleep(seconds)
    finally:
        connection.rollback()
        connection.close()
        lock.unlink()


def _receive(account: str, subject: str) -> None:
    connection = store.open_letters(_chosen().folder)
    with connection:
        connection.execute("insert or ignore into account values (?, ?)", (account, account))
        connection.execute(
            "insert into letter (account, folder, sender, subject, sent)"
            " values (?, 'in', 'post@moss.example', ?, '2026-11-01')",
            (account, subject),
        )
    connection.close()


if __name__ == "__main__":
    main()
