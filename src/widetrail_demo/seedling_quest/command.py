"""The command ``seedling-quest``, and what Seedling Quest keeps.

``teacher.toml`` says who is signed in; each class has a saved trail ``trails/CLASS.json``. A trail
is given out as a file of its own and taken in when somebody is signed in.
"""

from __future__ import annotations

import argparse
import json
import shutil
import sys
import tomllib
from pathlib import Path

from widetrail_demo import here


def root() -> Path:
    """Return the folder that holds everything."""
    return here.config_folder() / "SeedlingQuest"


def signed_in() -> str:
    """Return who is signed in, or an empty text."""
    path = root() / "teacher.toml"
    return str(tomllib.loads(path.read_text(encoding="utf-8"))["teacher"]) if path.exists() else ""


def trails() -> list[Path]:
    """Return the saved trails."""
    return sorted((root() / "trails").glob("*.json"))


def main() -> None:
    """Run ``seedling-quest`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("seedling-quest", description="Learning trails for schools.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print the saved trails")
    sign = commands.add_parser("sign-in", help="sign in as a teacher")
    sign.add_argument("teacher")
    give = commands.add_parser("give", help="write the trail of one class to a file")
    give.add_argument("trail")
    give.add_argument("--to", required=True)
    take = commands.add_parser("take", help="take in a trail")
    take.add_argument("file")
    take.add_argument("--as", dest="name", required=True)
    arguments = parser.parse_args()
    (root() / "trails").mkdir(parents=True, exist_ok=True)
    match arguments.command:
        case "list":
            _list()
        case "sign-in":
            text = f"teacher = {json.dumps(arguments.teacher)}\n"
            (root() / "teacher.toml").write_text(text, encoding="utf-8")
        case "give":
            shutil.copyfile(root() / "trails" / f"{arguments.trail}.json", here.real(arguments.to))
        case "take":
            if not signed_in():
                sys.exit("seedling-quest: sign in first")
            source = here.real(arguments.file)
            shutil.copyfile(source, root() / "trails" / f"{arguments.name}.json")


def _list() -> None:
    print(f"Seedling Quest: {len(trails())} trails, signed in: {signed_in() or 'nobody'}")
    for path in trails():
        trail = json.loads(path.read_text(encoding="utf-8"))
        print(f"  {path.stem}: station {trail['station']}, {trail['acorns']} acorns")


if __name__ == "__main__":
    main()
