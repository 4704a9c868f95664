"""The command ``mistvane``: the misting add-in of Trellisdesk, which it needs on the same computer.

``add-ins/mistvane`` of Trellisdesk's settings holds ``mists.json`` (hours of misting by greenhouse)
and ``licence.json``.
"""

from __future__ import annotations

import json
import sys

from widetrail_demo.licences import Licence
from widetrail_demo.trellisdesk.command import houses, root

PRODUCT = "Mistvane"


def main() -> None:
    """Run ``mistvane`` with the arguments of the command line."""
    own = root() / "add-ins" / "mistvane"
    licence = Licence(PRODUCT, own / "licence.json")
    if not root().is_dir():
        sys.exit("mistvane: Trellisdesk is not on this computer")
    match sys.argv[1:]:
        case ["list"]:
            print(f"licence: {licence.state}")
            path = own / "mists.json"
            hours = json.loads(path.read_text(encoding="utf-8")) if path.exists() else {}
            for name in sorted(hours):
                known = "" if name in houses() else " (no such house)"
                print(f"  {name}: {', '.join(hours[name])}{known}")
        case ["seat", *arguments] if "--request" not in arguments:
            sys.exit(licence.run(arguments))
        case _:
            sys.exit("usage: mistvane list | seat [release|claim]")
