"""Records: stores of every form merged, converted, walked, undone and read by other readers."""

from __future__ import annotations

import csv
import io
import json
import mailbox
import re
import shutil
import sqlite3
from collections.abc import Iterable
from contextlib import closing
from dataclasses import replace
from email.message import EmailMessage
from html.parser import HTMLParser
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from build import NOW, Trail, moved, outcomes
from conftest import Ran, World, cut_off_everywhere, of_the_person, swept, widetrail
from test_trials import two
from widetrail.formats.forms import FORMS
from widetrail.formats.record import Broken, Declared, Records, joined
from widetrail.planning import foresee
from widetrail.records import Duplicates, Merge, Merged, Policy, Store
from widetrail.records.known import Known
from widetrail.steps import KINDS
from widetrail.walking import Run


def store(form: str, path: Path, **options: str) -> Store:
    records = FORMS[form].records
    assert records is not None
    return Store(records, path, Declared(options=options))


def records_of(one: Store) -> list[tuple[bytes, bytes, tuple[str, ...]]]:
    """Return the identity, content and folder of each record."""
    declared = one.records.habits(one.path, one.declared)
    found = (piece.record for piece in one.records.pieces(one.path, declared))
    return [(r.identity, r.digest, r.folder) for r in found if r is not None]


def merged(
    sources: Iterable[Store],
    target: Store,
    to: Path,
    policy: Policy = Policy(),  # noqa: B008
) -> Merged:
    """Merge into the file ``to``, or into the target itself where that is a folder."""
    with Merge(list(sources), target, policy) as merge:
        if target.records.in_folder:
            for new in merge.files():
                path = target.path / new.path
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(new.data)
        else:
            to.write_bytes(b"".join(merge.chunks()))
        return merge.merged


def letter(number: int, body: str = "", subject: str = "") -> EmailMessage:
    made = EmailMessage()
    made["From"], made["To"] = "ines@garden.example", "office@garden.example"
    made["Date"] = "Mon, 02 Nov 2026 10:00:00 +0000"
    made["Subject"] = subject or f"Läufer {number}"
    made["Message-ID"] = f"<{number}@garden.example>"
    made.set_content(body or f"From the shed, letter {number}\n>From an older one\n")
    return made


def make_mbox(path: Path, letters: Iterable[EmailMessage]) -> Path:
    box = mailbox.mbox(path)
    for one in letters:
        box.add(one)
    box.close()
    return path


def vcard(number: int, more: str = "", uid: bool = True) -> str:
    own = f"UID:urn:uuid:{number}\r\n" if uid else ""
    return (
        f"BEGIN:VCARD\r\nVERSION:4.0\r\n{own}FN:Person {number}\r\nEMAIL:p{number}@x.example\r\n"
        f'X-GARDEN;X-BED="a:b":kept {number}\r\n{more}END:VCARD\r\n'
    )


ZONE = (
    "BEGIN:VTIMEZONE\r\nTZID:Europe/Moss\r\nBEGIN:STANDARD\r\nDTSTART:19701025T030000\r\n"
    "TZOFFSETFROM:+0200\r\nTZOFFSETTO:+0100\r\nEND:STANDARD\r\nEND:VTIMEZONE\r\n"
)


def event(number: int, more: str = "") -> str:
    return (
        f"BEGIN:VEVENT\r\nUID:e{number}@garden.example\r\nDTSTAMP:20261101T000000Z\r\n"
        f"DTSTART;TZID=Europe/Moss:20261102T100000\r\nRRULE:FREQ=WEEKLY;COUNT=4\r\n"
        f"SUMMARY:Water the ferns\\, bed {number}\r\n{more}END:VEVENT\r\n"
    )


def calendar(*events: str, zone: str = ZONE) -> str:
    head = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Moss//EN\r\n"
    return head + zone + "".join(events) + "END:VCALENDAR\r\n"


def bookmark(number: int, title: str = "") -> str:
    return (
        f'<DT><A HREF="https://x.example/{number}?a=1&amp;b=2" ADD_DATE="1700000000" '
        f'ICON="data:image/png;base64,AA==">{title or f"Moss &amp; fern {number}"}</A>\n'
    )


def bookmarks(*inner: str) -> str:
    head = "<!DOCTYPE NETSCAPE-Bookmark-file-1>\n<TITLE>B</TITLE>\n<H1>B</H1>\n<DL><p>\n"
    return head + "".join(inner) + "</DL><p>\n"


def folder(name: str, *inner: str) -> str:
    return f"<DT><H3>{name}</H3>\n<DL><p>\n{''.join(inner)}</DL><p>\n"


def rows(*numbers: int, more: str = "") -> str:
    return "".join(json.dumps({"id": n, "name": f"Fern {n}{more}"}) + "\n" for n in numbers)


def table(*numbers: int, more: str = "") -> str:
    to = io.StringIO()
    writer = csv.writer(to)
    writer.writerow(["id", "name", "note"])
    writer.writerows([n, f'Fern "{n}", moss{more}', "two\nlines"] for n in numbers)
    return to.getvalue()


def feeds(*numbers: int, more: str = "") -> str:
    inner = "".join(
        f'<outline type="rss" text="Fern &amp; {n}{more}" xmlUrl="https://x.example/{n}?a&amp;b"/>\n'
        for n in numbers
    )
    return (
        '<?xml version="1.0"?>\n<opml version="2.0"><head><title>t</title></head>\n<body>\n'
        f'<outline text="Beds">\n{inner}</outline>\n</body>\n</opml>\n'
    )


def objects(*numbers: int, more: str = "") -> str:
    return json.dumps([{"id": n, "name": f"Fern {n}{more}"} for n in numbers], indent=1) + "\n"


MADE = {
    "opml": lambda numbers, more="": feeds(*numbers, more=more),
    "json": lambda numbers, more="": objects(*numbers, more=more),
    "vcard": lambda numbers, more="": "".join(
        vcard(n, f"NOTE:other{more}\r\n" if more else "") for n in numbers
    ),
    "icalendar": lambda numbers, more="": calendar(
        *(event(n, f"LOCATION:other{more}\r\n" if more else "") for n in numbers)
    ),
    "bookmarks": lambda numbers, more="": bookmarks(
        folder("Beds", *(bookmark(n, f"other {n}{more}" if more else "") for n in numbers))
    ),
    "jsonl": lambda numbers, more="": rows(*numbers, more=more),
    "csv": lambda numbers, more="": table(*numbers, more=more),
}
"""By form, a store of records of those numbers, which say something else with ``more``."""


def make(form: str, path: Path, numbers: Iterable[int], more: str = "") -> Store:
    if form == "mbox":
        make_mbox(path, (letter(n, f"other {n}{more}" if more else "") for n in numbers))
    elif form == "maildir":
        box = mailbox.Maildir(path)
        for n in numbers:
            box.add(letter(n, f"other {n}{more}" if more else ""))
    elif form == "eml":
        path.mkdir()
        for n in numbers:
            data = letter(n, f"other {n}{more}" if more else "").as_bytes()
            (path / f"{n}.eml").write_bytes(data.replace(b"\n", b"\r\n"))
    else:
        path.write_text(MADE[form](numbers, more), encoding="utf-8", newline="")
    found = store(form, path)
    keyed = Declared(key=("id",)) if form in ("json", "jsonl", "csv") else Declared()
    return Store(found.records, path, keyed)


ALL = ["mbox", "maildir", "eml", *MADE]


@pytest.mark.parametrize("form", ALL)
@pytest.mark.parametrize("duplicates", ["replace", "keep both", "skip"])
def test_a_merge_keeps_every_record_or_says_so_and_a_second_changes_nothing(
    tmp_path: Path, form: str, duplicates: Duplicates
) -> None:
    target = make(form, tmp_path / "target", range(6))
    same = make(form, tmp_path / "same", range(4, 9))
    other = make(form, tmp_path / "other", range(2, 4), more="!")
    before = records_of(target)
    to = tmp_path / "target" if target.records.in_folder else tmp_path / "to"
    policy = Policy(duplicates)
    came = merged([same, other], target, to, policy)
    assert (came.held, came.count) == (6, {"same": 2, "new": 3, "different": 2})
    after = records_of(Store(target.records, to, target.declared))
    kept = {one[:2] for one in after}
    sources = {one[:2] for one in (*records_of(same), *records_of(other))}
    lost = {one[:2] for one in before} - kept
    assert len(after) == {"replace": 9, "keep both": 11, "skip": 9}[duplicates]
    assert len(lost) == (2 if duplicates == "replace" else 0)
    assert len(sources - kept) == (2 if duplicates == "skip" else 0)
    with Merge([same, other], Store(target.records, to, target.declared), policy) as again:
        assert not again.changes and again.merged.added == again.merged.changed == 0
    if not target.records.in_folder:  # what was there stands as it stood, the order of all kept
        other_way = merged([other, same], target, tmp_path / "back", policy)
        back = records_of(Store(target.records, tmp_path / "back", target.declared))
        assert other_way.count == came.count and set(back) == set(after)
        assert [one for one in after if one in before] == [one for one in before if one in after]


@pytest.mark.parametrize("form", [f for f in ALL if f not in ("maildir", "eml")])
def test_a_store_is_given_whole_and_may_be_missing_or_empty(tmp_path: Path, form: str) -> None:
    one = make(form, tmp_path / "one", range(5))
    declared = one.records.habits(one.path, one.declared)
    assert joined(one.records.pieces(one.path, declared)) == one.path.read_bytes()
    came = merged([one], Store(one.records, tmp_path / "missing", one.declared), tmp_path / "to")
    assert (came.held, came.added) == (0, 5)
    written = Store(one.records, tmp_path / "to", one.declared)
    if form == "csv":  # a table that is not there has the columns that come
        return
    assert records_of(written) == records_of(one)


def status(path: Path) -> dict[str, str]:
    """Return the marks of each letter of a mailbox by its identity, as another reader has them."""
    with closing(mailbox.mbox(path, create=False)) as box:
        return {str(one["Message-ID"]): one.get_flags() for one in box}


@pytest.mark.parametrize("quoting", ["o", "rd", "cl", "cl2"])
def test_mailboxes_of_every_quoting_hold_what_letters_say(tmp_path: Path, quoting: str) -> None:
    bodies = ["From here\n", "a\n\nFrom there to\n>From me\n>>From x\n", "no end", "\n\nFrom\n"]
    path = tmp_path / "from"
    path.mkdir()
    for number, body in enumerate(bodies):
        head = f"Message-ID: <{number}@x.example>\nSubject: s\n\n"
        (path / f"{number}.eml").write_bytes((head + body).encode())
    target = store("mbox", tmp_path / "to", quoting=quoting)
    came = merged([store("eml", path)], target, target.path)
    assert came.added == len(bodies)
    if quoting in ("rd", "cl2"):
        assert records_of(target) == records_of(store("eml", path)) and not came.lost
    else:
        assert came.lost == {"which of its lines had a > before From": 1}
    assert len(records_of(target)) == len(bodies)
    if quoting != "cl2":  # which other readers take for more letters than there are
        assert len(status(target.path)) == len(bodies)


def test_letters_of_maildir_keep_their_marks_in_a_mailbox_and_back(tmp_path: Path) -> None:
    box = mailbox.Maildir(tmp_path / "box")
    for number, flags in enumerate(("S", "RS", "F", "")):
        made = mailbox.MaildirMessage(letter(number))
        made.set_flags(flags)
        made.set_subdir("cur" if flags else "new")
        box.add(made)
    one = tmp_path / "one"
    merged([store("maildir", tmp_path / "box")], store("mbox", one), one)
    assert status(one) == {
        f"<{n}@garden.example>": f for n, f in enumerate(("RO", "ROA", "OF", ""))
    }
    merged([store("mbox", one)], store("maildir", tmp_path / "back"), tmp_path / "x")
    found = {str(m["Message-ID"]): m.get_flags() for m in mailbox.Maildir(tmp_path / "back")}
    assert found == {f"<{n}@garden.example>": f for n, f in enumerate(("S", "RS", "F", ""))}


def test_time_zones_come_with_the_events_that_name_them(tmp_path: Path) -> None:
    import icalendar

    source, target = tmp_path / "source", tmp_path / "target"
    source.write_bytes(calendar(event(1), event(2)).encode())
    target.write_bytes(calendar(event(7).replace(";TZID=Europe/Moss", ""), zone="").encode())
    merged([store("icalendar", source)], store("icalendar", target), target)
    read = icalendar.Calendar.from_ical(target.read_bytes())
    assert len(read.walk("VEVENT")) == 3
    assert [str(zone["TZID"]) for zone in read.walk("VTIMEZONE")] == ["Europe/Moss"]
    uids = {str(one["UID"]) for one in read.walk("VEVENT")}
    assert uids == {f"e{n}@garden.example" for n in (1, 2, 7)}


def test_a_zone_of_the_same_name_that_says_something_else_gets_another(tmp_path: Path) -> None:
    import icalendar

    source, target = tmp_path / "source", tmp_path / "target"
    zone = ZONE.replace("Europe/Moss", "Moss")
    told = [event(n).replace("Europe/Moss", "Moss") for n in (1, 2)]
    source.write_bytes(calendar(told[0], zone=zone.replace("+0100", "+0900")).encode())
    target.write_bytes(calendar(told[1], zone=zone).encode())
    merged([store("icalendar", source)], store("icalendar", target), target)
    read = icalendar.Calendar.from_ical(target.read_bytes())
    names = {str(e["UID"]): e["DTSTART"].params["TZID"] for e in read.walk("VEVENT")}
    zones = {str(zone["TZID"]) for zone in read.walk("VTIMEZONE")}
    assert names["e2@garden.example"] == "Moss" != names["e1@garden.example"]
    assert set(names.values()) == zones
    with Merge([store("icalendar", source)], store("icalendar", target), Policy()) as again:
        assert not again.changes


def test_contacts_take_in_what_another_says_of_them(tmp_path: Path) -> None:
    import vobject

    mine, other = tmp_path / "mine", tmp_path / "other"
    mine.write_bytes((vcard(1) + vcard(2)).encode())
    other.write_bytes(vcard(1, "TEL:123\r\nEMAIL:second@x.example\r\nBDAY:19800101\r\n").encode())
    policy = Policy("merge fields")
    came = merged([store("vcard", other)], store("vcard", mine), mine, policy)
    assert (came.added, came.count) == (0, {"different": 1})
    first, second = vobject.readComponents(mine.read_text())
    assert [e.value for e in first.email_list] == ["p1@x.example", "second@x.example"]
    assert first.tel.value == "123" and first.x_garden.value == "kept 1"
    assert second.fn.value == "Person 2"
    with Merge([store("vcard", other)], store("vcard", mine), policy) as again:
        assert b"".join(again.chunks()) == mine.read_bytes()
        assert again.merged.count == {"same": 1}  # it says all that already
    other.write_bytes(vcard(1, "BDAY:19810101\r\n").encode())
    came = merged([store("vcard", other)], store("vcard", mine), tmp_path / "it", policy)
    assert (came.count, came.lost) == ({"different": 1}, {"another BDAY of one contact": 1})


class Titles(HTMLParser):
    """The bookmarks of a file as another reader sees them, with the folders they are in."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[tuple[tuple[str, ...], str]] = []
        self.path: list[str] = []
        self.text: str | None = None
        self.head = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.text = "" if tag in ("a", "h3") else self.text
        if tag == "dl":
            self.path.append(self.head)

    def handle_endtag(self, tag: str) -> None:
        if tag == "h3":
            self.head = self.text or ""
        if tag == "a":
            self.found.append((tuple(self.path[1:]), self.text or ""))
        if tag == "dl":
            self.path.pop()

    def handle_data(self, data: str) -> None:
        if self.text is not None:
            self.text += data


def titles(path: Path) -> list[tuple[tuple[str, ...], str]]:
    reader = Titles()
    reader.feed(path.read_text(encoding="utf-8"))
    return reader.found


def test_bookmarks_come_to_their_folders_or_to_one_of_their_own(tmp_path: Path) -> None:
    source, target, own = tmp_path / "source", tmp_path / "target", tmp_path / "own"
    source.write_text(
        bookmarks(bookmark(1), folder("Beds", bookmark(2), folder("New", bookmark(3))))
    )
    target.write_text(bookmarks(folder("Beds", bookmark(2), bookmark(4)), bookmark(5)))
    own.write_bytes(target.read_bytes())
    merged([store("bookmarks", source)], store("bookmarks", target), target)
    assert titles(target) == [
        (("Beds",), "Moss & fern 2"),
        (("Beds",), "Moss & fern 4"),
        (("Beds", "New"), "Moss & fern 3"),
        ((), "Moss & fern 5"),
        ((), "Moss & fern 1"),
    ]
    came = merged(
        [store("bookmarks", source)], store("bookmarks", own), own, Policy(landing=("From old",))
    )
    assert came.added == 3
    assert titles(own)[3:] == [
        (("From old",), "Moss & fern 1"),
        (("From old", "Beds"), "Moss & fern 2"),
        (("From old", "Beds", "New"), "Moss & fern 3"),
    ]


def test_bookmarks_are_whole_wherever_what_is_read_at_once_ends(tmp_path: Path) -> None:
    source, target = tmp_path / "source", tmp_path / "target"
    icons = [0, 1_600_000, *range(60_000, 70_000, 500), 1_040_000, 50]
    some = [
        bookmark(number).replace("<A ", f'<A ICON="{"x" * size}" ') + "text that is none  \n"
        for number, size in enumerate(icons)
    ]
    source.write_text(bookmarks(folder("Beds", *some), bookmark(99)))
    assert joined(store("bookmarks", source).records.pieces(source, Declared())) == (
        source.read_bytes()
    )
    assert merged([store("bookmarks", source)], store("bookmarks", target), target).added == 25
    assert sorted(titles(target)) == sorted(titles(source))
    assert merged([store("bookmarks", source)], store("bookmarks", target), target).added == 0


def test_rows_become_contacts_and_what_they_cannot_say_is_stated(tmp_path: Path) -> None:
    rows_path, cards, back = tmp_path / "rows", tmp_path / "cards", tmp_path / "back"
    rows_path.write_text(
        '{"who": "Añes Moss", "mail": "a@x.example", "bed": 7}\n', encoding="utf-8"
    )
    fields = {"FN": "who", "EMAIL": "mail"}
    declared = Declared(fields=fields)
    jsonl = store("jsonl", rows_path).records
    came = merged([Store(jsonl, rows_path, declared)], store("vcard", cards), cards)
    assert came.added == 1
    import vobject

    card = vobject.readOne(cards.read_text(encoding="utf-8"))
    assert (card.fn.value, card.email.value) == ("Añes Moss", "a@x.example")
    came = merged([store("vcard", cards)], Store(jsonl, back, declared), back)
    assert json.loads(back.read_text(encoding="utf-8")) == {
        "who": "Añes Moss",
        "mail": "a@x.example",
    }
    assert came.lost


def test_objects_of_a_list_within_a_document_leave_the_rest_as_it_is(tmp_path: Path) -> None:
    one, other = tmp_path / "one", tmp_path / "other"
    one.write_text('{"a": 1, "kept": [ ], "z": "ü"}', encoding="utf-8")
    other.write_text('{"kept": [{"id": 1}, {"id": 2}]}')
    records = store("json", one).records
    stores = [Store(records, path, Declared(at="/kept", key=("id",))) for path in (one, other)]
    assert merged([stores[1]], stores[0], one).added == 2
    text = one.read_text(encoding="utf-8")
    assert json.loads(text) == {"a": 1, "kept": [{"id": 1}, {"id": 2}], "z": "ü"}
    assert text.startswith('{"a": 1, "kept": [ ') and text.endswith('], "z": "ü"}')


BAD = {
    "no list": ("json", b'{"a": 1}'),
    "a list of others": ("json", b"[1]"),
    "no feeds": ("opml", b"<x/>"),
    "a cut outline": ("opml", b'<opml><body><outline text="a">'),
    "a cut contact": ("vcard", b"BEGIN:VCARD\r\nFN:x\r\n"),
    "an end of nothing": ("vcard", b"END:VCARD\r\n"),
    "no contact": ("vcard", b"hello\n"),
    "a cut calendar": ("icalendar", b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\nUID:1\r\n"),
    "no calendar": ("icalendar", b"hello\n"),
    "a cut folder": ("bookmarks", b"<DL><p>\n<DT><H3>x</H3>\n<DL><p>\n"),
    "no mailbox": ("mbox", b"hello\n\nFrom x\n"),
    "a line of no object": ("jsonl", b'{"a": 1}\n[1]\n'),
    "a cut line": ("jsonl", b'{"a": 1}\n{"b"'),
    "a cell too many": ("csv", b"a,b\r\n1,2,3\r\n"),
    "a quote without end": ("csv", b'a,b\r\n1,"2'),
}


@pytest.mark.parametrize(("form", "data"), BAD.values(), ids=BAD)
def test_what_is_no_such_store_is_told(tmp_path: Path, form: str, data: bytes) -> None:
    path = tmp_path / "bad"
    path.write_bytes(data)
    with pytest.raises(Broken):
        records_of(store(form, path))


@pytest.mark.sweep
def test_large_and_deep_stores_are_read(tmp_path: Path) -> None:
    deep = tmp_path / "deep"
    deep.write_text(
        bookmarks("<DT><H3>f</H3>\n<DL><p>\n" * 10_000 + bookmark(1) + "</DL><p>\n" * 10_000)
    )
    came = merged([store("bookmarks", deep)], store("bookmarks", tmp_path / "to"), tmp_path / "to")
    assert came.added == 1
    assert records_of(store("bookmarks", tmp_path / "to")) == records_of(store("bookmarks", deep))
    long = tmp_path / "long"
    head = b"From a Mon Nov  2 10:00:00 2026\nMessage-ID: <1@x.example>\n\n"
    long.write_bytes(head + b"x" * 100_000_000 + b"\n\n" + head.replace(b"<1@", b"<2@") + b"end\n")
    assert [one[0] for one in records_of(store("mbox", long))] == [
        b"<1@x.example>",
        b"<2@x.example>",
    ]


BROKEN_BYTES = [b"Subject: \xff\xfe", "Betreff: Grüße".encode("latin-1"), b"X: \0"]


@pytest.mark.parametrize("head", BROKEN_BYTES)
def test_letters_that_are_no_text_are_kept_byte_for_byte(tmp_path: Path, head: bytes) -> None:
    path = tmp_path / "one.eml"
    path.write_bytes(head + b"\nMessage-ID: <1@x.example>\n\n\xff\xff\n")
    merged([store("eml", path)], store("mbox", tmp_path / "to"), tmp_path / "to")
    assert head + b"\nMessage-ID: <1@x.example>\n\n\xff\xff\n" in (tmp_path / "to").read_bytes()
    assert records_of(store("mbox", tmp_path / "to")) == records_of(store("eml", path))


# Walked

BODY = """
items:
  mail:
    title: Letters
    from: mail
    routes:
      - name: merged
        legs:
          - new:
              - records: {STORE: "{mail}/PATH"}
                from: {STORE: PATH}
                duplicates: skip
"""
PLACES = 'places:\n  mail: {folder: "{home}/mail"}\n'


def mails(tmp_path: Path, old: bytes, new: bytes | None, form: str = "mbox") -> Trail:
    there: dict[str, str | bytes] = {"mail/all": new} if new is not None else {}
    one, other = two(tmp_path, {"mail/all": old}, there)
    body = BODY.replace("STORE", form).replace("PATH", "all")
    return moved(tmp_path, PLACES + body, one, other)


def test_records_are_merged_by_a_walk_and_undone(tmp_path: Path) -> None:
    old = make_mbox(tmp_path / "a", map(letter, range(4))).read_bytes()
    new = make_mbox(tmp_path / "b", map(letter, range(2, 9))).read_bytes()
    one = mails(tmp_path, old, new)
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    done = one.walk("new")
    assert set(outcomes(done).values()) == {"done"}
    facts = next(s.outcome.facts for s in done.steps if s.step.kind == "records")
    told = facts.model_dump(include={"held", "added", "changed", "same", "left", "to"})
    assert told == {
        "held": 7,
        "added": 2,
        "changed": 0,
        "same": 2,
        "left": 0,
        "to": "/home/ada/mail/all",
    }
    path = one.folder / "new/root/home/ada/mail/all"
    assert path.read_bytes().startswith(new) and len(status(path)) == 9
    assert set(outcomes(one.walk("new")).values()) <= {"done"}
    Run(one.new).undo(NOW)
    assert path.read_bytes() == new


def test_a_plan_foresees_what_comes_of_records(tmp_path: Path) -> None:
    old = make_mbox(tmp_path / "a", (letter(n, subject=f"No. {n}") for n in range(4)))
    new = make_mbox(tmp_path / "b", [letter(0, subject="No. 0"), letter(1, "another")])
    one = mails(tmp_path, old.read_bytes(), new.read_bytes())
    recipes = one.parcel.recipes(KINDS)
    (told,) = foresee(one.parcel.plan, recipes, one.old, one.new, NOW).values()
    assert (told.to, told.held, told.trouble) == ("/home/ada/mail/all", 2, "")
    assert told.count == {"new": 2, "same": 1, "different": 1}
    assert told.names["new"] == ("No. 2", "No. 3")
    (one.folder / "new/root/home/ada/mail/all").write_text("hello")
    (told,) = foresee(one.parcel.plan, recipes, one.old, one.new, NOW).values()
    assert told.trouble == "does not begin as a mailbox does"


CHOICES = """
application: {id: leaf, name: Leaf}
recognise:
  - sign: {file: "{home}/fernbook.ini"}
places:
  mail: {folder: "{home}/mail"}
items:
  mail:
    title: Letters
    from: mail
    routes:
      - name: merged
        legs:
          - new: [{records: {mbox: "{mail}/all"}, from: {mbox: all}}]
      - {name: copied, legs: [{new: [copy]}]}
"""


@pytest.fixture
def leaf(tmp_path: Path) -> Path:
    """Return a folder with a recipe of two routes, and both machines."""
    old = make_mbox(tmp_path / "a", [letter(0), letter(1)])
    new = make_mbox(tmp_path / "b", [letter(1, "another"), letter(2)])
    two(tmp_path, {"mail/all": old.read_bytes()}, {"mail/all": new.read_bytes()})
    (tmp_path / "leaf.trail.yaml").write_text(f"recipe: 1\nrevision: 1\n{CHOICES}")
    return tmp_path


def planned(leaf: Path, *more: str) -> Ran:
    sides = "--old", leaf / "old", "--new", leaf / "new", "--parcel", leaf / "parcel"
    return widetrail("plan", leaf / "leaf.trail.yaml", *sides, "--json", *more)


def test_a_person_chooses_the_route_and_what_becomes_of_duplicates(leaf: Path) -> None:
    told = planned(leaf, "--route", "mail=merged", "--duplicates", "mail=keep both").json
    (records,) = told["records"].values()
    assert records["count"] == {"new": 1, "different": 1} and records["held"] == 2
    for station in ("old", "new"):
        ran = widetrail("walk", leaf / "parcel", "--machine", leaf / station, "--yes")
        assert ran.status == 0, ran.out
    report = widetrail("report", leaf / "parcel").out
    assert "/home/ada/mail -> /home/ada/mail/all" in report and "2 already there, 2 added" in report
    assert len(records_of(store("mbox", leaf / "new/root/home/ada/mail/all"))) == 4


def test_a_route_that_was_not_chosen_says_so(leaf: Path) -> None:
    (item,) = planned(leaf, "--route", "mail=copied").json["plan"]["items"]
    (passed,) = item["rejected"]
    assert (item["route"], passed["code"]) == ("copied", "choice")
    assert passed["reason"] == "copied was chosen"


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (("--route", "mail=merge"), 'Did you mean "merged"?'),
        (("--duplicates", "mail=drop"), "replace, keep both, skip, merge fields"),
        (("--duplicates", "mail=merge fields"), "the fields of these records cannot be merged"),
    ],
)
def test_a_choice_that_is_none_is_told(leaf: Path, call: tuple[str, ...], says: str) -> None:
    ran = planned(leaf, *call)
    assert ran.status in (2, 3) and says in ran.err


def test_only_what_is_wanted_comes(tmp_path: Path) -> None:
    old = make_mbox(tmp_path / "a", map(letter, range(6)))
    only = "only: {message-id: {matches: '<[1-4]@'}, moment: {within: 2 years}}\n"
    only += "                without: {message-id: {in: [<2@garden.example>, <3@garden.example>]}}"
    body = BODY.replace("STORE", "mbox").replace("PATH", "all")
    one, other = two(tmp_path, {"mail/all": old.read_bytes()})
    trail = moved(tmp_path, PLACES + body.replace("duplicates: skip", only), one, other)
    trail.walk("old")
    assert set(outcomes(trail.walk("new")).values()) == {"done"}
    came = status(trail.folder / "new/root/home/ada/mail/all")
    assert came.keys() == {"<1@garden.example>", "<4@garden.example>"}


@pytest.mark.parametrize("form", swept(["mbox", "maildir"], ["mbox"]))
def test_a_merge_that_is_cut_off_anywhere_comes_to_the_same(tmp_path: Path, form: str) -> None:
    for name, numbers in (("a", range(4)), ("b", range(2, 6))):
        make(form, tmp_path / name, numbers, more="!" if name == "b" else "")
    sides: list[dict[str, str | bytes]] = []
    for name in ("a", "b"):
        top = tmp_path / name
        found = [p for p in top.rglob("*") if p.is_file()] if top.is_dir() else [top]
        listed = {p: p.relative_to(top).as_posix() if top.is_dir() else "" for p in found}
        sides.append({f"mail/all/{b}".rstrip("/"): p.read_bytes() for p, b in listed.items()})
    (at := tmp_path / "trail").mkdir()
    one, other = two(at, sides[0], sides[1])
    body = BODY.replace("STORE", form).replace("PATH", "all").replace("skip", "replace")
    trail = moved(at, PLACES + body, one, other)
    trail.walk("old")
    whole = replace(trail, folder=shutil.copytree(trail.folder, tmp_path / "whole"))
    assert set(outcomes(whole.walk("new")).values()) == {"done"}
    there = "new/root/home/ada/mail/all"
    wanted = set(records_of(store(form, whole.folder / there)))
    assert len(wanted) == 6
    before = of_the_person(trail.folder / "new")

    def judge(cut: Trail, number: int) -> None:
        assert set(outcomes(cut.walk("new")).values()) <= {"done"}, number
        assert set(records_of(store(form, cut.folder / there))) == wanted, number
        Run(cut.new).undo(NOW)
        assert of_the_person(cut.folder / "new") == before, number

    cut = tmp_path / "cut"
    cut.mkdir()
    assert cut_off_everywhere(trail, cut, 3, judge) > 20


@pytest.mark.sweep
def test_a_large_store_is_added_to_and_cut_off_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.steps.appending.LARGE", 100)
    monkeypatch.setattr("widetrail.steps.appending.TAIL", 40)
    old = make_mbox(tmp_path / "a", map(letter, range(4))).read_bytes()
    new = make_mbox(tmp_path / "b", map(letter, range(2, 9))).read_bytes()
    (at := tmp_path / "trail").mkdir()
    trail = mails(at, old, new)
    trail.walk("old")
    there = "new/root/home/ada/mail/all"
    moment = (trail.folder / there).stat().st_mtime_ns
    before = of_the_person(trail.folder / "new")
    whole = replace(trail, folder=shutil.copytree(trail.folder, tmp_path / "whole"))
    inode = (whole.folder / there).stat().st_ino
    done = whole.walk("new")
    assert set(outcomes(done).values()) == {"done"}
    came = (whole.folder / there).read_bytes()
    assert came.startswith(new) and len(status(whole.folder / there)) == 9
    assert (whole.folder / there).stat().st_ino == inode, "it is added to where it lies"

    def judge(cut: Trail, number: int) -> None:
        assert set(outcomes(cut.walk("new")).values()) <= {"done"}, number
        assert (cut.folder / there).read_bytes() == came, number
        Run(cut.new).undo(NOW)
        assert of_the_person(cut.folder / "new") == before, number

    (cut := tmp_path / "cut").mkdir()
    assert cut_off_everywhere(trail, cut, 1, judge) > 20
    with (whole.folder / there).open("ab") as file:
        file.write(b"\nwhat came later\n")
    run = Run(whole.new)
    (words,) = [act.words for act in run.undo_plan().acts if act.cut]
    assert words.startswith("cut /home/ada/mail/all back to the ")
    run.undo(NOW)
    assert (whole.folder / there).read_bytes() == new
    assert (whole.folder / there).stat().st_mtime_ns == moment
    assert run.put_away().names == ("/home/ada/mail/all",)
    kept = [p for p in (whole.folder / "new").rglob("*") if p.is_file()]
    away = [p for p in kept if b"what came later" in p.read_bytes()]
    assert away, "what came after the walk is kept"


def test_a_large_store_that_is_another_by_now_is_left_as_it_is(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.steps.appending.LARGE", 100)
    old = make_mbox(tmp_path / "a", map(letter, range(4))).read_bytes()
    new = make_mbox(tmp_path / "b", map(letter, range(2, 9))).read_bytes()
    for number, (written, why) in enumerate(
        (
            (new[:50], "not the file that was appended to"),
            (new[::-1] + old * 2, "was rewritten since"),
        )
    ):
        (at := tmp_path / str(number)).mkdir()
        trail = mails(at, old, new)
        trail.walk("old")
        trail.walk("new")
        path = trail.folder / "new/root/home/ada/mail/all"
        path.write_bytes(written)
        run = Run(trail.new)
        run.undo(NOW)
        assert why in "".join(run.went_wrong)
        assert path.read_bytes() == written


TABLE = """
items:
  mail:
    title: People
    from: mail
    routes:
      - name: rows
        legs:
          - new:
              - records: {sqlite: "{mail}/all", at: person, key: address}
                from: {sqlite: all, at: person, key: address}
                duplicates: WORD
"""
PEOPLE = "create table person (id integer primary key, name text, address text, more text);"


def people(path: Path, *rows: tuple[str, str], more: str = "") -> bytes:
    with closing(sqlite3.connect(path)) as connection, connection:
        connection.execute(PEOPLE if more else PEOPLE.replace(", more text", ""))
        for name, address in rows:
            told = (name, address, more)[: 3 if more else 2]
            marks = ", ".join("?" for _ in told)
            columns = "name, address, more" if more else "name, address"
            connection.execute(f"insert into person ({columns}) values ({marks})", told)
    return path.read_bytes()


@pytest.mark.parametrize(("word", "second"), [("skip", "Ben"), ("replace", "Bea")])
def test_rows_come_to_a_table_that_has_some(tmp_path: Path, word: str, second: str) -> None:
    old = people(tmp_path / "a", ("Ann", "a@x"), ("Bea", "b@x"), ("Cy", "c@x"), more="kept")
    new = people(tmp_path / "b", ("Ben", "b@x"), ("Ann", "a@x"))
    one, other = two(tmp_path, {"mail/all": old}, {"mail/all": new})
    trail = moved(tmp_path, PLACES + TABLE.replace("WORD", word), one, other)
    trail.walk("old")
    done = trail.walk("new")
    assert set(outcomes(done).values()) == {"done"}
    path = trail.folder / "new/root/home/ada/mail/all"
    with closing(sqlite3.connect(path)) as connection:
        found = connection.execute("select name, address from person order by id").fetchall()
    assert found == [(second, "b@x"), ("Ann", "a@x"), ("Cy", "c@x")]
    facts = next(s.outcome.facts for s in done.steps if s.step.kind == "records")
    assert facts.model_dump()["lost"]["its more"] >= 1
    Run(trail.new).undo(NOW)
    assert path.read_bytes() == new


def test_a_database_that_refuses_a_row_stays(tmp_path: Path) -> None:
    old = people(tmp_path / "a", ("Ann", "a@x"), ("Bea", "b@x"))
    new = people(tmp_path / "b", ("Ben", "c@x"))
    with closing(sqlite3.connect(tmp_path / "b")) as connection, connection:
        connection.execute("create unique index one on person (substr(address, 2))")
    new = (tmp_path / "b").read_bytes()
    one, other = two(tmp_path, {"mail/all": old}, {"mail/all": new})
    trail = moved(tmp_path, PLACES + TABLE.replace("WORD", "skip"), one, other)
    trail.walk("old")
    (reason,) = [r for r in outcomes(trail.walk("new")).values() if r != "done"]
    assert "refuses a row" in reason
    assert (trail.folder / "new/root/home/ada/mail/all").read_bytes() == new


def test_records_come_to_a_store_that_is_not_there(tmp_path: Path) -> None:
    old = make_mbox(tmp_path / "a", map(letter, range(4))).read_bytes()
    one = mails(tmp_path, old, None)
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    path = one.folder / "new/root/home/ada/mail/all"
    assert len(status(path)) == 4
    Run(one.new).undo(NOW)
    assert not path.exists()


def test_a_store_that_is_none_stops_the_step_and_stays(tmp_path: Path) -> None:
    old = make_mbox(tmp_path / "a", map(letter, range(4))).read_bytes()
    one = mails(tmp_path, old, b"no mailbox\n")
    one.walk("old")
    (reason,) = [r for r in outcomes(one.walk("new")).values() if r != "done"]
    assert re.search("does not begin as a mailbox does", reason)
    assert (one.folder / "new/root/home/ada/mail/all").read_bytes() == b"no mailbox\n"


@pytest.mark.sweep
def test_records_of_the_demo_come_to_other_programs(world: World) -> None:
    ran = widetrail("rehearse", world.folder / "conversions", "--coverage", "--fail-under", "100")
    assert ran.status == 0, ran.out


@settings(max_examples=40)
@given(st.lists(st.tuples(st.integers(0, 8), st.integers(0, 3))), st.integers(1, 6))
def test_what_is_known_is_known_wherever_it_lies(told: list[tuple[int, int]], most: int) -> None:
    plain: dict[bytes, set[bytes]] = {}
    with Known(most) as known:
        for number, content in told:
            key, digest = b"%d" % number, bytes([content]) * 16
            was_new = digest not in plain.setdefault(key, set())
            assert known.add(key, digest) == was_new
            plain[key].add(digest)
        for key, digests in plain.items():
            held = known.of(key)
            assert {held[at : at + 16] for at in range(0, len(held), 16)} == digests
        assert known.of(b"never") == b"" and len(known) == sum(map(len, plain.values()))


BODIES = st.text("Fromx>\n ", max_size=30)


@settings(deadline=None, max_examples=40)
@given(st.lists(BODIES, max_size=5), st.sampled_from(["rd", "cl2"]))
def test_any_letter_goes_into_a_mailbox_and_back(
    tmp_path_factory: pytest.TempPathFactory, bodies: list[str], quoting: str
) -> None:
    top = tmp_path_factory.mktemp("letters")
    (top / "from").mkdir()
    for number, body in enumerate(bodies):
        head = f"Message-ID: <{number}@x.example>\nSubject: s\n\n"
        (top / "from" / f"{number}.eml").write_text(head + body)
    box, back = store("mbox", top / "box", quoting=quoting), store("eml", top / "back")
    merged([store("eml", top / "from")], box, box.path)
    merged([box], back, box.path)
    wanted = {one[:2] for one in records_of(store("eml", top / "from"))}
    assert {one[:2] for one in records_of(back)} == wanted
    assert {one[:2] for one in records_of(box)} == wanted


@settings(deadline=None)
@given(
    st.lists(st.tuples(st.integers(0, 4), st.integers(0, 2)), max_size=8), st.permutations([0, 1])
)
def test_the_order_of_sources_does_not_matter(
    tmp_path_factory: pytest.TempPathFactory, told: list[tuple[int, int]], order: list[int]
) -> None:
    top = tmp_path_factory.mktemp("rows")
    lines = [json.dumps({"id": n, "name": str(c)}) + "\n" for n, c in told]
    for at, name in enumerate(("a", "b", "target")):
        (top / name).write_text("".join(lines[at::3]))
    found = []
    for policy in ("replace", "keep both", "skip"):
        for listed in ([0, 1], order):
            sides = [Store(store("jsonl", top / n).records, top / n, KEYED) for n in ("a", "b")]
            target = Store(sides[0].records, top / "target", KEYED)
            came = merged([sides[i] for i in listed], target, top / "to", Policy(policy))
            after = records_of(Store(target.records, top / "to", KEYED))
            found.append((sorted({one[:2] for one in after}), came.added, came.changed))
    assert found[0] == found[1] and found[2] == found[3] and found[4] == found[5]


KEYED = Declared(key=("id",))


def _protocols() -> list[Records]:
    return [r for form in FORMS.own.values() if (r := form.records) is not None]


def test_every_form_of_records_is_tested_here() -> None:
    assert {name for name, form in FORMS.own.items() if form.records is not None} == {
        *ALL,
        "sqlite",
    }
    assert len(_protocols()) == len(ALL) + 1
