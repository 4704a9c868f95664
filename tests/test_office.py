"""Whole offices: many moves as one round with the fewest trips."""

from __future__ import annotations

import json
from itertools import product
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import widetrail
from conftest import Ran, World, contents
from conftest import widetrail as command
from widetrail.errors import Halted, InputUnusable, Obstructed
from widetrail.machine import FolderMachine
from widetrail.planning.office import NoRound, OfficeMove, OfficeRound, find_round
from widetrail.planning.office_table import read_office

TABLE = """who,old,new,recipes,only
Ines,machines/potting-shed,machines/glass-office,recipes/huemoss.trail.yaml;recipes/tillbook.trail.yaml,palettes;stamps
Tomas,machines/seed-vault,machines/herbarium-loft,recipes/frondsign.trail.yaml,
"""


@pytest.fixture
def office(world: World) -> World:
    (world.folder / "office.csv").write_text(TABLE)
    return world


def planned(world: World, *more: str | Path) -> Ran:
    return command(
        "plan",
        "--office",
        world.folder / "office.csv",
        "--medium",
        world.folder / "media/usb-stick",
        *more,
    )


def move(name: str, word: str, *, size: int = 1, **at: str) -> OfficeMove:
    """Return a move whose legs are the letters of a word: ``o``ld, ``n``ew, ``b``etween."""
    stations = {"o": "old", "n": "new", "b": "between"}
    legs = tuple((number, stations[letter]) for number, letter in enumerate(word, start=1))
    where = {"old": f"{name} old", "new": f"{name} new", "between": "errand", **at}
    return OfficeMove(name, legs, where, size)  # type: ignore[arg-type]


def trips(found: OfficeRound) -> list[str]:
    return [visit.computer for visit in found.visits]


def test_errands_of_all_moves_are_done_at_once() -> None:
    found = find_round([move(name, "onbno") for name in "abc"], [100])
    assert found.exact and found.bound == len(found.visits) == 3 * 2 + 1 + 3 * 2
    assert trips(found).count("errand") == 1
    [errand] = [visit for visit in found.visits if visit.computer == "errand"]
    assert errand.legs == {"a": (3,), "b": (3,), "c": (3,)}


def test_a_computer_that_is_handed_down_is_packed_first() -> None:
    moves = [move("b", "on", new="desk"), move("a", "on", old="desk")]
    found = find_round(moves, [100])
    assert found.exact and len(found.visits) == 3
    assert trips(found) == ["b old", "desk", "a new"]
    assert found.visits[1].legs == {"b": (2,), "a": (1,)}
    swapped = [move("a", "on", old="x", new="y"), move("b", "on", old="y", new="x")]
    found = find_round(swapped, [100])
    assert found.exact and len(found.visits) == 3


def test_a_medium_that_is_too_small_is_used_again() -> None:
    moves = [move(name, "on", size=6) for name in "abc"]
    found = find_round(moves, [10])
    assert found.exact and len(found.visits) == 6 and set(found.media.values()) == {0}
    held: set[str] = set()
    for visit in found.visits:
        held |= set(visit.begins)
        assert len(held) <= 1
        held -= set(visit.ends)
    apart = find_round([move(name, "onbn", size=6) for name in "ab"], [10])
    assert trips(apart).count("errand") == 2  # both do not fit at a time
    both = find_round([move(name, "onbn", size=6) for name in "ab"], [10, 6])
    assert trips(both).count("errand") == 1 and sorted(both.media.values()) == [0, 1]
    with pytest.raises(NoRound):
        find_round([move("a", "on", size=11)], [10])


def test_moves_that_wait_for_each_other_are_told() -> None:
    held = [
        move("a", "ono", old="x", new="y"),  # x has to do after y got what it gets
        move("b", "ono", old="y", new="x"),
    ]
    with pytest.raises(NoRound):
        find_round(held, [10])


def test_beyond_the_search_there_is_a_round_and_a_bound() -> None:
    moves = [move(str(n), "onbnonbn"[: 2 + n % 6], size=3) for n in range(14)]
    found = find_round(moves, [9, 9], most=40)
    assert not found.exact and 0 < found.bound <= len(found.visits) <= 2 * found.bound
    done = [leg for visit in found.visits for legs in visit.legs.values() for leg in legs]
    assert len(done) == sum(len(one.legs) for one in moves)


WORDS = st.sampled_from(["on", "onbn", "ono", "onbno", "bn", "onb"])


@given(st.lists(WORDS, min_size=1, max_size=3))
def test_no_round_is_shorter(words: list[str]) -> None:
    """All rounds up to the length that is told are played: none shorter does it."""
    moves = [move(str(n), word) for n, word in enumerate(words)]
    found = find_round(moves, [100])
    assert found.exact
    assert found.bound == len(found.visits) >= _shortest(moves)
    assert len(found.visits) == _shortest(moves)


def _shortest(moves: list[OfficeMove]) -> int:
    """Return the length of the shortest round, by walking through all of them breadth first."""
    words = [[one.at[station] for _, station in one.legs] for one in moves]
    computers = sorted({computer for word in words for computer in word})
    front, seen, length = {(0,) * len(words)}, set[tuple[int, ...]](), 0
    while True:
        if any(
            all(at == len(word) for at, word in zip(state, words, strict=True)) for state in front
        ):
            return length
        following = set()
        for state, computer in product(front, computers):
            then = []
            for at, word in zip(state, words, strict=True):
                while at < len(word) and word[at] == computer:
                    at += 1
                then.append(at)
            following.add(tuple(then))
        seen |= front
        front, length = following - seen, length + 1


# The table, and what comes of it


def test_an_office_is_planned_and_walked_as_told(office: World) -> None:
    ran = planned(office, "--json")
    assert ran.status == 0, ran.err
    told = ran.json
    assert told["exact"] and told["bound"] == 4
    assert [one["computer"] for one in told["trips"]] == [
        "potting-shed",
        "glass-office",
        "seed-vault",
        "herbarium-loft",
    ]
    parcels = {one["who"]: one["parcel"] for one in told["moves"]}
    assert told["moves"][0]["items"] == 2
    for trip in told["trips"]:
        for who in trip["legs"]:
            walked = command(
                "walk", parcels[who], "--machine", office.machine(trip["computer"]), "--yes"
            )
            assert walked.status in (0, 1), walked.out + walked.err
    for parcel in parcels.values():
        report = command("report", parcel, "--json").json
        assert all(item["state"] == "carried" for item in report["items"])


def test_the_page_of_the_day(office: World, tmp_path: Path) -> None:
    page = tmp_path / "day.html"
    ran = planned(office, "--page", page)
    assert ran.status == 0 and "2 moves in 4 trips: as few as can be" in ran.out
    told = page.read_text()
    assert told.count('class="box"') == 4 and "there is no round with fewer" in told
    for name in ("Ines", "Tomas", "potting-shed", "herbarium-loft"):
        assert name in told
    assert "widetrail walk" in told and "<script" not in told


def test_all_that_stands_in_the_way_is_told_and_nothing_is_written(office: World) -> None:
    more = "Piet,machines/gatehouse,machines/bothy,recipes/quillbox.trail.yaml,\n"
    more += "Ada,machines/potting-shed,machines/glass-office,recipes/sporelog.trail.yaml,\n"
    office.edit("office.csv", lambda text: text + more)
    new = FolderMachine(office.new)
    (new.folder / "machine.yaml").write_text(
        (new.folder / "machine.yaml").read_text().replace("Sporelog/sporelog.exe", "Gone/gone.exe")
    )
    before = contents(office.folder / "media")
    with pytest.raises(Obstructed) as told:
        widetrail.plan_office(office.folder / "office.csv", [office.folder / "media/usb-stick"])
    wheres = {one.where.partition(":")[0] for one in told.value.obstacles}
    assert "Piet" in wheres
    assert contents(office.folder / "media") == before
    assert planned(office).status == 3


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "has other columns"),
        ("who,old,new\n", "missing: recipes"),
        ("who,old,new,recipes,moss\n", "unknown: moss"),
        ("old,new,recipes\n", "empty table"),
        ("old,new,recipes\na,,c\n", "new is empty"),
        ("old,new,recipes\na,b,c,d\n", "more cells"),
        ('old,new,recipes\n"a,b,c\n', "is no table"),
        ("old,new,recipes\nmachines/nobody,machines/bothy,recipes\n", "office.csv:2"),
    ],
)
def test_a_table_that_is_none_is_refused(text: str, why: str, office: World) -> None:
    (office.folder / "office.csv").write_text(text)
    ran = planned(office)
    assert ran.status == 2 and why in ran.err, ran.err


def test_rows_are_told_apart_and_read_from_where_the_table_lies(tmp_path: Path) -> None:
    table = tmp_path / "office.csv"
    table.write_text("\ufeffold,new,recipes,without\na,b,r;s, moss ; fern\na,c,r,\n", "utf-8")
    one, other = read_office(table)
    assert (one.who, other.who, other.line) == ("a", "a 2", 3)
    assert one.old == tmp_path / "a" and one.recipes == (tmp_path / "r", tmp_path / "s")
    assert one.choices.without == ("moss", "fern") and other.choices.without == ()


def test_what_the_table_says_is_not_said_beside_it(office: World) -> None:
    assert planned(office, "--only", "palettes").status == 2
    assert command("plan", "--office", office.folder / "office.csv").status == 2
    assert command("plan", office.recipe, "--medium", office.folder).status == 2
    assert command("plan", office.recipe).status == 2


def test_a_medium_without_room_is_told(office: World) -> None:
    medium = office.folder / "media/usb-stick/medium.yaml"
    medium.write_text("medium: small\nsize: 4 KiB\n")
    ran = planned(office)
    assert ran.status == 3, ran.out + ran.err


def test_parcels_are_sealed_where_that_is_wanted(office: World) -> None:
    office.edit("office.csv", lambda text: "\n".join(text.splitlines()[:2]) + "\n")
    answers = office.folder / "answers.yaml"
    answers.write_text("parcel.seal: a long word for the parcel\n")
    ran = planned(office, "--seal", "--answers", answers, "--json")
    assert ran.status == 0, ran.err
    parcel = Path(ran.json["moves"][0]["parcel"])
    assert json.loads((parcel / "data/plan.json").read_text())["sealed"] is True
    with pytest.raises((InputUnusable, Halted)):
        widetrail.plan_office(office.folder / "office.csv", [office.folder / "media/usb-stick"])
