"""Records of one identity that take in what others say of it: each form, read by other readers."""

from __future__ import annotations

import csv
import json
import sqlite3
from contextlib import closing
from pathlib import Path
from xml.etree import ElementTree

import icalendar
import pytest
from hypothesis import given
from hypothesis import strategies as st

from test_records import merged, store
from widetrail.formats.forms import FORMS
from widetrail.formats.record import Declared, MergesFields
from widetrail.formats.rows import row_of, row_record
from widetrail.records import FieldMerged, Merge, Merged, Policy, Store

POLICY = Policy("merge fields")
EVENT = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//x//EN
BEGIN:VEVENT
UID:1@garden.example
DTSTART;VALUE=DATE:20260502
SUMMARY:Plant sale
%sEND:VEVENT
END:VCALENDAR
"""
MARKS = """<!DOCTYPE NETSCAPE-Bookmark-file-1>
<DL><p>
<DT><A HREF="https://fern.example/" %s</A>
%s</DL><p>
"""
FEEDS = """<?xml version="1.0"?>
<opml version="2.0"><head/><body>
<outline type="rss" xmlUrl="https://fern.example/feed" %s/>
</body></opml>
"""


def put(tmp_path: Path, mine: str, other: str) -> tuple[Path, Path]:
    for name, text in (("mine", mine), ("other", other)):
        (tmp_path / name).write_bytes(text.replace("\r\n", "\n").encode())
    return tmp_path / "mine", tmp_path / "other"


def merge(form: str, mine: Path, other: Path, declared: Declared = Declared()) -> Merged:  # noqa: B008
    """Merge, and see that the same merge changes nothing any more."""
    records = FORMS[form].records
    assert records is not None
    stores = [Store(records, path, declared) for path in (other, mine)]
    came = merged([stores[0]], stores[1], mine, POLICY)
    with Merge([stores[0]], stores[1], POLICY) as again:
        assert b"".join(again.chunks()) == mine.read_bytes()
        assert not again.changes
    return came


def test_appointments_take_in_what_another_says_with_its_alarms(tmp_path: Path) -> None:
    alarm = "BEGIN:VALARM\nACTION:DISPLAY\nTRIGGER:-PT15M\nDESCRIPTION:Sale\nEND:VALARM\n"
    more = f"LOCATION:Shed\nCATEGORIES:garden\nDESCRIPTION:others' words\n{alarm}"
    mine, other = put(tmp_path, EVENT % "DESCRIPTION:own words\n", EVENT % more)
    came = merge("icalendar", mine, other)
    assert came.lost == {"another DESCRIPTION of one entry": 1}
    calendar = icalendar.Calendar.from_ical(mine.read_bytes())
    (event,) = calendar.walk("VEVENT")
    assert (event["LOCATION"], event["DESCRIPTION"]) == ("Shed", "own words")
    assert event["CATEGORIES"].to_ical() == b"garden"
    (told,) = event.walk("VALARM")
    assert told["ACTION"] == "DISPLAY"


def test_bookmarks_take_in_dates_icons_and_notes(tmp_path: Path) -> None:
    mine, other = put(
        tmp_path,
        MARKS % ('LAST_VISIT="5">Fern', ""),
        MARKS % ('ADD_DATE="1600000000" ICON="data:x" LAST_VISIT="9">Ferns', "<DD>of the wall\n"),
    )
    came = merge("bookmarks", mine, other)
    text = mine.read_text()
    wanted = 'HREF="https://fern.example/" LAST_VISIT="5" ADD_DATE="1600000000" ICON="data:x">Fern'
    assert f"{wanted}</A>\n<DD>of the wall\n" in text
    assert came.lost == {
        "another last_visit of one bookmark": 1,
        "another title of one bookmark": 1,
    }


def test_feeds_take_in_attributes(tmp_path: Path) -> None:
    mine, other = put(
        tmp_path, FEEDS % 'text="Fern"', FEEDS % 'text="Ferns" htmlUrl="https://fern.example/"'
    )
    came = merge("opml", mine, other)
    (outline,) = ElementTree.parse(mine).iter("outline")
    assert (outline.get("text"), outline.get("htmlUrl")) == ("Fern", "https://fern.example/")
    assert came.lost == {"another text of one feed": 1}


def test_rows_take_in_what_stands_in_empty_columns(tmp_path: Path) -> None:
    key = Declared(key=("address",))
    mine, other = put(
        tmp_path,
        '{"address": "a", "name": "", "tel": "1"}\n',
        '{"address": "a", "name": "Ada", "tel": "2", "more": [1]}\n',
    )
    came = merge("jsonl", mine, other, key)
    assert json.loads(mine.read_text()) == {"address": "a", "name": "Ada", "tel": "1", "more": [1]}
    assert came.lost == {"another tel of one row": 1}
    assert came.fields == (
        FieldMerged("a", "name", (), ("Ada",), ("Ada",)),
        FieldMerged("a", "tel", ("1",), ("2",), ("1",)),
        FieldMerged("a", "more", (), ("1",), ("1",)),
    )
    mine, other = put(tmp_path, "address,name\na,\n", "address,name,tel\na,Ada,3\n")
    came = merge("csv", mine, other, key)
    with mine.open(newline="") as file:
        assert list(csv.DictReader(file)) == [{"address": "a", "name": "Ada"}]
    assert came.lost == {"its tel": 1}


def test_rows_of_a_table_take_in_what_stands_in_empty_columns(tmp_path: Path) -> None:
    declared = Declared("person", key=("address",))
    for name, cells in (("mine", ("a", None, "1")), ("other", ("a", "Ada", "2"))):
        with closing(sqlite3.connect(tmp_path / name)) as connection, connection:
            connection.execute("create table person (address text, name text, tel text)")
            connection.execute("insert into person values (?, ?, ?)", cells)
    records = FORMS["sqlite"].records
    assert records is not None
    target = Store(records, tmp_path / "mine", declared)
    with Merge([Store(records, tmp_path / "other", declared)], target, POLICY) as merging:
        added, changed = merging.rows()
        assert (added, [row_of(one) for one in changed]) == (
            [],
            [{"address": "a", "name": "Ada", "tel": "1"}],
        )


WORDS = st.one_of(st.none(), st.sampled_from(["", "x", "y", "ä\n"]), st.integers(0, 2))
ROWS = st.dictionaries(st.sampled_from(["name", "tel", "more"]), WORDS)


@given(ROWS, ROWS)
def test_nothing_of_two_rows_is_dropped_in_silence(
    mine: dict[str, object], other: dict[str, object]
) -> None:
    records = FORMS["json"].records
    assert isinstance(records, MergesFields)
    declared = Declared(key=("id",))
    one, two = (row_record({"id": 1, **row}, declared) for row in (mine, other))
    both, lost = records.merged(one, two, declared)
    then = row_of(both)
    assert {n: v for n, v in mine.items() if v not in (None, "")}.items() <= then.items()
    for name, value in other.items():
        stated = any(f"another {name} " in one.what for one in lost)
        assert value in (None, "") or then[name] == value or stated
    again, _ = records.merged(both, two, declared)
    assert again is both


@pytest.mark.parametrize("form", ["mbox", "maildir", "eml"])
def test_letters_have_no_fields_to_merge(form: str, tmp_path: Path) -> None:
    assert not isinstance(store(form, tmp_path).records, MergesFields)
