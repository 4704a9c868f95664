"""Planning: every reason to pass a route over, parts, carving, cards, and the fewest trips."""

import itertools
import json
import os
import random
import subprocess
import sys
from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

import build
from conftest import NOW, World, widetrail
from widetrail.errors import InputUnusable, Obstructed
from widetrail.finding import make_card, read_card
from widetrail.machine import Effects, FolderMachine, Medium
from widetrail.parcel import Parcel
from widetrail.planning import (
    Choices,
    ChoiceWords,
    Circle,
    New,
    Plan,
    find_itinerary,
    make_plan,
    read_choices,
)
from widetrail.recipe import Loaded, Station, load_recipe_text
from widetrail.recipe.conditions import parse_duration
from widetrail.recipe.routes import STATIONS
from widetrail.steps import KINDS, Step
from widetrail.steps.person import PersonStep
from widetrail.steps.run_step import RunStep

MEDIUM = Medium("the stick", 1 << 30)

BODY = """
places: {notes: {folder: "{documents}/Notes"}}
readings:
  pages: {files: "{notes}/pages"}
  kinds: {json: "{notes}/kinds.json", at: /kinds, as: set}
  touched: {modified: "{notes}/kinds.json"}
items:
  notes:
    title: Notes
    from: notes
    parts: {kind: kinds, shade: [light, dark]}
    routes:
      - name: first
        %s
        legs: [{new: [copy]}]
      - name: second
        legs: [{new: [copy]}]
"""
FILES = {
    "/home/ada/Documents/Notes/pages/1": "x" * 3000,
    "/home/ada/Documents/Notes/pages/2": "y",
    "/home/ada/Documents/Notes/kinds.json": '{"kinds": ["moss", "fern"]}',
}


def recipe(body: str, sign: str = build.SIGN, app: str = "fernbook") -> Loaded:
    head = build.HEAD.replace("id: fernbook", f"id: {app}")
    return load_recipe_text(head + sign + body, f"{app}.trail.yaml", KINDS)


@pytest.fixture
def machines(tmp_path: Path) -> tuple[FolderMachine, FolderMachine]:
    old = build.machine(tmp_path / "old", files=FILES, more="identity: one\nadministrator: no\n")
    new_ini = {"/home/ada/fernbook.ini": "[fernbook]\nrelease=4.0\n"}
    return old, build.machine(tmp_path / "new", files=new_ini, more="identity: two\n")


def plan_of(
    machines: tuple[FolderMachine, New], *recipes: Loaded, medium: Medium = MEDIUM, **kw: Any
) -> Plan:
    return make_plan(recipes, machines[0], machines[1], medium, NOW, **kw)


PASSED = {
    "for: {platform: windows}": (
        "for",
        "it is for platform windows, and the old computer has platform linux",
    ),
    "for: {release: '>=4'}": ("for", "it is for release >=4, and the old computer has release 3.1"),
    "needs: {old: {release: '>=3.2'}}": (
        "need",
        "version on the old computer must be >=3.2, but is 3.1",
    ),
    "needs: {new: {release: same}}": (
        "need",
        "version on the new computer must be 3.1, but is 4.0",
    ),
    "needs: {new: {system: '<10'}}": (
        "need",
        "system on the new computer must be <10, but is 10.0",
    ),
    "needs: {new: {platform: {in: [macos, windows]}}}": (
        "need",
        "platform on the new computer must be one of macos, windows, but is linux",
    ),
    "needs: {old: {administrator: yes}}": (
        "need",
        "administrator on the old computer must be yes, but is no",
    ),
    "needs: {new: {installed: no}}": ("need", "it is installed on the new computer"),
    "needs: {new: {path: {place: same}, network: no}}": (
        "need",
        "network on the new computer must be no, but is yes",
    ),
    "needs: {old: {edition: institute}}": (
        "need",
        "edition on the old computer must be institute, but is unknown (its edition is not known)",
    ),
    "needs: {old: {pages: {at_least: 3}}}": (
        "need",
        "pages on the old computer must be at least 3, but is 2",
    ),
    "needs: {old: {pages: {at_most: 1}}}": (
        "need",
        "pages on the old computer must be at most 1, but is 2",
    ),
    "needs: {old: {kinds: {matches: '^moss$'}}}": (
        "need",
        "kinds on the old computer must be matching ^moss$, but is fern, moss",
    ),
    "needs: {new: {pages: 2}}": ("need", "pages on the new computer must be 2, but is 0"),
    "needs: {new: {kinds: {at_least: old}}}": (
        "need",
        "kinds on the new computer must be at least as on the old computer, but is unknown",
    ),
    "limit: {size: 2 KiB}": ("limit", "its limit is 2.0 KiB, and this is 3.0 KiB"),
    "limit: {count: 2}": ("limit", "its limit is 2 files, and there are 3"),
    "limit: {file: 1 KiB}": (
        "limit",
        "its limit is 1.0 KiB a file, and the largest is 2.9 KiB",
    ),
    "only: {notes: {touched: {within: 24 months}}}": (
        "only",
        "it carries only what is touched within 24 months, and its touched is 2001",
    ),
}


@pytest.mark.parametrize("rule", PASSED)
def test_a_route_is_passed_over_with_the_values_that_decided(
    machines: tuple[FolderMachine, FolderMachine], rule: str
) -> None:
    path = machines[0].host("/home/ada/Documents/Notes/kinds.json")
    os.utime(path, (1_000_000_000, 1_000_000_000))
    (item,) = plan_of(machines, recipe(BODY % rule)).items
    assert item.route == "second"
    (passed,) = item.rejected
    code, reason = PASSED[rule]
    assert (passed.route, passed.code) == ("first", code)
    assert reason in passed.reason


@pytest.mark.parametrize(
    "rule",
    [
        "needs: {old: {release: '>=3, <4'}, new: {release: same or later, path: {place: same}}}",
        "needs: {old: {pages: 2, kinds: {matches: moss}}, new: {network: yes, platform: linux}}",
        "limit: {size: 4 KiB, count: 3, file: 3 KiB}",
        "for: {platform: linux, release: '<4'}",
        "only: {notes: {touched: {within: 200 years}}}",
    ],
)
def test_a_route_whose_needs_hold_is_taken(
    machines: tuple[FolderMachine, FolderMachine], rule: str
) -> None:
    (item,) = plan_of(machines, recipe(BODY % rule)).items
    assert (item.route, item.rejected) == ("first", ())


def test_parts_are_chosen_and_a_route_that_cannot_carry_some_alone_is_passed_over(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    loaded = recipe(BODY.replace("- name: second\n        legs: [{new: [copy]}]", EXPORT) % "")
    choices = read_choices([loaded], ChoiceWords(choose=["notes.kind=fern"]))
    (item,) = plan_of(machines, loaded, choices=choices).items
    assert item.rejected[0].code == "parts"
    assert item.route == "second"
    assert (item.parts["kind"], item.parts_left) == (("fern",), {"kind": ("moss",)})
    (run,) = [s for s in plan_of(machines, loaded, choices=choices).steps if s.kind == "run"]
    assert isinstance(run, RunStep)
    assert run.command == (
        "fernbook",
        "export",
        "fern",
        "--to",
        "{parcel}/x",
    )
    assert run.station == "old"


EXPORT = """- name: second
        legs:
          - old:
              - run: [fernbook, export, "{kind}", --to, "{parcel}/x"]
                makes: "{parcel}/x"
"""


def test_what_is_chosen_must_be_there(machines: tuple[FolderMachine, FolderMachine]) -> None:
    loaded = recipe(BODY % "")
    with pytest.raises(Obstructed) as error:
        plan_of(
            machines,
            loaded,
            choices=read_choices([loaded], ChoiceWords(choose=["notes.kind=lichen"])),
        )
    assert "there is no kind lichen in fernbook.notes" in str(error.value.obstacles[0])
    for wrong in (["notes.kin=fern"], ["notes.kind"], ["other.kind=fern"]):
        with pytest.raises(InputUnusable):
            read_choices([loaded], ChoiceWords(choose=wrong))
    with pytest.raises(InputUnusable, match="item not found"):
        read_choices([loaded], ChoiceWords(only=["nots"]))


def test_items_that_cannot_be_carried_say_what_to_do(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    body = (
        BODY % ""
        + """
  password:
    title: The password
    from: notes
    take: none
    losses: [{what: the password, remedy: Type it again., when: {pages: {at_least: 1}}}]
  colours:
    title: Colours
    from: notes
    take: none
    losses: [{what: the colours, remedy: Choose them., when: {pages: {at_least: 9}}}]
"""
    )
    plan = plan_of(machines, recipe(body))
    left = {item.id: [loss.what for loss in item.losses] for item in plan.left}
    assert left == {"fernbook.password": ["the password"], "fernbook.colours": []}


TWO = """
relies_on: {%s: ">=1"}
places: {%s: {folder: "%s"}}
items:
  data: {title: Data, from: %s, routes: [{name: copy, legs: [{new: [copy]}]}]}
"""


def other(app: str, uses: str, folder: str) -> Loaded:
    text = TWO % (uses, app, folder, app)
    return recipe(text if uses else text.replace('relies_on: {: ">=1"}\n', ""), app=app)


def test_a_place_inside_anothers_is_carved_out_of_it(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    outer = other("outer", "", "{documents}")
    inner = other("inner", "", "{documents}/Notes")
    plan = plan_of(machines, inner, outer)
    items = {item.id: item for item in plan.items}
    assert items["outer.data"].carved == ("Notes",)
    assert (items["outer.data"].files, items["inner.data"].files) == (0, 3)
    (leg,) = [leg for leg in plan.legs if leg.station == "new"]
    order = [s for s in leg.steps if s.endswith("publish")]
    assert order == ["outer.data/copy/1/publish", "inner.data/copy/1/publish"]


def test_two_equal_claims_stop_the_plan(machines: tuple[FolderMachine, FolderMachine]) -> None:
    with pytest.raises(Obstructed) as error:
        plan_of(machines, other("one", "", "{documents}"), other("two", "", "{documents}"))
    assert "one.data and two.data cover the same place" in str(error.value.obstacles[0])


def test_uses_orders_recipes_and_a_circle_is_told(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    host, guest = other("zhost", "", "{documents}"), other("aguest", "zhost", "{config}")
    machines[0].host("/home/ada/.config").mkdir()
    plan = plan_of(machines, guest, host)
    (leg,) = [leg for leg in plan.legs if leg.station == "new"]
    published = [s for s in leg.steps if s.endswith("/publish")]
    assert published == ["zhost.data/copy/1/publish", "aguest.data/copy/1/publish"]
    with pytest.raises(Obstructed, match="aguest relies on zhost, and its recipe was not found"):
        plan_of(machines, guest)
    circle = other("zhost", "aguest", "{documents}")
    with pytest.raises(Obstructed, match="aguest, zhost depend on each other in a circle"):
        plan_of(machines, guest, circle)


def test_a_recipe_lends_its_places_to_those_that_use_it(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    body = (TWO % ("", "host", "{documents}/Notes", "host")).replace('relies_on: {: ">=1"}\n', "")
    host = recipe(body, app="host-app")
    guest = other("guest", "host-app", "{host_app.host}/pages")
    plan = plan_of(machines, guest, host)
    items = {item.id: item for item in plan.items}
    assert items["guest.data"].old_path == "/home/ada/Documents/Notes/pages"
    assert items["host-app.data"].carved == ("pages",)


def test_a_host_of_another_release_on_new_leaves_the_guest_behind(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    host = other("zhost", "", "{documents}")
    guest = recipe(
        (TWO % ("zhost", "aguest", "{home}", "aguest")).replace(">=1", ">=5"), app="aguest"
    )
    plan = plan_of(machines, guest, host)
    (left,) = plan.left
    assert left.rejected[0].reason == "zhost on the new computer must be >=5, but is 4.0"


def test_the_same_plan_in_whatever_order_recipes_are_named(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    recipes = [other(f"app{n}", "", f"{{documents}}/Notes{n}") for n in range(4)]
    for n in range(4):
        machines[0].host(f"/home/ada/Documents/Notes{n}").mkdir()
    plans = {plan_of(machines, *order).encoded() for order in itertools.permutations(recipes)}
    assert len(plans) == 1


def test_a_card_stands_in_for_new_and_nothing_else_does(
    machines: tuple[FolderMachine, FolderMachine], tmp_path: Path
) -> None:
    loaded = recipe(BODY % "needs: {new: {release: same or later, pages: {at_least: 1}}}")
    card = tmp_path / "card.json"
    card.write_bytes(make_card(machines[1], [loaded]))
    facts = read_card(card)
    plan = plan_of((machines[0], facts), loaded)
    (item,) = plan.items
    assert (item.route, item.new_path) == ("first", "/home/ada/Documents/Notes")
    assert item.assumed == ("pages on the new computer is assumed to be at least 1",)
    assert plan.station("new").source == "card"
    with pytest.raises(InputUnusable, match="another edition of the recipe"):
        plan_of((machines[0], facts), recipe(BODY % ""))
    with pytest.raises(InputUnusable, match="says nothing of other"):
        plan_of((machines[0], facts), other("other", "", "{documents}"))
    own = make_card(machines[0], [loaded])
    card.write_bytes(own)
    with pytest.raises(InputUnusable, match="old and new are one machine"):
        plan_of((machines[0], read_card(card)), loaded)


def test_without_a_card_all_of_new_is_assumed_and_said(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    loaded = recipe(BODY % "needs: {new: {release: same or later, administrator: yes}}")
    (item,) = plan_of((machines[0], None), loaded).items
    assert item.route == "first"
    assert item.assumed == (
        "version on the new computer is assumed to be 3.1 or later",
        "installed on the new computer is assumed to be yes",
        "administrator on the new computer is assumed to be yes",
    )
    assert (item.new_path, item.new_how) == ("", "found on the new computer")


def test_a_medium_that_cannot_hold_all_is_told_with_another_way(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    loaded = recipe(BODY.replace("- name: second\n        legs: [{new: [copy]}]", SIGN_IN) % "")
    with pytest.raises(Obstructed) as error:
        plan_of(machines, loaded, medium=Medium("the stick", 5000))
    assert 'fernbook.notes could also go by "second", which needs none' in (
        error.value.obstacles[0].todo
    )


SIGN_IN = """- name: second
        wait: {pages: 2}
        legs: [{new: [{person: Sign in., proof: {pages: {at_least: 1}}}, {wait: {pages: 2}}]}]"""


def test_a_route_that_would_save_a_trip_is_told_and_not_taken(
    machines: tuple[FolderMachine, FolderMachine],
) -> None:
    loaded = recipe(BODY.replace("- name: second\n        legs: [{new: [copy]}]", SIGN_IN) % "")
    plan = plan_of(machines, loaded)
    assert plan.items[0].route == "first"
    assert plan.trips == 1
    assert 'fernbook.notes by "second" would save a trip' in plan.notices


@pytest.mark.parametrize(
    ("text", "delta"),
    [("10 min", timedelta(minutes=10)), ("2 h", timedelta(hours=2)), ("1 day", timedelta(days=1))],
)
def test_durations(text: str, delta: timedelta) -> None:
    assert parse_duration(text) == delta


# The itinerary


def person(step: str, station: Station, *after: str) -> Step:
    return PersonStep(id=step, station=station, item="x.y", after=after, task="look")


def problem(dice: random.Random, size: int) -> list[Step]:
    steps: list[Step] = []
    for number in range(size):
        earlier = [s.id for s in steps if dice.random() < 1.6 / max(1, number)]
        station: Station = dice.choice(STATIONS)
        after = tuple(earlier)
        steps.append(person(f"s{number}", station, *after))
    return steps


def optimum(steps: Sequence[Step]) -> int:
    """The fewest legs by a search of its own: over sets of stations' frontiers, deepening."""
    todo = {s.id: s for s in steps}

    def reachable(done: frozenset[str], at: str) -> frozenset[str]:
        now = set(done)
        grown = True
        while grown:
            grown = False
            for step in todo.values():
                if step.id not in now and step.station == at and now.issuperset(step.after):
                    now.add(step.id)
                    grown = True
        return frozenset(now)

    fronts = {frozenset[str]()}
    for legs in itertools.count():
        if any(len(f) == len(steps) for f in fronts):
            return legs
        fronts = {reachable(f, at) for f in fronts for at in STATIONS}
    raise AssertionError


def test_2000_random_problems_never_take_more_trips_than_the_optimum() -> None:
    dice = random.Random(20261124)
    exact = greedy = 0
    for _ in range(2000):
        steps = problem(dice, dice.randint(1, 16))
        best = optimum(steps)
        found = find_itinerary(steps)
        assert found.exact
        assert len(found.legs) == found.bound == best
        done: set[str] = set()
        for station, ids in found.legs:
            for step in (next(s for s in steps if s.id == i) for i in ids):
                assert step.station == station
                assert done.issuperset(step.after)
                done.add(step.id)
        assert len(done) == len(steps)
        hurried = find_itinerary(steps, most=2)
        assert hurried.bound <= best <= len(hurried.legs)
        exact += hurried.exact
        greedy += not hurried.exact
    assert exact > 100
    assert greedy > 100


def test_steps_in_a_circle_are_named() -> None:
    steps = [
        person("a", "old", "b"),
        person("b", "new", "a"),
    ]
    with pytest.raises(Circle, match="a, b"):
        find_itinerary(steps)


# On the demo world


def test_all_demo_recipes_at_once(world: World) -> None:
    def plan(*recipes: Path) -> Any:
        parcel = world.folder / "parcel"
        sides: list[str | Path] = [
            "--old",
            world.old,
            "--new",
            world.new,
            "--parcel",
            parcel,
            "--json",
        ]
        licences = ("loamlens.licence", "mistvane.licence")  # they need more trips with the medium
        stays = [word for licence in licences for word in ("--without", licence)]
        ran = widetrail("plan", *recipes, *sides, *stays)
        assert ran.status == 0, ran.err
        for path in sorted(parcel.rglob("*"), reverse=True):
            path.rmdir() if path.is_dir() else path.unlink()
        return ran.json

    recipes = sorted((world.folder / "recipes").glob("*.trail.yaml"))
    first = plan(*recipes)
    assert plan(*reversed(recipes))["plan"] == first["plan"]
    assert str(world.folder) not in json.dumps(first["plan"])
    left = {item["id"] for item in first["plan"]["left"]}
    assert left == {"frondsign.signs", "frondsign.settings"}
    took = [s for s in first["plan"]["steps"] if "import" in s.get("command", ())]
    assert {s["command"][4] for s in took} == {"Mailroom", "Plant sale"}
    routes = {item["id"]: item["route"] for item in first["plan"]["items"]}
    assert routes["quillbox.mailbox[Garden post]"] == "export"
    assert routes["sporelog.collection"] == "whole folder"
    why = (
        "Brackenwend is not on potting-shed, so there is nothing to move of it (file not found: C:/"
    )
    assert any(notice.startswith(why) for notice in first["plan"]["notices"])
    assert len(first["plan"]["legs"]) == 2
    items = {item["id"]: item for item in first["plan"]["items"]}
    assert items["quillbox.mailbox[Garden post]"]["new_path"].endswith("rooms/first")
    assert items["quillbox.mailbox[Plant sale]"]["new_path"].endswith("rooms/plant-sale")
    assert items["tillbook.ledger[Plant sale 2009]"]["new_path"] == "D:/Sale/2009"
    assert items["tillbook.ledger[Tea tent]"]["new_path"] == "C:/Users/imarsh/Documents/Tea tent"
    runs = [s["command"] for s in first["plan"]["steps"] if s["kind"] == "run"]
    assert ["seedling", "give", "4 – Otters"] in [command[:3] for command in runs]


def test_an_administrator_hands_ledgers_over_but_for_the_closed_one(
    world: World,
) -> None:
    for name in ("potting-shed", "glass-office"):
        path = f"machines/{name}/machine.yaml"
        world.edit(path, lambda s: s.replace("administrator: no", "administrator: yes"))
    recipe = world.folder / "recipes/tillbook.trail.yaml"
    sides: list[str | Path] = ["--old", world.old, "--new", world.new, "--parcel", world.parcel]
    plan = widetrail("plan", recipe, *sides, "--json").json["plan"]
    routes = {item["instance"]: item["route"] for item in plan["items"]}
    assert routes == {
        "Plant sale 2026": "hand-over",
        "Tea tent": "hand-over",
        "Plant sale 2009": "folder of the ledger",
    }
    (old,) = [i for i in plan["items"] if i["instance"] == "Plant sale 2009"]
    assert old["rejected"][0]["code"] == "only"
    ran = world.walk(world.old)
    assert ran.status == 3
    assert "what it shows is secret, and goes to nothing but a terminal" in ran.out


def test_a_plan_that_was_edited_by_hand_is_refused(world: World) -> None:
    world.plan()
    path = world.parcel / "data/plan.json"
    path.write_bytes(path.read_bytes().replace(b"imarsh", b"intruder"))
    ran = world.walk(world.old)
    assert ran.status == 2
    assert "plan.json: was damaged or changed" in ran.err


def test_a_plan_without_new_is_walked_when_new_is_said(world: World) -> None:
    call: list[str | Path] = ["plan", world.recipe, "--old", world.old, "--new-later"]
    assert widetrail(*call, "--parcel", world.parcel).status == 0
    assert world.walk(world.old).status == 0
    refused = world.walk(world.new)
    assert refused.status == 2
    assert "it is not known whether glass-office is the new computer" in refused.err
    planned = world.walk(world.new, "--as", "new")
    assert planned.status == 3
    assert "glass-office was not seen when the plan was made" in planned.err
    assert world.walk(world.new).status == 0
    report = widetrail("report", world.parcel, "--json").json
    assert report["well"]


def test_an_item_whose_need_no_longer_holds_on_new_stays_behind_and_the_rest_goes_on(
    world: World,
) -> None:
    named = "- name: whole folder\n"
    needs = f"{named}        needs: {{new: {{release: '>=5.4'}}}}\n"
    world.edit("recipes/sporelog.trail.yaml", lambda s: s.replace(named, needs))
    world.plan()
    world.walk(world.old)
    release = world.new / "disks/C/Program Files/Sporelog/release.txt"
    release.write_text("5.3\n")
    ran = world.walk(world.new)
    assert ran.status == 3
    assert "Sporelog: Specimens, shelves and plates: not transferred" in ran.err
    assert "version on the new computer must be >=5.4, but is 5.3" in ran.err
    assert world.walk(world.new).status == 0
    report = widetrail("report", world.parcel, "--json").json
    assert {item["id"]: item["state"] for item in report["items"]} == {"sporelog.views": "carried"}
    assert report["left"][0]["id"] == "sporelog.collection"
    assert report["headline"] == (
        "Transferred and checked: 1 of 2 items. Not transferred: "
        "Sporelog: Specimens, shelves and plates. Left for you: 2 tasks."
    )


def test_old_that_changed_is_planned_anew_shown_and_needs_consent_again(world: World) -> None:
    world.plan()
    first = Parcel(world.parcel, Effects()).plan
    program = "C:/Program Files/Sporelog/sporelog.exe"
    moved = FolderMachine(world.old).start(program, ["move", "C:/Fern papers/Ines"])
    assert moved.status == 0
    ran = world.walk(world.old)
    assert ran.status == 3
    assert "potting-shed is no longer as planned" in ran.err
    assert "from: C:/Fern papers/Ines (set in" in ran.err
    parcel = Parcel(world.parcel, Effects())
    assert parcel.plan.id != first.id
    assert [g.event for g in parcel.generations] == ["set out", "planned anew"]
    assert parcel.plan.station("new") == first.station("new")
    said = world.walk(world.old)
    assert said.status == 3
    assert "is taken from C:/Fern papers/Ines: it lies outside the account's own" in said.err
    assert world.walk(world.old, "--allow", "outside").status == 0
    assert world.walk(world.new).status == 0
    assert widetrail("report", world.parcel).status == 0


def test_a_collection_that_only_grew_is_no_other_plan(world: World) -> None:
    world.plan()
    program = "C:/Program Files/Sporelog/sporelog.exe"
    FolderMachine(world.old).start(program, ["add", "Osmunda regalis"])
    assert world.walk(world.old).status == 0


def test_what_goes_is_asked_at_a_terminal(world: World) -> None:
    recipes = [str(world.folder / f"recipes/{n}.trail.yaml") for n in ("huemoss", "seedling-quest")]
    sides = ["--old", str(world.old), "--new", str(world.new), "--parcel", str(world.parcel)]
    call = ["plan", *recipes, *sides, "--ask"]
    assert widetrail(*call).status == 3
    inner, outer = os.openpty()
    command = [sys.executable, "-m", "widetrail", *call]
    with subprocess.Popen(command, stdin=outer, stdout=subprocess.PIPE, stderr=outer) as process:
        os.write(inner, "n\ny\ny\n2b, 4 – Otters\n".encode())
        assert process.stdout is not None
        out = process.stdout.read().decode()
    os.close(inner)
    os.close(outer)
    assert process.returncode == 0
    plan = Parcel(world.parcel, Effects()).plan
    assert [item.id for item in plan.items] == ["huemoss.stamps", "seedling-quest.trails"]
    assert plan.item("seedling-quest.trails").parts == {"class": ("2b", "4 – Otters")}
    assert "not all of class: 1 left" in out.replace("…", " left")


def test_routes_folders_and_duplicates_are_asked_at_a_terminal(world: World) -> None:
    recipes = [str(world.folder / f"recipes/{n}.trail.yaml") for n in ("quillbox", "sporelog")]
    sides = ["--old", str(world.old), "--new", str(world.new), "--parcel", str(world.parcel)]
    inner, outer = os.openpty()
    command = [sys.executable, "-m", "widetrail", "plan", *recipes, *sides, "--ask"]
    with subprocess.Popen(command, stdin=outer, stdout=subprocess.PIPE, stderr=outer) as process:
        way = "export, originals left on their disk"
        post = "y\n\n\n\nkeep both\n"
        os.write(inner, f"{post}y\n\n\n{way}\nD:\\Herbarium\nn\n".encode())
        assert process.stdout is not None
        out = process.stdout.read().decode()
    os.close(inner)
    os.close(outer)
    assert process.returncode == 0
    *rooms, item = Parcel(world.parcel, Effects()).plan.items
    assert {room.duplicates for room in rooms} == {"keep both"}
    assert (item.id, item.route, item.new_path) == ("sporelog.collection", way, "D:/Herbarium")
    assert "→ D:/Herbarium" in out


def test_a_check_is_looked_at_when_what_it_counts_was_chosen(world: World) -> None:
    recipe = world.folder / "recipes/quillbox.trail.yaml"
    sides: list[str | Path] = ["--old", world.old, "--new", world.new, "--parcel", world.parcel]
    ran = widetrail("plan", recipe, *sides, "--choose", "mailbox.sort=contacts,tasks", "--json")
    checks = [s for s in ran.json["plan"]["steps"] if s["kind"] == "check"]
    assert [set(s["readings"]) for s in checks] == [{"accounts", "contacts"}] * 2


def test_only_and_without(world: World) -> None:
    ran = world.plan("--without", "views", "--json")
    assert [i["id"] for i in ran.json["plan"]["items"]] == ["sporelog.collection"]
    assert world.plan("--only", "nothing").status == 2


def test_choices_are_plain_values() -> None:
    assert Choices(only=frozenset({"a.b"})).wants("a.b")
    assert not Choices(without=frozenset({"a.b"})).wants("a.b")
