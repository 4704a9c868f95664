"""The command ``brackenwend``, and what Brackenwend keeps.

``readers.yaml`` lists who reads here; each reader has a folder with ``kept.html`` (bookmarks in the
common HTML form), ``visits.db`` and ``pages``.
"""

from __future__ import annotations

import argparse
import os
import re
import shutil
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

import yaml

from widetrail_demo import here

_FOLDERS = {"windows": "Brackenwend", "macos": "Brackenwend", "linux": "brackenwend"}


class Reader(NamedTuple):
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
    write = commands.add_parser("write-bookmarks", help="write a reader's bookmarks to a file")
    write.add_argument("--reader", required=True)
    write.add_argument("--to", required=True)
    take = commands.add_parser("take-bookmarks", help="take a file in, to a folder of its own")
    take.add_argument("file")
    take.add_argument("--reader", required=True)
    sign = commands.add_parser("sign-in", help="sign in; what is kept comes back by and by")
    sign.add_argument("account")
    sign.add_argument("--reader", required=True)
    step = commands.add_parser("keep-in-step", help="bring what the account keeps")
    step.add_argument("folder")
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            for one in readers():
                _list(one)
        case "write-bookmarks":
            text = (_reader(arguments.reader).folder / "kept.html").read_text(encoding="utf-8")
            here.real(arguments.to).write_text(text, encoding="utf-8")
            print(f"bookmarks: {len(_KEPT.findall(text))}")
        case "take-bookmarks":
            _take(here.real(arguments.file), _reader(arguments.reader).folder / "kept.html")
        case "sign-in":
            _sign_in(arguments.account, _reader(arguments.reader).folder)
        case "keep-in-step":
            _keep_in_step(Path(arguments.folder))


_KEPT = re.compile(r'<A HREF="[^"]*">([^<]*)</A>')
PAUSE = 0.1
"""Seconds that a part of what an account keeps takes to come back."""


def _reader(name: str) -> Reader:
    found = next((reader for reader in readers() if reader.name == name), None)
    if found is None:
        sys.exit(f"brackenwend: there is no reader {name}")
    return found


def _list(reader: Reader) -> None:
    text = (reader.folder / "kept.html").read_text(encoding="utf-8")
    kept = _KEPT.findall(text)
    connection = sqlite3.connect(f"{(reader.folder / 'visits.db').as_uri()}?mode=ro", uri=True)
    visits, first = connection.execute("select count(*), min(day) from visit").fetchone()
    connection.close()
    pages = len(list((reader.folder / "pages").iterdir()))
    print(f"{reader.name}{' *' if reader.current else ''}")
    print(f"  {len(kept)} kept, {visits} visits since {first}, {pages} saved pages")
    for folder in re.findall("<H3>([^<]*)</H3>", text):
        print(f"  in {folder}:")
    for title in kept[:5]:
        print(f"  - {title}")


def _take(file: Path, kept: Path) -> None:
    """Put what a file holds in a folder that is called as the file is, after all that is kept."""
    lines = [line for line in file.read_text(encoding="utf-8").splitlines() if _KEPT.search(line)]
    text = kept.read_text(encoding="utf-8")
    folder = "\n".join([f"<DT><H3>{file.stem}</H3>", "<DL><p>", *lines, "</DL><p>", ""])
    before, _, after = text.rpartition("</DL>")
    kept.write_text(f"{before}{folder}</DL>{after}", encoding="utf-8")
    print(f"bookmarks: {len(lines)}")


def _sign_in(account: str, folder: Path) -> None:
    (folder / "account.yaml").write_text(f"name: {account}\n", encoding="utf-8")
    command = [sys.executable, "-m", "widetrail_demo.brackenwend.command", "keep-in-step"]
    environment = {**os.environ, "FOLDER_MACHINE_PROGRAM": "the account"}  # not the program itself
    quiet = subprocess.DEVNULL
    subprocess.Popen(
        [*command, str(folder)],
        env=environment,
        stdin=quiet,
        stdout=quiet,
        stderr=quiet,
        start_new_session=True,
    )


def _keep_in_step(folder: Path) -> None:
    """Bring bookmarks, visits and pages of the account, a part at a time."""
    name = yaml.safe_load((folder / "account.yaml").read_text(encoding="utf-8"))["name"]
    kept = here.service_folder(f"brackenwend/{name}")
    if kept is None:
        return
    with closing(sqlite3.connect(kept / "visits.db")) as source:
        rows = source.execute("select day, address from visit").fetchall()
    with closing(sqlite3.connect(folder / "visits.db")) as target, target:
        target.executemany("insert into visit values (?, ?)", rows)
    lines = (kept / "kept.html").read_text(encoding="utf-8").splitlines(keepends=True)
    links = [n for n, line in enumerate(lines) if _KEPT.search(line)]
    for count in range(8, len(links) + 8, 8):
        time.sleep(PAUSE)
        left = set(links[count:])
        text = "".join(line for n, line in enumerate(lines) if n not in left)
        (folder / "kept.new").write_text(text, encoding="utf-8")
        (folder / "kept.new").replace(folder / "kept.html")
    for path in sorted((kept / "pages").iterdir()):
        time.sleep(PAUSE)
        shutil.copy2(path, folder / "pages" / path.name)


if __name__ == "__main__":
    main()
