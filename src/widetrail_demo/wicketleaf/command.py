"""The command ``wicketleaf``, and what Wicketleaf keeps.

Letters lie in ``Post``, a mailbox a folder (``inbox.mbox``, ``sent.mbox``), people in
``people.vcf``, appointments in ``diary.ics`` and links to the web in ``links.json`` beside it.
"""

from __future__ import annotations

import argparse
import json
import mailbox
import os
import re
import sys
import time
from contextlib import closing
from email.header import decode_header, make_header
from pathlib import Path

from widetrail_demo import here
from widetrail_demo.opening import held_open, tell_to_end

SHOWN = 3
"""Letters of a folder, and people, that are listed by name."""


def root() -> Path:
    """Return the folder that holds everything."""
    if here.PLATFORM == "windows":
        return Path(os.environ["LOCALAPPDATA"]) / "Wicketleaf"
    if here.PLATFORM == "macos":
        return Path.home() / "Library/Application Support/Wicketleaf"
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local/share") / "wicketleaf"


def folders() -> list[Path]:
    """Return the mailboxes, by name."""
    return sorted((root() / "Post").glob("*.mbox"))


def people() -> list[str]:
    """Return the names of the people who are kept, in the order of their cards."""
    path = root() / "people.vcf"
    text = path.read_text(encoding="utf-8") if path.exists() else ""
    return re.findall(r"(?m)^FN[^:]*:(.*?)\r?$", text)


def links() -> list[str]:
    """Return the names of the links that are kept."""
    path = root() / "links.json"
    kept = json.loads(path.read_text(encoding="utf-8"))["links"] if path.exists() else []
    return [link["name"] for link in kept]


def appointments() -> int:
    """Return how many appointments are kept."""
    path = root() / "diary.ics"
    return path.read_text(encoding="utf-8").count("BEGIN:VEVENT") if path.exists() else 0


def main() -> None:
    """Run ``wicketleaf`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("wicketleaf", description="Read and write letters.")
    parser.add_argument("--release", action="version", version=f"Wicketleaf {here.release('2.3')}")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print every folder, and who is kept")
    opened = commands.add_parser("open", help="open it until told to end")
    opened.add_argument("--for", dest="seconds", type=float, default=3600.0)
    commands.add_parser("close", help="ask an open Wicketleaf to end")
    arguments = parser.parse_args()
    match arguments.command:
        case "list":
            _list()
        case "open":
            _open(arguments.seconds)
        case "close":
            tell_to_end(root() / "lock")


def _list() -> None:
    for path in folders():
        with closing(mailbox.mbox(path, create=False)) as box:
            subjects = [str(make_header(decode_header(str(m["Subject"])))) for m in box]
        print(f"{path.stem}: {len(subjects)} letters")
        for subject in subjects[:SHOWN]:
            print(f"  {subject}")
    print(f"people: {len(people())}")
    for name in people()[:SHOWN]:
        print(f"  {name}")
    print(f"appointments: {appointments()}")
    print(f"links: {len(links())}")
    for name in links()[:SHOWN]:
        print(f"  {name}")


def _open(seconds: float) -> None:
    lock = root() / "lock"
    if lock.exists():
        sys.exit("wicketleaf: it is open already")
    with held_open(lock):
        print("Wicketleaf is open.", flush=True)
        time.sleep(seconds)


if __name__ == "__main__":
    main()
