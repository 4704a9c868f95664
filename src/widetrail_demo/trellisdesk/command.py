"""The command ``trellisdesk``: what Trellisdesk keeps, and its screen.

``Trellisdesk`` in the settings holds ``houses.json`` (greenhouses with what is wanted in each),
``boxes.json`` (the control boxes) and, below ``add-ins``, a folder for each add-in.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from widetrail_demo import here


def root() -> Path:
    """Return the folder of the settings."""
    return here.config_folder() / "Trellisdesk"


def houses() -> dict[str, dict[str, float]]:
    """Return what is wanted in each greenhouse."""
    path = root() / "houses.json"
    if not path.exists():
        return {}
    found: dict[str, dict[str, float]] = json.loads(path.read_text(encoding="utf-8"))
    return found


def boxes() -> dict[str, str]:
    """Return the greenhouse of each control box; a box shows itself to the computer as a drive."""
    path = root() / "boxes.json"
    known: dict[str, str] = json.loads(path.read_text(encoding="utf-8")) if path.exists() else {}
    return known


def main() -> None:
    """Run ``trellisdesk`` with the arguments of the command line."""
    if sys.argv[1:] not in (["list"], ["boxes"]):
        sys.exit("usage: trellisdesk list | boxes")
    if sys.argv[1:] == ["boxes"]:
        print(f"boxes: {len(boxes())}")
        return
    for name, wanted in houses().items():
        told = ", ".join(f"{what} {value:g}" for what, value in wanted.items())
        print(f"{name}: {told}")
    for box, house in boxes().items():
        print(f"box {box} in {house}")
