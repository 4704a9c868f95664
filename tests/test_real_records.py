"""Files that programs of Debian made are read and merged, and those programs read what is written.

A program that is not there skips its tests, with that as the reason.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import pytest

from test_records import letter, merged, records_of, store
from widetrail.formats.forms import FORMS
from widetrail.formats.record import Declared
from widetrail.records import Merge, Policy, Store

CALENDAR = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//x//EN
BEGIN:VEVENT
UID:1@garden.example
DTSTART:20260502T100000
DTEND:20260502T110000
SUMMARY:Plant sale\\, spring
RRULE:FREQ=WEEKLY;COUNT=3
END:VEVENT
BEGIN:VTODO
UID:2@garden.example
SUMMARY:Water the ferns
PRIORITY:3
END:VTODO
END:VCALENDAR
"""


def run(home: Path, *command: str, given: bytes = b"") -> bytes:
    """Run a program with a home of its own; return what it prints."""
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not installed (Debian has it)")
    environment = {**os.environ, "HOME": str(home), "LC_ALL": "C.UTF-8", "TERM": "dumb"}
    done = subprocess.run(
        command, cwd=home, env=environment, input=given, capture_output=True, timeout=60, check=True
    )
    return done.stdout


def settled(form: str, source: Path, target: Path) -> int:
    """Merge a file into another one and see that the same merge changes nothing any more; return
    how many records came."""
    came = merged([store(form, source)], store(form, target), target)
    with Merge([store(form, source)], store(form, target), Policy()) as again:
        assert not again.changes
    return came.added


def test_a_calendar_of_calcurse_goes_both_ways(tmp_path: Path) -> None:
    (tmp_path / "in.ics").write_text(CALENDAR)
    run(tmp_path, "calcurse", "-D", "cal", "-q", "-i", "in.ics")
    out = tmp_path / "out.ics"
    out.write_bytes(run(tmp_path, "calcurse", "-D", "cal", "-xical"))
    assert [identity for identity, *_ in records_of(store("icalendar", out))] == [b"", b""]
    mine = tmp_path / "mine.ics"
    mine.write_text(CALENDAR.replace("1@", "3@").replace("Plant sale", "Open day"))
    assert settled("icalendar", out, mine) == 2
    run(tmp_path, "calcurse", "-D", "other", "-q", "-i", "mine.ics")
    listed = run(tmp_path, "calcurse", "-D", "other", "-xical").decode()
    assert listed.count("BEGIN:VEVENT") == 2 and listed.count("BEGIN:VTODO") == 2
    assert "Plant sale" in listed and "Open day" in listed


def test_cards_and_a_table_of_abook_say_the_same(tmp_path: Path) -> None:
    (tmp_path / "in.csv").write_text('"Ada Fern","ada@fern.example","12 3","",""\n')
    convert = ("abook", "--convert", "--infile", "in.csv", "--informat", "csv")
    run(tmp_path, *convert, "--outformat", "vcard", "--outfile", "out.vcf")
    back = ("abook", "--convert", "--infile", "out.vcf", "--informat", "vcard")
    run(tmp_path, *back, "--outformat", "csv", "--outfile", "out.csv")
    cards = store("vcard", tmp_path / "out.vcf")
    (record,) = (
        piece.record for piece in cards.records.pieces(cards.path, cards.declared) if piece.record
    )
    told = cards.records.fields(record, cards.declared)
    assert (told["FN"], told["EMAIL"]) == (("Ada Fern",), ("ada@fern.example",))
    mine = tmp_path / "mine.vcf"
    assert settled("vcard", cards.path, mine) == 1
    table = tmp_path / "table.csv"
    table.write_bytes(b"name,mail,tel,a,b\n" + (tmp_path / "out.csv").read_bytes())
    fields = {"FN": "name", "EMAIL": "mail", "TEL": "tel"}
    form = FORMS["csv"].records
    assert form is not None
    rows = Store(form, table, Declared(fields=fields))
    came = merged([rows], store("vcard", mine), mine)
    assert (came.added, came.count) == (1, {"new": 1})
    assert mine.read_text().count("Ada Fern") >= 2


def test_feeds_of_newsboat_go_both_ways(tmp_path: Path) -> None:
    feed = 'https://fern.example/feed "ferns" "~Fern feed"\nhttps://moss.example/feed\n'
    (tmp_path / "urls").write_text(feed)
    own = ("newsboat", "-u", "urls", "-c", "cache.db")
    out, mine = tmp_path / "out.opml", tmp_path / "mine.opml"
    out.write_bytes(run(tmp_path, *own, "-e"))
    assert [r[0] for r in records_of(store("opml", out))] == [
        b"https://fern.example/feed",
        b"https://moss.example/feed",
    ]
    mine.write_text(
        '<?xml version="1.0"?>\n<opml version="2.0"><head/><body>\n<outline text="Beds">\n'
        '<outline type="rss" text="Rill" xmlUrl="https://rill.example/feed"/>\n'
        "</outline>\n</body></opml>\n"
    )
    assert settled("opml", out, mine) == 2
    (tmp_path / "fresh").write_text("")
    run(tmp_path, "newsboat", "-u", "fresh", "-c", "other.db", "-i", "mine.opml")
    listed = (tmp_path / "fresh").read_text()
    assert all(f"https://{name}.example/feed" in listed for name in ("fern", "moss", "rill"))


def test_bookmarks_of_buku_go_both_ways(tmp_path: Path) -> None:
    own = ("buku", "--nostdin", "--np")
    add = ("-a", "https://fern.example/", "ferns", "--title", "Ferns & co", "-c", "of the wall")
    run(tmp_path, *own, *add)
    run(tmp_path, *own, "-e", "out.html")
    out, mine = tmp_path / "out.html", tmp_path / "mine.html"
    ((address, _, folder),) = records_of(store("bookmarks", out))
    assert (address, folder) == (b"https://fern.example/", ("buku bookmarks",))
    mine.write_text(
        "<!DOCTYPE NETSCAPE-Bookmark-file-1>\n<DL><p>\n"
        '<DT><A HREF="https://moss.example/" ADD_DATE="1600000000">Moss</A>\n</DL><p>\n'
    )
    assert settled("bookmarks", out, mine) == 1
    (other := tmp_path / "other").mkdir()
    shutil.copyfile(mine, other / "mine.html")
    run(other, *own, "-i", "mine.html", given=b"n\nn\nn\nn\n")
    listed = run(other, *own, "-p", "-f", "1").decode()
    assert "https://moss.example/" in listed and "https://fern.example/" in listed


def test_a_mailbox_of_formail_goes_both_ways(tmp_path: Path) -> None:
    raw = b"".join(
        run(tmp_path, "formail", given=letter(n, "From the shed\nFrom here\n").as_bytes())
        for n in range(3)
    )
    (tmp_path / "out").write_bytes(raw)
    assert b"\n>From the shed\n>From here\n" in raw
    mine = tmp_path / "mine"
    assert settled("mbox", tmp_path / "out", mine) == 3
    ids = run(
        tmp_path, "formail", "-n", "1", "-s", "formail", "-xMessage-ID:", given=mine.read_bytes()
    )
    assert sorted(ids.split()) == [b"<%d@garden.example>" % n for n in range(3)]
