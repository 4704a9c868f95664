"""What Sporelog keeps: a settings file, and a collection folder with a database and plates."""

from __future__ import annotations

import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from configparser import ConfigParser
from contextlib import closing, contextmanager
from pathlib import Path
from typing import NamedTuple

from widetrail_demo import here

SCHEMA = """
create table shelf (id integer primary key, name text not null, position integer not null);
create table specimen (
  number integer primary key, name text not null, found text not null, spot text not null,
  shelf integer not null references shelf(id), remark text not null default '');
create table plate (id integer primary key, specimen integer not null, file text not null);
"""
LOCK = "sporelog.lock"


class Specimen(NamedTuple):
    """One record with the files of its plates."""

    number: int
    name: str
    found: str
    spot: str
    remark: str
    plates: tuple[str, ...]


class Shelf(NamedTuple):
    """A shelf with what stands on it."""

    name: str
    specimens: tuple[Specimen, ...]


def settings_file() -> Path:
    """Return the settings file of the account."""
    return here.config_folder() / "Sporelog" / "sporelog.ini"


def curator_file() -> Path:
    """Return the file that names the sole curator while there is one."""
    return settings_file().with_name("curator")


def read_settings() -> ConfigParser:
    """Return the settings; empty where there is no file yet."""
    settings = ConfigParser(interpolation=None)
    settings.read(settings_file(), encoding="utf-8")
    return settings


def write_settings(settings: ConfigParser) -> None:
    """Write the settings file."""
    settings_file().parent.mkdir(parents=True, exist_ok=True)
    with settings_file().open("w", encoding="utf-8", newline="\r\n") as file:
        settings.write(file)


def collection_folder() -> Path:
    """Return the collection: where the settings say, else in the documents."""
    told = read_settings().get("collection", "folder", fallback="")
    return here.real(told) if told else here.documents_folder() / "Sporelog"


def create(folder: Path) -> None:
    """Make an empty collection."""
    (folder / "plates").mkdir(parents=True)
    with database(folder) as connection:
        connection.executescript(SCHEMA)


@contextmanager
def database(folder: Path) -> Iterator[sqlite3.Connection]:
    """Open the collection's database; what is done in it is kept at the end."""
    connection = sqlite3.connect(folder / "specimens.db")
    try:
        with connection:
            yield connection
    finally:
        connection.close()


@contextmanager
def _read_only(folder: Path) -> Iterator[sqlite3.Connection]:
    """Open the database to read what was committed, also what is in its journal still.

    That cannot be read without making a file beside it, so it is read in a copy.
    """
    with tempfile.TemporaryDirectory() as scratch:
        for path in folder.glob("specimens.db*"):
            shutil.copyfile(path, Path(scratch) / path.name)
        with closing(sqlite3.connect(Path(scratch) / "specimens.db")) as connection:
            yield connection


def read_shelves(folder: Path) -> tuple[Shelf, ...]:
    """Return the whole collection, read only."""
    with _read_only(folder) as connection:
        plates: dict[int, list[str]] = {}
        for specimen, file in connection.execute("select specimen, file from plate order by id"):
            plates.setdefault(specimen, []).append(file)
        shelves = connection.execute("select id, name from shelf order by position").fetchall()
        return tuple(
            Shelf(
                name,
                tuple(
                    Specimen(number, found, date, spot, remark, tuple(plates.get(number, ())))
                    for number, found, date, spot, remark in connection.execute(
                        "select number, name, found, spot, remark from specimen"
                        " where shelf = ? order by number",
                        (shelf,),
                    )
                ),
            )
            for shelf, name in shelves
        )


def plate_path(folder: Path, file: str) -> Path:
    """Return where a plate lies: inside the collection, or where its whole path says."""
    whole = file.startswith("/") or file[1:3] in (":\\", ":/")
    inside = folder / "plates" / file
    return here.real(file) if whole else inside


def plates_elsewhere(folder: Path) -> dict[str, Path]:
    """Return the plates that lie outside the collection, by what names them."""
    named = {file for shelf in read_shelves(folder) for s in shelf.specimens for file in s.plates}
    paths = {file: plate_path(folder, file) for file in sorted(named)}
    return {file: path for file, path in paths.items() if path.parent != folder / "plates"}


def view_names() -> list[str]:
    """Return the names of the saved views."""
    return sorted(p.stem for p in (settings_file().parent / "views").glob("*.view"))
