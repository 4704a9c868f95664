"""The command ``quillbox``."""

from __future__ import annotations

import argparse
import json
import sys
import time
from contextlib import closing
from itertools import count
from pathlib import Path

from widetrail_demo import here
from widetrail_demo.opening import held_open, tell_to_end
from widetrail_demo.quillbox import exchange, store


def main() -> None:
    """Run ``quillbox`` with the arguments of the command line."""
    arguments = _parser().parse_args()
    _first_start()
    match arguments.command:
        case "list":
            for room in store.rooms():
                if (room.folder / "letters.db").is_file():
                    _print_room(room)
        case "open":
            _open(arguments.seconds)
        case "export":
            _export(arguments.room, arguments.sorts, arguments.to)
        case "hand-out":
            _hand_out(arguments.room, arguments.sort, arguments.to)
        case "import":
            if arguments.beside and _find(arguments.beside) is not None:
                sys.exit(f"quillbox: there is a mailroom {arguments.beside} already")
            _import(arguments.file, arguments.into or arguments.beside, arguments.duplicates)
        case "receive":
            _receive(arguments.account, arguments.subject)
        case "close":
            _close()
        case "add-room":
            _add_room(here.real(arguments.folder), arguments.label)
        case "password":
            store.keep_password(_opened().folder, arguments.account)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser("quillbox", description="Mail, contacts, calendar and notes.")
    parser.add_argument("--release", action="version", version=f"Quillbox {here.release('8.0')}")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print what every mailroom holds")
    opened = commands.add_parser("open", help="open the mailroom that it opens until told to end")
    opened.add_argument("--for", dest="seconds", type=float, default=3600.0)
    receive = commands.add_parser("receive", help="receive a letter in the mailroom that it opens")
    receive.add_argument("account")
    receive.add_argument("subject")
    export = commands.add_parser("export", help="write a sealed export; the phrase comes by input")
    export.add_argument("--room", required=True)
    export.add_argument("--to", required=True)
    export.add_argument("--sorts", nargs="+", choices=list(exchange.SORTS), required=True)
    take = commands.add_parser("import", help="take a sealed export in")
    take.add_argument("file")
    where = take.add_mutually_exclusive_group(required=True)
    where.add_argument("--into", help="a mailroom that is there, or is made")
    where.add_argument("--beside", help="what a new mailroom is to be called")
    take.add_argument("--duplicates", choices=["skip", "keep", "replace"], default="skip")
    out = commands.add_parser("hand-out", help="write letters or people in an open form")
    out.add_argument("--room", required=True)
    out.add_argument("--sort", choices=["letters", "contacts", "calendar"], required=True)
    out.add_argument("--to", required=True)
    commands.add_parser("close", help="ask an open Quillbox to end")
    add = commands.add_parser("add-room", help="list a folder as a mailroom")
    add.add_argument("folder")
    add.add_argument("--label", required=True)
    password = commands.add_parser("password", help="keep the password of an account")
    password.add_argument("account")
    return parser


def _first_start() -> None:
    if not (store.root() / "mailrooms.json").exists():
        room = store.Room(store.root() / "rooms" / "first", "Mailroom", opens=True)
        store.create_room(room.folder)
        store.write_index([room], here.release("8.0"))


def _opened() -> store.Room:
    return next(room for room in store.rooms() if room.opens)


def _print_room(room: store.Room) -> None:
    print(f"{room.label}{' *' if room.opens else ''}")
    connection = store.open_letters(room.folder)
    rows = connection.execute(
        "select address, (select count(*) from letter where account = address) from account"
        " order by address"
    )
    for address, letters in rows:
        print(f"  {address}: {letters} letters")
    for table in ("contact", "event", "task", "note"):
        number = connection.execute(f"select count(*) from {table}").fetchone()[0]
        print(f"  {table}s: {number}")
    for sent, sender, subject in connection.execute(
        "select sent, sender, subject from letter order by sent limit 3"
    ):
        print(f"  {sent}  {sender}: {subject}")
    connection.close()
    rules = json.loads((room.folder / "rules.json").read_text(encoding="utf-8"))["rules"]
    print(f"  filter rules: {len(rules)}")
    print(f"  passwords kept: {len(store.passwords(room.folder))}")


def _open(seconds: float) -> None:
    room = _opened()
    lock = room.folder / store.LOCK
    if lock.exists():
        sys.exit("quillbox: it is open already")
    with held_open(lock), closing(store.open_letters(room.folder)) as connection:
        connection.execute("begin immediate")  # which closing takes back
        print("Quillbox is open.", flush=True)
        time.sleep(seconds)


def _close() -> None:
    for room in store.rooms():
        tell_to_end(room.folder / store.LOCK)


def _find(label: str) -> store.Room | None:
    return next((room for room in store.rooms() if room.label == label), None)


def _room(label: str) -> store.Room:
    found = _find(label)
    if found is None:
        sys.exit(f"quillbox: there is no mailroom {label}")
    return found


def _add_room(folder: Path, label: str) -> None:
    if any(room.folder.resolve() == folder.resolve() for room in store.rooms()):
        return
    if not (folder / "letters.db").is_file():
        sys.exit(f"quillbox: {folder.name} is not a mailroom")
    added = store.Room(folder, label, opens=False)
    store.write_index([*store.rooms(), added], here.release("8.0"))


def _export(label: str, sorts: list[str], to: str) -> None:
    connection = store.open_letters(_room(label).folder)
    data = exchange.export_room(connection, sorts, sys.stdin.readline().strip())
    letters = connection.execute("select count(*) from letter").fetchone()[0]
    connection.close()
    if len(data) > exchange.MOST:
        sys.exit("quillbox: an export holds 4 GiB at most")
    here.real(to).write_bytes(data)
    print(f"letters: {letters if 'letters' in sorts else 0}")


def _hand_out(label: str, sort: str, to: str) -> None:
    connection = store.open_letters(_room(label).folder)
    data, count = exchange.OPEN[sort](connection)
    connection.close()
    here.real(to).write_bytes(data)
    print(f"{sort}: {count}")


def _import(file: str, label: str, duplicates: str) -> None:
    phrase = sys.stdin.readline().strip()
    if _find(label) is None:
        names = {room.folder.name for room in store.rooms()}
        folder = next(f for n in count(1) if (f := f"room-{n}") not in names)
        store.create_room(store.root() / "rooms" / folder)
        _add_room(store.root() / "rooms" / folder, label)
    connection = store.open_letters(_room(label).folder)
    try:
        data = here.real(file).read_bytes()
        came = exchange.import_room(connection, data, phrase, duplicates)
    except exchange.WrongPassphrase:
        sys.exit("quillbox: this is not an export, or that is not its passphrase")
    finally:
        connection.close()
    print(", ".join(f"{sort}: {number}" for sort, number in came.items()))


def _receive(account: str, subject: str) -> None:
    connection = store.open_letters(_opened().folder)
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
