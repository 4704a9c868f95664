"""Licences by the command line and in the plan: the ledger, secrets, answers mixed up, refusals."""

from __future__ import annotations

import json
import re
import urllib.request
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import jwt
import pytest

from build import NOW
from conftest import Ran, World, widetrail
from seat_trail import ITEM, SeatTrail
from widetrail.errors import InputUnusable
from widetrail.findings import Finding
from widetrail.formats.masking import Masker
from widetrail.licence.exchange import Exchange, wrong_answer
from widetrail.licence.service import PUBLIC, Service, make_service, read_faults, seat_name, serving
from widetrail.machine import Effects, FolderMachine, medium_of
from widetrail.machine.process_start import Start
from widetrail.parcel import Parcel
from widetrail.planning import Choices, make_plan
from widetrail.recipe import Loaded, examine, load_recipe, load_recipe_text
from widetrail.steps import KINDS, Task
from widetrail.walking import Answers, Company, Patience, Visit, bring_back
from widetrail_demo.other_programs import SERIALS

SEAL = "parcel.seal: goldcrest in the yew\n"


# By the command line


@pytest.fixture
def served(world: World) -> Iterator[World]:
    """A demo world whose machines reach its licence service."""
    with serving(Service(world.folder / "maker")) as address:
        for name in ("potting-shed", "glass-office", "visitor-hall"):
            told = f"environment: {{LICENCE_SERVICE: '{address}'}}\n"
            world.edit(f"machines/{name}/machine.yaml", lambda s, told=told: s + told)  # type: ignore[misc]
        (world.folder / "answers.yaml").write_text(SEAL)
        yield world


def _plan(world: World, *more: str) -> Ran:
    sides = ("--old", world.old, "--new", world.new, "--parcel", world.parcel)
    sealed = ("--seal", "--answers", world.folder / "answers.yaml")
    return widetrail("plan", world.folder / "recipes/loamlens.trail.yaml", *sides, *sealed, *more)


def _walk(world: World, machine: str, *more: str) -> Ran:
    answers = ("--answers", world.folder / "answers.yaml")
    return widetrail(
        "walk", world.parcel, "--machine", world.machine(machine), "--yes", *answers, *more
    )


@pytest.mark.sweep
def test_a_licence_that_is_released_before_new_is_known_is_moved_by_one_parcel_alone(
    served: World,
) -> None:
    sides = ("--old", served.old, "--new-later", "--parcel", served.parcel)
    sealed = ("--seal", "--answers", served.folder / "answers.yaml")
    recipe = served.folder / "recipes/loamlens.trail.yaml"
    packing = ("--release-after", "packing")
    ran = widetrail("plan", recipe, *sides, *sealed, *packing, "--details")
    assert ran.status == 0, ran.err
    assert "walk this parcel on one alone" in ran.out
    assert "do not walk a copy of this parcel on another computer" in ran.out
    walked = _walk(served, "potting-shed")
    assert "widetrail walk" in walked.out and "--as new" in walked.out


def _offline(world: World) -> None:
    for name in ("potting-shed", "glass-office"):
        world.edit(
            f"machines/{name}/machine.yaml", lambda s: s.replace("network: yes", "network: no")
        )


def test_no_serial_is_shown_written_or_given_as_an_argument(
    served: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    commands: list[Sequence[str]] = []
    run = Effects.run

    def watched(self: Effects, start: Start, *more: Any, **others: Any) -> Any:
        commands.append(list(start.command))
        return run(self, start, *more, **others)

    monkeypatch.setattr(Effects, "run", watched)
    _offline(served)
    told = [_plan(served)]
    way = (
        "potting-shed",
        "glass-office",
        "potting-shed",
        "visitor-hall",
        "potting-shed",
        "glass-office",
        "visitor-hall",
        "glass-office",
    )
    for name in way:
        told.append(_walk(served, name, *(["--as", "between"] if name == "visitor-hall" else [])))
        assert told[-1].status == 0, told[-1].err
    there = [i for i, name in enumerate(way, start=1) if name == "visitor-hall"]
    assert all("--as between" in told[i - 1].out for i in there)  # the walk before says so
    told += [widetrail("seat", served.parcel), widetrail("report", served.parcel, "--json")]
    told += [widetrail("seat", "--machine", served.machine("potting-shed"), "--json")]
    told += [widetrail("seat", "letter", served.parcel)]
    masker = Masker()
    masker.add("serial", SERIALS["Loamlens"])
    for ran in told:
        assert masker.mask(ran.out + ran.err) == ran.out + ran.err
    assert commands and all(masker.mask(a) == a for command in commands for a in map(str, command))
    own = {"licence.json", "seats.json"}  # where the program and its maker keep it
    for path in served.folder.rglob("*"):
        if path.is_file() and path.name not in own:
            text = path.read_bytes().decode("latin-1")
            assert masker.mask(text) == text, path
    kept = list(served.machine("potting-shed").rglob("serial.age"))
    assert [p.stat().st_mode & 0o777 for p in kept] == [0o600]
    names = sorted(p.name for p in served.folder.rglob("*.answer") if "data" not in p.parts)
    assert len(set(names)) == 2 and len(names) >= 4  # at old, at new, and where they were fetched
    ledger = widetrail("seat", served.parcel, "--json").json["parcel"][0]
    assert (ledger["stage"], ledger["todo"], ledger["in_doubt"]) == ("claimed", None, False)


def test_a_letter_holds_the_serial_only_in_a_file_that_nobody_else_reads(
    served: World, tmp_path: Path
) -> None:
    _plan(served)
    _walk(served, "potting-shed")
    shown = widetrail("seat", "letter", served.parcel, "loamlens")
    assert "‹serial›" in shown.out and "release the seat of potting-shed" in shown.out
    answers = ("--answers", served.folder / "answers.yaml")
    inside = widetrail("seat", "letter", served.parcel, "--to", served.parcel / "x.txt", *answers)
    assert inside.status == 2 and "would lie open in the parcel" in inside.err
    file = tmp_path / "letter.txt"
    assert widetrail("seat", "letter", served.parcel, "--to", file, *answers).status == 0
    assert SERIALS["Loamlens"] in file.read_text() and file.stat().st_mode & 0o777 == 0o600
    again = widetrail("seat", "letter", served.parcel, "--to", file, *answers)
    assert again.status == 2 and "exists" in again.err


def test_a_licence_is_planned_into_a_sealed_parcel_only(world: World) -> None:
    sides = ("--old", world.old, "--new", world.new, "--parcel", world.parcel)
    ran = widetrail("plan", world.folder / "recipes/loamlens.trail.yaml", *sides)
    assert ran.status == 3
    assert "the licence of Loamlens needs a sealed parcel" in ran.err
    assert "--without loamlens.licence" in ran.err and not world.parcel.exists()


@pytest.mark.parametrize(
    ("call", "status", "words"),
    [
        (["seat"], 2, "Usage"),
        (["seat", "show"], 2, "specify a parcel or a machine"),
        (["seat", "{parcel}", "--json"], 0, '"stage": "noted"'),
        (["seat", "return", "{parcel}", "--yes"], 3, "cannot be brought back now"),
        (["seat", "claim", "{parcel}", "--yes"], 3, "cannot be claimed now"),
        (["seat", "return", "{parcel}", "loamlense", "--yes"], 2, "loamlens.licence"),
        (["seat", "give-up", "{parcel}", "--yes"], 0, "widetrail walk"),
        (["seat", "serve", "{parcel}"], 2, "licence service not found"),
        (["seat", "serve", "{maker}", "--fault", "fire"], 2, "fault not found"),
    ],
)
def test_what_the_ledger_says_to_a_call(
    served: World, call: list[str], status: int, words: str
) -> None:
    assert _plan(served).status == 0
    assert _walk(served, "potting-shed").status == 0
    places = {"{parcel}": str(served.parcel), "{maker}": str(served.folder / "maker")}
    ran = widetrail(*(places.get(word, word) for word in call))
    assert (ran.status, words in ran.out + ran.err) == (status, True), ran.out + ran.err


def test_a_seat_that_is_given_up_is_left_alone(served: World) -> None:
    _plan(served)
    _walk(served, "potting-shed")
    widetrail("seat", "give-up", served.parcel, "--yes")
    assert _walk(served, "glass-office").status == 0
    report = widetrail("report", served.parcel, "--json").json
    assert [i["state"] for i in report["items"]] == ["carried", "given up"]
    assert report["next_machine"] == ""


@pytest.mark.sweep
def test_undo_and_settle_leave_a_seat_as_it_is_and_say_so(served: World) -> None:
    _plan(served)
    for name in ("potting-shed", "glass-office", "potting-shed"):
        assert _walk(served, name).status == 0
    kept = served.machine("potting-shed")
    ran = widetrail("settle", "--machine", kept, "--yes")
    assert ran.status == 0 and "whether glass-office has it is not known here" in ran.err
    assert not list(kept.rglob("*.age"))
    assert _walk(served, "glass-office").status == 0
    ran = widetrail("undo", "--machine", served.new, "--yes")
    assert (
        ran.status == 0 and "the seat of Loamlens: Licence: claimed on the new computer" in ran.err
    )
    assert (
        "active"
        in served.new.joinpath(
            "disks/C/Users/imarsh/AppData/Roaming/Loamlens/licence.json"
        ).read_text()
    )


def test_a_run_is_not_settled_while_its_seat_is_on_its_way(
    trails: Callable[..., SeatTrail],
) -> None:
    one = trails(offline=True)
    one.on(most=3)
    ran = widetrail("settle", "--machine", one.folder / "potting-shed", "--yes")
    assert ran.status == 3 and "is on its way" in ran.err


# Requests and answers


class _MixesUp(Answers):
    """A person who fetches answers, and saves the first one under the name of the second too."""

    def __init__(self, service: Service, folder: Path) -> None:
        super().__init__({})
        self._service, self._folder, self.first = service, folder, b""

    def act(self, task: Task, play: Callable[[Sequence[str]], None]) -> bool:
        name = re.findall(r"[^/]+\.request", task.words)[0]
        (request,) = self._folder.rglob(name)
        asked = json.loads(request.read_bytes())
        told = {"request": asked["request"], "answer": self._service.judge(asked)}
        self.first = self.first or json.dumps(told).encode()
        request.with_suffix(".answer").write_bytes(self.first)
        return True


def test_an_answer_to_another_request_is_refused_and_the_right_file_named(
    trails: Callable[..., SeatTrail],
) -> None:
    def by_hand(text: str) -> str:
        errand = '- {run: [errand, "{request}", "{answer}"], makes: "{answer}", repeat: safe}'
        assert text.count(errand) == 2
        return text.replace(errand, '- {person: Fetch the answer., makes: "{answer}"}')

    one = trails(offline=True, edit=by_hand)
    hands = _MixesUp(one.service, one.folder / "visitor-hall")
    for station in ("old", "new", "old", "between", "old", "new", "between"):
        visit = one.visit(station)
        visit.company = Company(hands, patience=Patience(waits=False))
        assert not visit.walk(one.now).bad
    wrong = one.walk("new").failed[0].outcome
    assert getattr(wrong, "reason", "") == (
        "what lies in loamlens-claim-glass-office-for-potting-shed-2.answer answers "
        "loamlens-release-potting-shed-for-glass-office-1.request; the right one is the answer to "
        "loamlens-claim-glass-office-for-potting-shed-2.request"
    )
    assert one.words[1] != "active" and one.seat.stage == "released"


def test_the_words_for_a_wrong_answer_name_the_right_file_wherever_it_is_known() -> None:
    names = [Exchange("loamlens", p, "a b", "ä", n) for p, n in (("release", 1), ("claim", 2))]  # type: ignore[arg-type]
    requests = {"r1": names[0].request, "r2": names[1].request}
    told = wrong_answer(names[1].answer, "r2", "r1", requests, {"r2": "elsewhere.answer"})
    assert f"answers {names[0].request}; the right one lies in elsewhere.answer" in told
    assert names[0].stem != names[1].stem and names[0].stem.isascii() and " " not in names[0].stem


def test_an_errand_needs_its_program_where_it_is_run(trails: Callable[..., SeatTrail]) -> None:
    one = trails(offline=True)
    one.on(most=3)
    (one.folder / "visitor-hall/disks/root/opt/loamlens-errand/loamlens-errand").unlink()
    with pytest.raises(Exception, match="cannot run the errand of Loamlens"):
        one.walk("between")


def test_all_seats_share_one_errand(trails: Callable[..., SeatTrail]) -> None:
    one = trails(offline=True)
    text = one.recipe.text.replace("id: loamlens\n", "id: rootlens\n")
    both = [one.recipe, load_recipe_text(text, "rootlens.trail.yaml", KINDS)]
    only = Choices(only=frozenset({"loamlens.licence", "rootlens.licence"}))
    sides = one.machine("old"), one.machine("new"), medium_of(one.folder)
    plan = make_plan(both, *sides, NOW, only, sealed=True)
    assert len(plan.legs) == len(one.parcel().plan.legs)
    errands = [leg for leg in plan.legs if leg.station == "between"]
    assert [len(leg.steps) for leg in errands] == [2, 2]


def test_releasing_after_packing_is_offered_with_what_it_saves(
    trails: Callable[..., SeatTrail],
) -> None:
    notices = " ".join(trails(offline=True).parcel().plan.notices)
    assert "--release-after packing) would save 2 trips" in notices


def test_an_older_seat_is_not_moved_to_another_machine_without_the_makers_word(
    trails: Callable[..., SeatTrail],
) -> None:
    one = trails()
    one.on(most=3)
    file = one.folder / "glass-office/machine.yaml"
    file.write_text(file.read_text().replace("machine: glass-office", "machine: tea-room"))
    one.set_out()
    waits = one.walk("old").waits[0].outcome
    assert "the seat was released for glass-office in an earlier move" in str(waits)
    assert not one.walk("old", {"seat_free": "yes"}).bad


def test_the_host_of_an_add_in_must_be_on_new(world: World) -> None:
    recipes = [world.folder / f"recipes/{n}.trail.yaml" for n in ("mistvane", "trellisdesk")]
    (world.new / "disks/C/Program Files/Trellisdesk/trellisdesk.exe").unlink()
    sides = FolderMachine(world.old), FolderMachine(world.new), medium_of(world.folder)
    loaded = [load_recipe(path, KINDS) for path in recipes]
    with pytest.raises(Exception) as caught:
        make_plan(loaded, *sides, NOW, sealed=True)
    assert "trellisdesk on the new computer must be >=5, but is not there" in str(
        getattr(caught.value, "obstacles", "")
    )


# Recipes


LICENCE = """
recipe: 1
revision: 1
application:
  id: fern
  name: Fern
  programs: {fern: fern}
recognise: [{sign: {file: "{config}/fern"}}]
places:
  root: {folder: "{config}/Fern"}
items:
  all: {title: All, from: root, ALL, routes: [{name: copy, legs: [{new: [copy]}]}]}
  licence:
    kind: licence
    serial: {json: "{root}/licence.json", at: /serial}
    active: {json: "{root}/licence.json", at: /state, is: active}
    routes:
      - name: online
        free: [{old: [{run: [fern, free], FREE}]}]
        claim: [{new: [{run: [fern, claim], stdin: "{serial}"}]}]
"""


def _findings(old: str, new: str) -> list[Finding]:
    text = LICENCE.replace(old, new) if old else LICENCE
    text = text.replace(", ALL", ", leave: licence.json").replace(", FREE", "")
    _, findings = examine(text, "fern.trail.yaml", KINDS)
    return [f for f in findings if f.rule not in ("no-check", "one-way-licence")]


@pytest.mark.parametrize(
    ("old", "new", "rule", "words"),
    [
        (", ALL", "", "licence-carried", '"all" would copy licence.json'),
        (", FREE", ", changes: root", "licence-step", 'no "changes"'),
        (", FREE", ", undo: [fern, x]", "licence-step", 'no "undo"'),
        ("{run: [fern, free], FREE}", "copy", "licence-step", '"copy" is not a step of a licence'),
        ("[fern, free]", '[fern, "{serial}"]', "secret-argument", "stands in an argument"),
        ("{run: [fern, free], FREE}", '{person: "Send {serial}."}', "secret-shown", "the serial"),
        (
            "claim: [{new:",
            "claim: [{old:",
            "licence-legs",
            '"claim" does not end on the new computer',
        ),
        ("[fern, free]", '[fern, "{answer}"]', "unmade", 'no step makes "{answer}"'),
        (", FREE", ', makes: "{answer}"', "no-exchange", "cannot be recognised"),
        ("is: active", "is: active, not: active", "contradiction", "are the same"),
        ("/state, is", "/state", "mapping", "is"),
        (", FREE", ", exit: 0, refused: 0", "exit", "well and refused"),
        (
            '{json: "{root}/licence.json", at: /state,',
            "{output: [fern, s], at: '(.)',",
            "licence-home",
            "in a home that is not the account's",
        ),
    ],
)
def test_a_licence_that_would_not_be_safe_is_found_by_lint(
    old: str, new: str, rule: str, words: str
) -> None:
    assert _findings("", "") == []
    found = _findings(old, new)
    assert any(words in f.message for f in found), found
    assert rule == "mapping" or rule in {f.rule for f in found}


# The service


def _ask(address: str, path: str, body: Any, **headers: str) -> tuple[int, Any]:
    sent = urllib.request.Request(f"{address}{path}", json.dumps(body).encode(), headers)
    try:
        with urllib.request.urlopen(sent, timeout=10) as reply:
            return reply.status, json.load(reply)
    except urllib.error.HTTPError as error:
        with error:
            return error.code, json.load(error)


@pytest.fixture
def service(tmp_path: Path) -> Service:
    seat = {"product": "Fern", "serial": "ABC-1", "count": 1, "holders": ["a"]}
    make_service(tmp_path / "maker", [seat], b"fern")
    return Service(tmp_path / "maker")


def test_the_service_answers_the_same_request_the_same_and_signs_it(service: Service) -> None:
    asked = {
        "product": "Fern",
        "purpose": "release",
        "machine": "a",
        "seat": seat_name("ABC-1"),
        "request": "1",
    }
    with serving(service) as address:
        first, again = (_ask(address, "/seat", asked)[1]["answer"] for _ in range(2))
        assert first == again and service.holders("ABC-1") == ()
        key = (service.folder / PUBLIC).read_bytes()
        assert jwt.decode(first, key, algorithms=["EdDSA"])["verdict"] == "granted"
        for more, reason in (
            ({"request": "2"}, "a does not hold the seat"),
            ({"request": "3", "seat": "0"}, "the serial is not known"),
            ({"request": "4", "purpose": "eat"}, "nothing that can be asked for"),
        ):
            answer = _ask(address, "/seat", {**asked, **more})[1]["answer"]
            assert reason in jwt.decode(answer, key, algorithms=["EdDSA"])["reason"]
        token = {"Authorization": f"Bearer {service.token}"}
        for path, body in (
            ("/seat", {"product": "Fern"}),
            ("/x", asked),
            ("/faults", {"fire": 1}),
            ("/faults", {"cut": "9" * 5000}),
            ("/faults", {"cut": -5}),
            ("/seat", [asked]),
            ("/seat", {**asked, "machine": {"a": 1}}),
            ("/seat", {**asked, "request": "\ud800"}),
            ("/seat", {**asked, "machine": "m" * 5000}),
        ):
            assert _ask(address, path, body, **token)[0] == 400
        assert _ask(address, "/faults", {"cut": 2}, **token)[1] == {"faults": {"cut": 2}}
        assert _ask(address, "/faults", {"cut": 3})[0] == 403
        for more in ({"Host": "evil.example"}, {"Origin": "http://evil.example"}):
            assert _ask(address, "/seat", asked, **more)[0] == 403
        assert service.faults == {"cut": 2}


def test_faults_are_read_as_a_person_gives_them() -> None:
    assert read_faults(["cut:2", "slow"]) == {"cut": 2, "slow": -1}
    with pytest.raises(InputUnusable, match="fault not found"):
        read_faults(["cut:many"])


def test_a_second_seat_is_not_given_while_one_holds_it(service: Service) -> None:
    asked = {
        "product": "Fern",
        "purpose": "claim",
        "machine": "b",
        "seat": seat_name("ABC-1"),
        "request": "9",
    }
    told = jwt.decode(service.judge(asked), options={"verify_signature": False})
    assert told["reason"] == "the seat is held by a" and service.holders("ABC-1") == ("a",)


def test_a_visit_of_an_older_copy_does_nothing_with_a_seat(
    trails: Callable[..., SeatTrail], tmp_path: Path
) -> None:
    import shutil

    one = trails()
    one.on(most=2)
    shutil.copytree(one.parcel_folder, tmp_path / "copy")
    one.on()
    assert one.seat.stage == "claimed"
    parcel = Parcel(tmp_path / "copy", Effects())
    parcel.seal = one.parcel().seal
    with pytest.raises(Exception, match="not the parcel as it left this computer"):
        Visit(parcel, one.machine("old"), station="old")


def test_a_seat_that_new_may_have_is_not_brought_back(trails: Callable[..., SeatTrail]) -> None:
    one = trails()
    one.on(most=3)
    one.service.faults = {"cut": 1}
    one.walk("new")
    with pytest.raises(Exception, match="cannot be brought back now"):
        bring_back(one.parcel(), one.line, one.now, gone=False)
    assert one.line.item == ITEM


def test_recipes_of_the_demo_with_licences_have_no_findings(world: World) -> None:
    for name in ("loamlens", "mistvane", "trellisdesk"):
        loaded: Loaded = load_recipe(world.folder / f"recipes/{name}.trail.yaml", KINDS)
        assert loaded.findings == ()
