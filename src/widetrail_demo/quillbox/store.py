"""What Quillbox keeps: an index of mailrooms, and in each a database and its settings."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import NamedTuple

from widetrail_demo import here

SCHEMA = """
create table account (address text primary key, label text not null);
create table letter (
  id integer primary key, account text not null, folder text not null, sender text not null,
  subject text not null, sent text not null);
create table contact (id integer primary key, name text not null, address text not null);
create table event (id integer primary key, day text not null, title text not null);
create table task (id integer primary key, title text not null, done integer not null);
create table note (id integer primary key, title text not null);
create table attachment (id integer primary key, letter integer not null, path text not null);
"""
LOCK = "open-here"
KEYS = "passwords.json"


class Room(NamedTuple):
    """A mailroom: its folder, its label, and whether Quillbox opens it."""

    folder: Path
    label: str
    opens: bool


def root() -> Path:
    """Return the folder that holds everything."""
    name = Path("Marram") / "Quillbox" if here.PLATFORM == "windows" else Path("quillbox")
    return here.config_folder() / name


def passwords(folder: Path) -> list[str]:
    """Return the accounts whose passwords a mailroom keeps; nothing else can read those."""
    path = folder / KEYS
    if not path.exists():
        return []
    kept: list[str] = json.loads(path.read_text(encoding="utf-8"))["accounts"]
    return kept


def keep_password(folder: Path, account: str) -> None:
    """Keep the password of an account, as the stand-in does: it only knows that there is one."""
    accounts = sorted({*passwords(folder), account})
    (folder / KEYS).write_text(json.dumps({"accounts": accounts}), encoding="utf-8")


def rooms() -> list[Room]:
    """Return the mailrooms of the index, in its order."""
    index = json.loads((root() / "mailrooms.json").read_text(encoding="utf-8"))
    return [
        Room(root() / r["folder"], r["label"], r["label"] == index["opens"]) for r in index["rooms"]
    ]


def write_index(listed: list[Room], release: str) -> None:
    """Write the index of mailrooms."""
    root().mkdir(parents=True, exist_ok=True)
    rooms = [{"label": r.label, "folder": r.folder.relative_to(root()).as_posix()} for r in listed]
    opens = next(r.label for r in listed if r.opens)
    index = {"rooms": rooms, "opens": opens, "written-by": release}
    text = json.dumps(index, indent=2, ensure_ascii=False)
    (root() / "mailrooms.json").write_text(text + "\n", encoding="utf-8")


def open_letters(folder: Path) -> sqlite3.Connection:
    """Open a mailroom's database, which is in write-ahead mode."""
    connection = sqlite3.connect(folder / "letters.db")
    connection.execute("pragma journal_mode = wal")
    return connection


def create_room(folder: Path) -> None:
    """Make an empty mailroom."""
    folder.mkdir(parents=True)
    connection = open_letters(folder)
    connection.executescript(SCHEMA)
    connection.close()
    (folder / "rules.json").write_text('{"rules": []}\n', encoding="utf-8")
    (folder / "look.json").write_text("{}\n", encoding="utf-8")
