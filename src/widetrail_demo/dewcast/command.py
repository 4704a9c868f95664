"""The command ``dewcast``, and what Dewcast keeps.

``dewcast.json`` tells where recordings and listening lists lie. Beside the recordings lies
``markers.db``, whose markers name their recording by its whole path; a list names each recording by
its address (``file:``). The index of what can be looked for lies apart, is made from the
recordings, and is only as good as when it was made.
"""

from __future__ import annotations

import argparse
import json
import os
import sqlite3
import sys
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from widetrail_demo import here

SCHEMA = "create table marker (id integer primary key, recording text, second integer, kind text)"


def root() -> Path:
    """Return the folder of the settings."""
    return here.config_folder() / "Dewcast"


def index_file() -> Path:
    """Return the index of what can be looked for."""
    if here.PLATFORM == "windows":
        return Path(os.environ["LOCALAPPDATA"]) / "Dewcast/index.json"
    if here.PLATFORM == "macos":
        return Path.home() / "Library/Caches/Dewcast/index.json"
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "Dewcast/index.json"


def create(recordings: Path, lists: Path, markers: list[tuple[str, int, str]]) -> None:
    """Make the folders of recordings and lists, and the markers."""
    recordings.mkdir(parents=True)
    lists.mkdir(parents=True)
    with closing(sqlite3.connect(recordings / "markers.db")) as connection, connection:
        connection.execute(SCHEMA)
        connection.executemany(
            "insert into marker (recording, second, kind) values (?, ?, ?)", markers
        )


def _settings() -> dict[str, Any]:
    file = root() / "dewcast.json"
    told: dict[str, Any] = json.loads(file.read_text(encoding="utf-8")) if file.exists() else {}
    return told


def _folder(name: str) -> Path:
    told = str(_settings().get(name, ""))
    if told.startswith("~"):
        return Path.home() / told[2:]
    return here.real(told) if told else here.documents_folder() / "Dewcast" / name.capitalize()


def _recordings() -> list[Path]:
    return sorted(_folder("recordings").rglob("*.wav"))


def _markers() -> list[tuple[str, int, str]]:
    file = _folder("recordings") / "markers.db"
    if not file.exists():
        return []
    with closing(sqlite3.connect(f"{file.as_uri()}?mode=ro", uri=True)) as connection:
        return list(
            connection.execute("select recording, second, kind from marker order by recording, id")
        )


def _listed(file: Path) -> list[Path]:
    lines = file.read_text(encoding="utf-8").splitlines()
    return [_of_address(line) for line in lines if line and not line.startswith("#")]


def _of_address(text: str) -> Path:
    path = unquote(urlsplit(text).path)
    return here.real(path.lstrip("/") if here.PLATFORM == "windows" else path)


def main() -> None:
    """Run ``dewcast`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("dewcast", description="Field recordings.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print recordings, markers and lists as the screen shows them")
    commands.add_parser("reindex", help="make the index anew")
    look = commands.add_parser("look", help="look in the index for recordings")
    look.add_argument("word")
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            _list()
        case "reindex":
            _reindex()
        case "look":
            _look(arguments.word)


def _list() -> None:
    markers = _markers()
    print(f"Dewcast: {len(_recordings())} recordings, {len(markers)} markers")
    print(f"Theme: {_settings().get('theme', 'plain')}")
    for recording in _recordings():
        mine = [m for m in markers if here.real(m[0]) == recording]
        told = ", ".join(f"{kind} at {second}s" for _, second, kind in mine)
        print(f"  {recording.name}: {told or 'no markers'}")
    for name, second, _ in markers:
        if not here.real(name).is_file():
            print(f"  a marker at {second}s is of a recording that nobody can find")
    for file in sorted(_folder("lists").glob("*.list")):
        there = [path.is_file() for path in _listed(file)]
        print(f"List {file.stem}: {len(there)} recordings")
        for path in (path for path in _listed(file) if not path.is_file()):
            print(f"  unheard of: {path.name}")
    print(f"Found by the index: {len(_indexed())}")


def _reindex() -> None:
    write_index(index_file(), str(_settings().get("recordings", "")), _names())
    print(f"indexed: {len(_recordings())}")


def _names() -> list[str]:
    top = _folder("recordings")
    return [path.relative_to(top).as_posix() for path in _recordings()]


def write_index(file: Path, folder: str, names: list[str]) -> None:
    """Write an index of the recordings in ``folder``, as the settings tell it."""
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(json.dumps({"of": folder, "names": names}), encoding="utf-8")


def _indexed() -> list[Path]:
    file = index_file()
    told = json.loads(file.read_text(encoding="utf-8")) if file.exists() else {}
    if told.get("of") != _settings().get("recordings", ""):  # they moved since
        return []
    found = [_folder("recordings") / name for name in told["names"]]
    return [path for path in found if path.is_file()]


def _look(word: str) -> None:
    found = [path.name for path in _indexed() if word.casefold() in path.name.casefold()]
    print("\n".join(found) or "nothing")
    sys.exit(0 if found else 1)


if __name__ == "__main__":
    main()
