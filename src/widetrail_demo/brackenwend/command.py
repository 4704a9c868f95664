"""The command ``brackenwend``, and what Brackenwend keeps.

``readers.yaml`` lists who reads here; each reader has a folder with ``kept.html`` (bookmarks in the
common HTML form), ``visits.db`` and ``pages``.
"""

from __future__ import annotations

import argparse
import re
import sqlite3
from dataclasses import dataclass
from pathlib import Path

import yaml

from widetrail_demo import here

_FOLDERS = {"windows": "Brackenwend", "macos": "Brackenwend", "linux": "brackenwend"}


@dataclass(frozen=True)
class Reader:
    """One who reads here."""

    name: str
    folder: Path
    current: bool


def root() -> Path:
    """Return the folder that holds everything."""
    return here.config_folder() / _FOLDERS[here.PLATFORM]


def readers() -> list[Reader]:
    """Return the readers, in the order of the list."""
    listed = yaml.safe_load((root() / "readers.yaml").read_text(encoding="utf-8"))["readers"]
    return [Reader(r["who"], root() / r["place"], r["current"]) for r in listed]


def write_readers(listed: list[Reader]) -> None:
    """Write the list of readers."""
    root().mkdir(parents=True, exist_ok=True)
    entries = [
        {"who": r.name, "place": r.folder.relative_to(root()).as_posix(), "current": r.current}
        for r in listed
    ]
    text = yaml.safe_dump({"readers": entries}, allow_unicode=True, sort_keys=False)
    (root() / "readers.yaml").write_text(text, encoding="utf-8")


def create_reader(folder: Path, kept: list[tuple[str, str]], visits: list[tuple[str, str]]) -> None:
    """Make a reader's folder; ``kept`` are titles and addresses, ``visits`` days and addresses."""
    (folder / "pages").mkdir(parents=True)
    lines = [f'<DT><A HREF="{address}">{title}</A>' for title, address in kept]
    head = "<!DOCTYPE NETSCAPE-Bookmark-file-1>\n<TITLE>Kept</TITLE>\n<DL><p>\n"
    text = head + "".join(f"{line}\n" for line in lines) + "</DL>\n"
    (folder / "kept.html").write_text(text, encoding="utf-8")
    connection = sqlite3.connect(folder / "visits.db")
    with connection:
        connection.execute("create table visit (day text not null, address text not null)")
        connection.executemany("insert into visit values (?, ?)", visits)
    connection.close()


def main() -> None:
    """Run ``brackenwend`` with the arguments of the command line."""
    release = here.release("12.0")
    parser = argparse.ArgumentParser("brackenwend", description="Read the web.")
    parser.add_argument("--release", action="version", version=f"Brackenwend {release}")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print what every reader keeps")
    parser.parse_args()
    for reader in readers():
        text = (reader.folder / "kept.html").read_text(encoding="utf-8")
        kept = re.findall(r'<A HREF="[^"]*">([^<]*)</A>', text)
        connection = sqlite3.connect(f"{(reader.folder / 'visits.db').as_uri()}?mode=ro", uri=True)
        visits, first = connection.execute("select count(*), min(day) from visit").fetchone()
        connection.close()
        pages = len(list((reader.folder / "pages").iterdir()))
        print(f"{reader.name}{' *' if reader.current else ''}")
        print(f"  {len(kept)} kept, {visits} visits since {first}, {pages} saved pages")
        for title in kept[:5]:
            print(f"  - {title}")


if __name__ == "__main__":
    main()
