"""The command ``huemoss``, and what Huemoss keeps.

Palettes (``*.palette``, JSON) and stamps (``*.stamp``, a picture with a name) lie in two folders
side by side. Palettes are taken in by the program and seen at once; stamps that were put in the
folder are seen when it starts.
"""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from widetrail_demo import here


def root() -> Path:
    """Return the folder that holds both folders."""
    return here.documents_folder() / "Huemoss"


def main() -> None:
    """Run ``huemoss`` with the arguments of the command line."""
    parser = argparse.ArgumentParser("huemoss", description="Palettes and stamps for bed plans.")
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("list", help="print palettes and stamps")
    give = commands.add_parser("give", help="write all palettes into one file")
    give.add_argument("--to", required=True)
    take = commands.add_parser("take", help="take in the palettes of a file")
    take.add_argument("file")
    arguments = parser.parse_args()
    for name in ("Palettes", "Stamps"):
        (root() / name).mkdir(parents=True, exist_ok=True)
    match arguments.command:
        case "list":
            _list()
        case "give":
            palettes = {p.stem: json.loads(p.read_text(encoding="utf-8")) for p in _palettes()}
            text = json.dumps({"huemoss": 1, "palettes": palettes}, ensure_ascii=False, indent=1)
            here.real(arguments.to).write_text(text, encoding="utf-8")
            print(f"palettes: {len(palettes)}")
        case "take":
            _take(here.real(arguments.file))


def _palettes() -> list[Path]:
    return sorted((root() / "Palettes").glob("*.palette"))


def _list() -> None:
    stamps = sorted(p.stem for p in (root() / "Stamps").glob("*.stamp"))
    print(f"Huemoss: {len(_palettes())} palettes, {len(stamps)} stamps")
    for path in _palettes():
        print(f"  {path.stem}: {', '.join(json.loads(path.read_text(encoding='utf-8')))}")
    for stamp in stamps:
        print(f"  stamp {stamp}")


def _take(file: Path) -> None:
    document = json.loads(file.read_text(encoding="utf-8"))
    if document.get("huemoss") != 1:
        sys.exit("huemoss: this is not a file of palettes")
    for name, colours in document["palettes"].items():
        text = json.dumps(colours, ensure_ascii=False)
        (root() / "Palettes" / f"{name}.palette").write_text(text, encoding="utf-8")
    print(f"taken in: {len(document['palettes'])}")


if __name__ == "__main__":
    main()
