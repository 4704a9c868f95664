"""How fast records are merged, and in how much memory, beside what only reads them.

    python benchmarks/records.py [LETTERS] [RECORDS]

Two mailboxes of half as many LETTERS each (100,000 in all unless said), half of one in the other,
are merged by a process of its own; the peer reads both with the standard library's ``mailbox``.
RECORDS (1,000,000 unless said) bookmarks, and a tenth as many contacts, are merged into an empty
store; their peers are lxml's HTML parser, asked for each address and title, and vobject's
reader on the same files. Ratios are of one
run.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

WORDS = "fern moss lichen spore gate bed seed root frost rain ledger label vault shed".split()

MERGE = """
import resource, sys, time
from pathlib import Path
from widetrail.formats.forms import FORMS
from widetrail.records import Merge, Policy, Store
form, target, source, to = sys.argv[1:]
records, begun = FORMS[form].records, time.perf_counter()
with Merge([Store(records, Path(source))], Store(records, Path(target)), Policy()) as merge:
    with open(to, "wb") as file:
        for chunk in merge.chunks():
            file.write(chunk)
    told = merge.merged
took = time.perf_counter() - begun
print(took, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024, told.added)
"""

PEERS = {
    "mbox": "import mailbox\nfor path in paths:\n    for one in mailbox.mbox(path): pass",
    "bookmarks": "from lxml import etree\nparser = etree.HTMLParser(huge_tree=True)\n"
    "for path in paths:\n"
    "    for one in etree.parse(path + '.closed', parser).iter('a'): one.get('href'), one.text",
    "vcard": "import vobject\nfor path in paths:\n"
    "    for one in vobject.readComponents(open(path)): pass",
}


def text(seed: int, count: int) -> str:
    """Return words, another text for each seed."""
    return " ".join(WORDS[(seed * 7 + n * n + n) % len(WORDS)] for n in range(count))


def letter(number: int) -> str:
    """Return a letter as a mailbox has it."""
    lines = "\n".join(text(number + line, 11) for line in range(22))
    return (
        "From ines@garden.example Mon Nov  2 10:00:00 2026\nFrom: ines@garden.example\n"
        f"To: office@garden.example\nSubject: {text(number, 3)} {number}\n"
        "Date: Mon, 02 Nov 2026 10:00:00 +0000\n"
        f"Message-ID: <{number}@garden.example>\nMIME-Version: 1.0\n"
        f"Content-Type: text/plain; charset=utf-8\n\n{lines}\n\n"
    )


def bookmark(number: int) -> str:
    """Return a bookmark as files have it."""
    address = f"https://x.example/{number}"
    return f'<DT><A HREF="{address}" ADD_DATE="17{number:08d}">{text(number, 4)}</A>\n'


def contact(number: int) -> str:
    """Return a contact as files have it."""
    return (
        f"BEGIN:VCARD\r\nVERSION:3.0\r\nUID:{number}\r\nFN:{text(number, 2)} {number}\r\n"
        f"N:{number};{text(number, 1)};;;\r\nEMAIL:p{number}@x.example\r\nEND:VCARD\r\n"
    )


def run(script: str, *arguments: str) -> list[float]:
    """Run a script in a process of its own; return the numbers that it prints."""
    ran = subprocess.run(
        [sys.executable, "-c", script, *arguments], check=True, capture_output=True, text=True
    )
    return [float(number) for number in ran.stdout.split()]


def show(what: str, form: str, target: Path, source: Path, read: list[Path]) -> None:
    """Print how long a merge and its peer take, and the memory of the merge."""
    took, memory, added = run(MERGE, form, str(target), str(source), str(target) + ".to")
    head = "import sys, time\npaths, begun = sys.argv[1:], time.perf_counter()\n"
    timed = f"{head}{PEERS[form]}\nprint(time.perf_counter() - begun)"
    (peer,) = run(timed, *map(str, read))
    print(
        f"{what:<42} {took:>8.2f} {peer:>9.2f} {took / peer:>7.2f} {memory:>8.0f} {added:>10.0f}",
        flush=True,
    )


def main() -> None:
    """Measure and print."""
    letters, records = (
        int(n) for n in (*sys.argv[1:], *("100000", "1000000")[len(sys.argv) - 1 :])
    )
    print(f"{'':<42} {'(s)':>8} {'peer (s)':>9} {'ratio':>7} {'MB':>8} {'came':>10}")
    with tempfile.TemporaryDirectory(prefix="widetrail-records-") as name:
        folder = Path(name)
        half = letters // 2
        for called, first in (("target", 0), ("source", half // 2)):
            with (folder / called).open("w") as file:
                file.writelines(letter(number) for number in range(first, first + half))
        both = [folder / "target", folder / "source"]
        show(f"{letters:,} letters, half of them there", "mbox", both[0], both[1], both)
        head = "<!DOCTYPE NETSCAPE-Bookmark-file-1>\n<TITLE>B</TITLE>\n<DL><p>\n"
        marks, cards = folder / "marks", folder / "cards"
        with marks.open("w") as file:
            file.write(head)
            file.writelines(bookmark(number) for number in range(records))
            file.write("</DL><p>\n")
        with marks.open() as lines, Path(f"{marks}.closed").open("w") as file:
            # else lxml ends at its depth
            file.writelines(line.replace("</A>\n", "</A></DT>\n") for line in lines)
        show(f"{records:,} bookmarks", "bookmarks", folder / "none", marks, [marks])
        few = max(1, records // 10)  # the peer takes minutes for all
        with cards.open("w", newline="") as file:
            file.writelines(contact(number) for number in range(few))
        show(f"{few:,} contacts", "vcard", folder / "nobody", cards, [cards])


if __name__ == "__main__":
    begun = time.perf_counter()
    main()
    print(f"{time.perf_counter() - begun:.0f} s in all")
