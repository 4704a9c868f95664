"""The command ``loamlens``, and what Loamlens keeps.

Scans are folders in ``Loamlens`` of the documents, each with ``scan.json`` (the bed, the day, the
lengths of the roots in millimetres). ``loamlens.ini`` in the settings tells edition and release;
``licence.json`` beside it is the licence. The edition ``institute`` may ask its maker by files that
are carried to a computer with a network; the edition ``bench`` must be online itself.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from widetrail_demo import here
from widetrail_demo.licences import Licence

PRODUCT = "Loamlens"


def scans() -> Path:
    """Return the folder of the scans."""
    return here.documents_folder() / "Loamlens"


def settings() -> Path:
    """Return the folder of the settings."""
    return here.config_folder() / "Loamlens"


def licence() -> Licence:
    """Return the licence on this computer."""
    return Licence(PRODUCT, settings() / "licence.json")


def edition() -> str:
    """Return the edition that is installed."""
    import configparser  # which asking for the licence has no use for

    told = configparser.ConfigParser(interpolation=None)
    told.read(settings() / "loamlens.ini", encoding="utf-8")
    return told.get("loamlens", "edition", fallback="bench")


def main() -> None:
    """Run ``loamlens`` with the arguments of the command line."""
    match sys.argv[1:]:
        case ["list"]:
            _show()
        case ["seat", *arguments]:
            if "--request" in arguments and edition() != "institute":
                sys.exit("loamlens: this edition asks its maker online only")
            sys.exit(licence().run(arguments))
        case _:
            sys.exit("usage: loamlens list | seat [release|claim [--request FILE]|register FILE]")


def _show() -> None:
    print(f"Loamlens, {edition()} edition")
    print(f"licence: {licence().state}")
    for path in sorted(scans().glob("*/scan.json")):
        scan = json.loads(path.read_text(encoding="utf-8"))
        total = sum(scan["lengths"])
        print(f"  {scan['bed']}, {scan['day']}: {len(scan['lengths'])} roots, {total} mm")
