"""A program of a rebuilt machine: it ends as the real one did in the field.

It is started with the file that says how, and then with what the real one was started with. It
makes the files that the real one made, of their sizes and with nothing in them.
"""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TypedDict


class Call(TypedDict):
    """A call in the field: its arguments, in which braces stand for a place; how it ended; and by
    its number among the arguments how large the file was that it made there."""

    arguments: list[str]
    status: int
    makes: dict[str, int]


def play(calls: Sequence[Call], given: Sequence[str]) -> int:
    """Do what the call did that was given these arguments; one that is not known does nothing."""
    for call in calls:
        if len(call["arguments"]) == len(given) and all(map(_is, call["arguments"], given)):
            for number, size in call["makes"].items():
                path = Path(given[int(number)])
                path.parent.mkdir(parents=True, exist_ok=True)
                with path.open("wb") as made:
                    made.truncate(size)
            if call["status"]:
                sys.stderr.write("it ends as it did in the field\n")
            return call["status"]
    return 0


def _is(told: str, given: str) -> bool:
    parts = re.split(r"\{[^}]*\}", told)
    return re.fullmatch(".*".join(map(re.escape, parts)), given, re.DOTALL) is not None


if __name__ == "__main__":
    path, *arguments = sys.argv[1:]
    sys.exit(play(json.loads(Path(path).read_text(encoding="utf-8")), arguments))
