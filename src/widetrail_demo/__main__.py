"""Starts a stand-in by its name: ``python -m widetrail_demo sporelog list``.

The folder machines of the demo world start every program so; none of them is a command of its own.
"""

from __future__ import annotations

import sys
from importlib import import_module

PROGRAMS = {
    "brackenwend": "brackenwend.command",
    "desk": "desk.command",
    "dewcast": "dewcast.command",
    "frondsign": "frondsign.command",
    "huemoss": "huemoss.command",
    "loamlens": "loamlens.command",
    "loamlens-errand": "loamlens.errand",
    "mistvane": "mistvane.command",
    "quillbox": "quillbox.command",
    "seedling-quest": "seedling_quest.command",
    "sporelog": "sporelog.command",
    "tillbook": "tillbook.command",
    "trellisdesk": "trellisdesk.command",
    "wicketleaf": "wicketleaf.command",
}
"""The stand-ins by name, each with its module below this package."""


def start_command(name: str) -> str:
    """Return what a folder machine starts a stand-in by, as ``machine.yaml`` has it."""
    return f"[python, -P, -m, widetrail_demo, {name}]"


def main() -> None:
    """Run the stand-in that the first argument names, with the rest."""
    name = sys.argv[1] if len(sys.argv) > 1 else ""
    if name not in PROGRAMS:
        sys.exit(f"usage: python -m widetrail_demo {'|'.join(PROGRAMS)} ...")
    sys.argv = [name, *sys.argv[2:]]
    import_module(f"widetrail_demo.{PROGRAMS[name]}").main()


if __name__ == "__main__":
    main()
