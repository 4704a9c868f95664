"""A large mail store that letters come to: how long a walk takes, in how much memory, beside what
only reads the same bytes twice.

    python benchmarks/large_store.py [LETTERS] [FOLDER]

Two machines of folders are made below FOLDER (a temporary one unless said): new holds LETTERS
(2,000,000, which are 7.6 GiB), old 50,000, half of them the same. The walk on new is a process of
its own; its peer counts the letters twice with ``grep``.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path

from records import letter

RECIPE = """recipe: 1
revision: 1
application: {id: leaf, name: Leaf}
recognise:
  - sign: {file: "{home}/leaf.ini"}
places:
  mail: {folder: "{home}/mail"}
items:
  mail:
    title: Letters
    from: mail
    routes:
      - name: merged
        legs: [{new: [{records: {mbox: "{mail}/all"}, from: {mbox: all}}]}]
"""
PADDING = ("The beds were watered, and the frames are shut. " * 20 + "\n") * 3
CALL = [sys.executable, "-m", "widetrail"]


def machine(folder: Path, numbers: Iterable[int]) -> Path:
    """Make a machine that keeps letters; return where they are."""
    home = folder / "root/home/ada"
    (home / "mail").mkdir(parents=True)
    (folder / "root/tmp").mkdir()
    (home / "leaf.ini").write_text("[leaf]\n")
    (folder / "machine.yaml").write_text(
        f"machine: {folder.name}\nidentity: {folder.name}\nplatform: linux\nsystem: '12'\n"
        "user: ada\ndisks:\n  '/': {folder: root, size: 100 GiB, format: ext4}\n"
    )
    with (home / "mail/all").open("w", buffering=1 << 22) as file:
        file.writelines(letter(number)[:-1] + PADDING + "\n" for number in numbers)
    return home / "mail/all"


def main() -> None:
    """Measure and print."""
    letters = int(sys.argv[1]) if len(sys.argv) > 1 else 2_000_000
    with tempfile.TemporaryDirectory(dir=sys.argv[2] if len(sys.argv) > 2 else None) as name:
        top = Path(name)
        there = machine(top / "new", range(letters))
        machine(top / "old", range(letters - 25_000, letters + 25_000))
        (top / "leaf.trail.yaml").write_text(RECIPE)
        sides = ["--old", str(top / "old"), "--new", str(top / "new"), "--parcel", str(top / "p")]
        for call in (
            ["plan", str(top / "leaf.trail.yaml"), *sides],
            ["walk", str(top / "p"), "--machine", str(top / "old"), "--yes"],
        ):
            subprocess.run([*CALL, *call], check=True, capture_output=True)
        size, begun = there.stat().st_size, time.perf_counter()
        for _ in range(2):
            subprocess.run(["grep", "-c", "^From ", str(there)], check=True, capture_output=True)
        peer, begun = time.perf_counter() - begun, time.perf_counter()
        walk = ["walk", str(top / "p"), "--machine", str(top / "new"), "--yes"]
        subprocess.run([*CALL, *walk], check=True, capture_output=True)
        took = time.perf_counter() - begun
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
        print(f"{letters:,} letters, {size / 2**30:.1f} GiB: {took:.0f} s, {took / peer:.1f} times")
        print(f"its peer ({peer:.0f} s), {most:.0f} MB at most")


if __name__ == "__main__":
    main()
