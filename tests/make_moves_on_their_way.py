"""Make the moves in ``tests/cases/on-their-way``: as this release writes them, cut off midway.

    python tests/make_moves_on_their_way.py

Those of a release that was handed out are never made anew: later releases must go on with them.
"""

import sys
import tarfile
import tempfile
from contextlib import suppress
from pathlib import Path

from build import Trail, item, trail
from conftest import Stopped, stop_at
from widetrail.machine import Effect, Effects

HERE = Path(__file__).parent
CASES = HERE / "cases/on-their-way"
WORDS = {sys.executable: "@PYTHON@", str(HERE / "fernbook.py"): "@FERNBOOK@"}
"""What stands in machine files and is another on each computer, with what stands for it."""


def packed(folder: Path) -> Trail:
    """Return a move whose first leg was walked; other notes lie in the place on new."""
    legs = item("        legs:\n          - new: [copy]")
    made = trail(folder, legs.replace("name: way", "name: way\n        existing: back up"))
    own = made.notes("new")
    own.mkdir(parents=True)
    (own / "one.txt").write_text("of the new one\n")
    made.walk("old")
    return made


def cut_off(folder: Path) -> Trail:
    """Return a move that was cut off on new while notes were put in their place."""
    with tempfile.TemporaryDirectory() as whole:
        counted = list[Effect]()
        packed(Path(whole)).walk("new", Effects(counted.append))
    made = packed(folder)
    replaced = [one.number for one in counted if one.kind == "replace"]
    with suppress(Stopped):
        made.walk("new", Effects(stop_at(replaced[0] if replaced else len(counted) * 2 // 3)))
    return made


def arrived(folder: Path) -> Trail:
    """Return a move that was walked to its end."""
    made = packed(folder)
    made.walk("new")
    return made


def main() -> None:
    CASES.mkdir(exist_ok=True)
    for make in (packed, cut_off, arrived):
        with tempfile.TemporaryDirectory() as folder:
            make(Path(folder))
            for file in Path(folder).glob("*/machine.yaml"):
                text = file.read_text()
                for word, stands_for in WORDS.items():
                    text = text.replace(word, stands_for)
                file.write_text(text)
            with tarfile.open(CASES / f"{make.__name__}.tar.xz", "w:xz") as archive:
                archive.add(folder, ".")


if __name__ == "__main__":
    main()
