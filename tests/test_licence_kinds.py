"""Licences that are no serial typed in: each kind of docs/licences.md, walked between machines."""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest
import yaml

from build import NOW, machine
from conftest import widetrail
from seat_trail import sealed
from widetrail.errors import Obstructed
from widetrail.licence.seat_events import Seat
from widetrail.licence.terms import Word
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.parcel import Along, Parcel, set_out
from widetrail.planning import Choices, Plan, make_plan
from widetrail.recipe import Loaded, Station, load_recipe_text
from widetrail.recipe.lint import lint
from widetrail.rehearsing.maker import words_on
from widetrail.steps import KINDS
from widetrail.walking import Answers, Company, LegDone, Patience, Visit, claim_after_all, seat_line
from widetrail.walking.answers import Answer

DOCS = Path(__file__).parents[1] / "docs/licences.md"
ITEM = "fernlock.licence"
PROGRAM = "/opt/fernlock/fernlock"
HEAD = """
recipe: 1
revision: 1
application:
  id: fernlock
  name: Fernlock
  maker: Bankside
  programs: {fernlock: fernlock}
  screen: [fernlock, status]
recognise:
  - sign: {file: "{home}/fernlock.ini"}
    release: {ini: "{home}/fernlock.ini", at: fernlock/release}
    edition: {ini: "{home}/fernlock.ini", at: fernlock/edition}
places:
  settings: {folder: "{config}/Fernlock"}
"""
SETTINGS = "/home/ada/.config/Fernlock"


def recipe(kind: str) -> Loaded:
    """Return the recipe of a kind, as the documentation shows it."""
    found = re.search(rf"^```yaml kind={kind}\n(.*?)^```$", DOCS.read_text(), re.M | re.S)
    assert found is not None
    return load_recipe_text(HEAD + found[1], f"{kind}.trail.yaml", KINDS)


@dataclass
class Move:
    """The move of one licence between two machines with Fernlock."""

    folder: Path
    kind: str
    hands: dict[str, Answer] = field(default_factory=dict)
    old: Mapping[str, str] = field(default_factory=dict)
    """Files of old's settings, with their contents."""

    maker: Mapping[str, Any] = field(default_factory=dict)
    networks: Mapping[str, bool] = field(default_factory=dict)
    editions: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.loaded = recipe(self.kind)
        self.parcel_folder = self.folder / "parcel"
        known = {"holders": ["old"], **self.maker}
        self.folder.mkdir(exist_ok=True)
        (self.folder / "maker.json").write_text(json.dumps(known))
        self.dress()

    def dress(self) -> None:
        """Lay out the machines, or have them be as they are told now."""
        for name in ("old", "new", "between"):
            self._dress(name)

    def _dress(self, name: str) -> None:
        online = self.networks.get(name, True)
        told = f"environment: {{FERNLOCK_MAKER: '{self.folder / 'maker.json'}'}}\n"
        script = Path(__file__).with_name("fernlock.py")
        more = (
            f"identity: {name}\nnetwork: {'yes' if online else 'no'}\n{told if online else ''}"
            f"programs:\n- path: {PROGRAM}\n  start: ['{sys.executable}', '{script}']\n"
        )
        edition = self.editions.get(name, "")
        ini = f"[fernlock]\nrelease=2\n{f'edition={edition}' if edition else ''}\n"
        mine = {f"{SETTINGS}/{n}": text for n, text in self.old.items()} if name == "old" else {}
        files = {PROGRAM: "", "/home/ada/fernlock.ini": ini, **mine}
        machine(self.folder / name, files=files, more=more, name=name)

    def at(self, station: Station) -> FolderMachine:
        return FolderMachine(self.folder / station)

    def plan(self) -> Plan:
        choices = Choices()
        plan = make_plan(
            [self.loaded],
            self.at("old"),
            self.at("new"),
            medium_of(self.folder),
            NOW,
            choices,
            sealed=True,
        )
        args = [self.loaded], "run", NOW, Effects(), Along(None, choices, sealed())
        set_out(self.parcel_folder, plan, *args)
        return plan

    def parcel(self) -> Parcel:
        parcel = Parcel(self.parcel_folder, Effects())
        parcel.seal = sealed()[0]
        return parcel

    def walk(self, station: Station) -> LegDone:
        company = Company(Answers(self.hands), patience=Patience(waits=False))
        return Visit(self.parcel(), self.at(station), station=station, company=company).walk(NOW)

    def on(self, most: int = 12) -> list[str]:
        """Walk until nothing is due, or nothing comes of it; return the reasons of what was bad."""
        for _ in range(most):
            station = Visit(self.parcel(), self.at("old")).next_station()
            if station is None:
                return []
            done = self.walk(station)
            if done.bad:
                return [f"{s.outcome.reason}: {s.outcome.todo}" for s in done.bad]  # type: ignore[union-attr]
        raise AssertionError("it comes to no end")

    @property
    def seat(self) -> Seat:
        return seat_line(self.parcel(), ITEM).seat

    @property
    def words(self) -> tuple[Word, ...]:
        """What the programs on old and new say."""
        return tuple(words_on(self.at(s), [self.loaded])[ITEM] for s in ("old", "new"))

    @property
    def holders(self) -> list[str]:
        known: list[str] = json.loads((self.folder / "maker.json").read_text())["holders"]
        return known

    def claimed(self) -> bool:
        return self.seat.stage == "claimed" and self.words == ("not", "active")


PAGE = (("fernlock", "page", "{request}", "{answer}"),)
UPLOADED: dict[str, Answer] = {"uploaded": PAGE}
LICENCE = "HOSTID old\nORDER FL-2207-119\n"
BY_HAND: dict[str, Answer] = {
    "taken_out": (("fernlock", "unplug"),),
    "put_in": (("fernlock", "plug"),),
}
MAIL = '{"mail": "ada@example.com"}'
SERVER = "[server]\naddress = lender.example\n"

MOVES: dict[str, dict[str, Any]] = {
    "file": {"old": {"licence.lic": LICENCE}, "hands": UPLOADED},
    "account": {
        "old": {"state.json": MAIL},
        "maker": {"password": "gorse"},
        "hands": {"password": "gorse"},
    },
    "dongle": {"old": {"state.json": '{"dongle": true}'}, "hands": BY_HAND},
    "server": {
        "old": {"server.ini": SERVER, "state.json": '{"days": 1}'},
        "maker": {"address": "lender.example"},
    },
    "borrowed": {"old": {"state.json": '{"days": 7}'}},
    "dated": {
        "old": {"state.json": '{"serial": "FL-1", "until": "2027-03-01"}'},
        "maker": {"until": "2027-03-01"},
        "editions": {"old": "office"},
    },
}


@pytest.mark.parametrize("kind", MOVES)
def test_a_licence_of_another_kind_moves_from_one_computer_to_the_other(
    tmp_path: Path, kind: str
) -> None:
    move = Move(tmp_path, kind, **MOVES[kind])
    findings = lint(move.loaded.recipe, move.loaded.tree, kind, KINDS)
    others = ("unused", "one-way-licence")  # each has one way, and not each uses all before it
    assert [f for f in findings if f.rule not in others] == []
    move.plan()
    assert move.words == ("active", "not")
    assert move.on() == []
    assert move.claimed()
    assert move.holders in (["new"], ["old"] if kind == "dongle" else ["new"])


PLAYED = {
    "file": {"uploaded": [["fernlock", "page", "{request}", "{answer}"]]},
    "account": {"password": "gorse"},
    "dongle": {"taken_out": [["fernlock", "unplug"]], "put_in": [["fernlock", "plug"]]},
}


@pytest.mark.parametrize("kind", MOVES)
def test_a_licence_of_another_kind_is_rehearsed(tmp_path: Path, kind: str) -> None:
    move = Move(tmp_path / "machines", kind, **MOVES[kind])
    (tmp_path / "fernlock.trail.yaml").write_text(move.loaded.text)
    told = {
        "rehearsal": kind,
        "recipe": "fernlock",
        "old": {"machine": "old"},
        "new": {"machine": "new"},
        "between": {"machine": "between"},
        "sealed": "reed bunting",
        "hands": PLAYED.get(kind, {}),
        "expect": {"licence": {"state": "carried"}},
    }
    (tmp_path / f"fernlock.{kind}.rehearsal.yaml").write_text(yaml.safe_dump(told))
    ran = widetrail("rehearse", tmp_path / "fernlock.trail.yaml")
    assert ran.status == 0, ran.out + ran.err


def test_days_that_were_left_on_old_are_borrowed_on_new(tmp_path: Path) -> None:
    move = Move(tmp_path, "borrowed", **MOVES["borrowed"])
    move.plan()
    assert move.on() == []
    state = move.at("new").host(f"{SETTINGS}/state.json").read_text()
    assert json.loads(state)["days"] == 7


def test_what_was_borrowed_is_waited_for_where_old_cannot_return_it(tmp_path: Path) -> None:
    move = Move(tmp_path, "borrowed", **MOVES["borrowed"], networks={"old": False})
    assert move.plan().item(ITEM).route == "wait until it ends"
    assert "the borrowed licence ends" in move.on()[0]
    assert move.words == ("active", "not") and move.holders == ["old"]
    move.at("old").host(f"{SETTINGS}/state.json").write_text('{"days": 0}')
    (tmp_path / "maker.json").write_text('{"holders": []}')
    assert move.on() == []
    assert move.claimed() and move.holders == ["new"]


@pytest.mark.parametrize(
    ("kind", "changes", "why"),
    [
        ("server", {"maker": {"address": "another.example"}}, "its exit status is 1"),
        ("account", {"hands": {}}, "Password of the Fernlock account"),
    ],
)
def test_nothing_is_released_before_new_can_take_the_licence(
    tmp_path: Path, kind: str, changes: dict[str, Any], why: str
) -> None:
    move = Move(tmp_path, kind, **(MOVES[kind] | changes))
    move.plan()
    assert why in "; ".join(move.on())
    assert move.seat.stage == "noted" and move.seat.act is None
    assert move.words == ("active", "not") and move.holders == ["old"]


def test_a_route_for_one_edition_is_not_gone_where_new_is_another(tmp_path: Path) -> None:
    move = Move(tmp_path / "at once", "dated", **MOVES["dated"])
    move.editions = {"old": "office", "new": "home"}
    move.dress()
    with pytest.raises(Obstructed) as refused:
        move.plan()
    told = "; ".join(f"{one} {one.why}" for one in refused.value.obstacles)
    assert "it is for the edition office, and new has home" in told
    move = Move(tmp_path / "later", "dated", **MOVES["dated"])
    move.plan()
    move.editions = {"old": "office", "new": "home"}
    move.dress()
    assert "the edition office, and new has home" in "; ".join(move.on())
    assert move.seat.stage == "noted" and move.words == ("active", "not")


def test_a_device_is_taken_off_from_new_where_old_has_no_network(tmp_path: Path) -> None:
    move = Move(tmp_path, "account", **MOVES["account"], networks={"old": False})
    assert move.plan().item(ITEM).route == "take the old device off"
    assert "seat_released" in move.on()[0]  # old's program cannot say it without a network
    assert move.holders == []
    move.hands["seat_released"] = "nobody"
    assert move.on() == []
    assert move.seat.stage == "claimed" and move.holders == ["new"]


def test_the_device_of_a_lost_computer_is_taken_off_by_the_claim(tmp_path: Path) -> None:
    move = Move(tmp_path, "account", **MOVES["account"], networks={"old": False})
    move.plan()
    move.walk("old")
    line = seat_line(move.parcel(), ITEM)
    claim_after_all(move.parcel(), line, NOW, gone=True)
    move.hands["old_is_gone"] = "yes"
    assert move.on() == []
    assert move.seat.stage == "claimed" and move.holders == ["new"]


def test_the_file_of_another_computer_is_not_installed(tmp_path: Path) -> None:
    move = Move(tmp_path, "file", **MOVES["file"])
    move.plan()
    for station in ("old", "new", "old", "new", "between"):
        assert not move.walk(station).bad
    room = "/home/ada/.local/state/widetrail/run/seats/fernlock.licence"
    answer = "fernlock-claim-new-for-old-2.answer"
    mine = move.at("new").host(f"{room}/{answer}")
    mine.write_text(LICENCE)
    assert f"{answer} answers a request that is not known here" in move.on()[0]
    assert "widetrail seat fetch" in move.on()[0]
    mine.unlink()
    assert move.on() == [] and move.claimed()
