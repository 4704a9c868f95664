"""Traces: what a program keeps is found by experiment, and a recipe is drafted from that."""

from __future__ import annotations

import importlib.util
import json
import os
import re
import shutil
import sys
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import contents, swept, widetrail
from tracing_judged import ANSWERS, judge, unneeded
from widetrail.errors import InputUnusable
from widetrail.machine import FolderMachine, isolation
from widetrail.tracing import Trace, load_script, load_trace, run_trace, system_calls
from widetrail.tracing.classes import Classes
from widetrail.tracing.fingerprint import Fingerprint
from widetrail.tracing.lab import Screen
from widetrail.tracing.minimal import least
from widetrail.tracing.noise import rates
from widetrail.tracing.parts import take_away
from widetrail.tracing.record import Part
from widetrail.tracing.scrubbing import scrub
from widetrail.tracing.secrecy import is_secret, without_secrets
from widetrail.tracing.shapes import patterns

REAL = Path(__file__).parent.parent / "examples/real"
REALS = ("abook", "git", "newsboat", "taskwarrior")
STAND_INS = [name for name in ANSWERS if name not in REALS]
ALL = os.environ.get("WIDETRAIL_STOPS") == "all"
SOME = ("wicketleaf", "tillbook")
"""The stand-ins that are traced in a sweep; benchmarks/tracing.py traces all of them."""

RIGHT = 0.85
"""Of what is taken, that much at least must be kept by the program."""

FEW = 2
"""Files that may be wrong of a program that keeps few: a host's that an add-in shows, a backup that
lies among them. benchmarks/tracing.py tells what is right of all."""

seen_by_all = pytest.mark.skipif(bool(system_calls.why_not()), reason=system_calls.why_not() or "-")


def held_to_the_answer(folder: Path, name: str, script: Path) -> None:
    """Trace a program, hold that against its answer, and draft a recipe that passes."""
    machine = folder / "machines" / load_script(script).machine
    before = contents(machine)
    record = folder / f"{name}.json"
    ran = widetrail("trace", "run", script, "--to", record)
    assert ran.status == 0, ran.err
    assert contents(machine) == before, "the machine itself is never changed"
    trace = load_trace(record)
    found = judge(name, trace, FolderMachine(machine))
    assert not found.missed
    assert not found.values_missed
    assert not found.places_missed
    assert found.precision >= RIGHT or len(found.wrong) <= FEW, found.wrong
    assert not unneeded(trace, machine), "the set is minimal"
    drafted = widetrail("trace", "draft", record, folder / "drafted")
    assert drafted.status == 0, drafted.out
    assert "it passes" in drafted.out


@seen_by_all
@pytest.mark.parametrize("name", swept(STAND_INS if ALL else SOME, ["wicketleaf"]))
def test_what_a_stand_in_keeps_is_found_and_drafted(
    name: str, first_world: Path, tmp_path: Path
) -> None:
    shutil.copytree(first_world, tmp_path / "world", symlinks=True)
    folder = tmp_path / "world"
    held_to_the_answer(folder, name, folder / "traces" / f"{name}.trace.yaml")


@seen_by_all
@pytest.mark.skipif(bool(isolation.why_not()), reason=isolation.why_not() or "-")
@pytest.mark.parametrize("name", swept(REALS, []))
def test_what_a_real_program_keeps_is_found_and_drafted(name: str, tmp_path: Path) -> None:
    spec = importlib.util.spec_from_file_location("build_real", REAL / "build.py")
    assert spec is not None
    assert spec.loader is not None
    build = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(build)
    if left := build.build(tmp_path, [name]):
        pytest.skip(next(iter(left.values())))
    held_to_the_answer(tmp_path, name, tmp_path / f"{name}.trace.yaml")


# Proofs


def proved(recipe: Path, machine: Path) -> tuple[int, dict[str, set[str]]]:
    ran = widetrail("trace", "prove", recipe, "--machine", machine, "--json")
    told: dict[str, set[str]] = {}
    for proof in json.loads(ran.out)["proofs"]:
        told.setdefault(proof["verdict"], set()).add(proof["what"])
    return ran.status, told


@seen_by_all
@pytest.mark.sweep
def test_a_recipe_is_proved_by_taking_away(first_world: Path, tmp_path: Path) -> None:
    machine = first_world / "machines/potting-shed"
    whole = first_world / "recipes/huemoss.trail.yaml"
    stamps, palettes = (f"C:/Users/ines/Documents/Huemoss/{n}" for n in ("Stamps", "Palettes"))
    status, told = proved(whole, machine)
    assert status == 0
    assert told == {"needed": {"all of it", f"{stamps}/*.stamp", f"{palettes}/*.palette"}}
    less = tmp_path / "huemoss.trail.yaml"
    text = whole.read_text()
    less.write_text(text[: text.index("  stamps:\n    title")])
    status, told = proved(less, machine)
    assert status == 1, "what it leaves is missed"
    assert len(told["missed"]) == 9
    assert all(path.startswith(stamps) for path in told["missed"])


@seen_by_all
def test_what_the_recipe_has_made_again_is_not_missed(first_world: Path) -> None:
    recipe = first_world / "recipes/seedling-quest.trail.yaml"
    status, told = proved(recipe, first_world / "machines/potting-shed")
    top = "C:/Users/ines/AppData/Roaming/SeedlingQuest"
    assert status == 0
    assert told == {
        "needed": {"all of it", f"{top}/trails/*.json"},
        "silent": {f"{top}/classes.json"},
        "made again": {f"{top}/teacher.toml"},
    }


@seen_by_all
@pytest.mark.sweep
def test_each_line_of_paths_is_proved(first_world: Path) -> None:
    recipe = first_world / "recipes/dewcast.trail.yaml"
    status, told = proved(recipe, first_world / "machines/potting-shed")
    assert status == 0
    lines = {"paths in sqlite marker.recording", "paths in text (?m)^(file:.*)$"}
    assert lines <= told["needed"], "without them, the program shows something else"


# A program that does everything

PROGRAM = """
import json, os, random, sys, time
home = os.environ["HOME"]
config = json.load(open(home + "/.config/shelf/shelf.json"))
def path(name): return os.path.join(home, ".local/share/shelf", name)
books = path("books.txt")
known = open(books).read().splitlines() if os.path.exists(books) else []
ways = sys.argv[1:]
with open(path("log.txt"), "a") as log: log.write("begun\\n")
if not os.path.exists(path("looks.json")):
    with open(path("looks.json"), "w") as looks: looks.write('{"font": "usual"}')
with open(path("cache.bin"), "w") as cache: cache.write(str(time.time()))
with open(path("shelf.lock"), "w") as lock: pass
os.remove(path("shelf.lock"))
if ways[0] == "add":
    with open(path("books.txt"), "a") as books: books.write(ways[1] + "\\n")
elif ways[0] == "theme":
    config["theme"] = ways[1]
    json.dump(config, open(home + "/.config/shelf/shelf.json", "w"))
elif ways[0] == "key":
    with open(path("token.json"), "w") as out: json.dump({"token": input()}, out)
elif ways[0] == "hang": time.sleep(600)
elif ways[0] == "flood":
    while True: print("more")
elif ways[0] == "chance": print(random.random(), random.choice("abcdefgh") * random.randint(1, 99))
elif ways[0] == "leave":
    import shutil; shutil.rmtree(path("")); print("gone")
elif ways[0] == "away":
    if os.fork() == 0:
        os.setsid(); time.sleep(1); os._exit(0)
    print("away", *known)
elif ways[0] == "list":
    print("Shelf,", config["theme"], "at", time.time())
    for book in known: print("-", book)
"""


@pytest.fixture
def shelf(tmp_path: Path) -> Path:
    """A machine with a program that keeps some of everything."""
    program = tmp_path / "shelf.py"
    program.write_text(PROGRAM)
    folder = tmp_path / "machines/desk"
    home = folder / "disk/home/alva"
    for name, text in {
        ".config/shelf/shelf.json": '{"theme": "fern"}',
        ".local/share/shelf/books.txt": "Mosses\nFerns\n",
        ".local/share/shelf/log.txt": "begun\n",
        ".local/share/shelf/looks.json": '{"font": "a chosen one"}',
        ".local/share/shelf/notes.txt": "of somebody else's\n",
        "letter.txt": "no business of a program's\n",
    }.items():
        (home / name).parent.mkdir(parents=True, exist_ok=True)
        (home / name).write_text(text)
    (folder / "disk/opt/shelf").mkdir(parents=True)
    (folder / "disk/opt/shelf/shelf").write_text("")
    (folder / "machine.yaml").write_text(
        "machine: desk\nplatform: linux\nsystem: '12'\nuser: alva\n"
        "programs:\n  - path: /opt/shelf/shelf\n"
        f"    start: [{sys.executable}, {program}]\n    paths: machine\n"
        "disks: {/: {folder: disk}}\n"
    )
    return tmp_path


def traced(folder: Path, *, screen: str = "list", acts: str = "", more: str = "") -> Trace:
    script = folder / "shelf.trace.yaml"
    script.write_text(
        "trace: a shelf\nmachine: desk\nprogram: shelf\n"
        f"screen: [shelf, {screen}]\nidle: 1\n{more}{acts}"
    )
    return run_trace(load_script(script), folder / "machines")


ACTS = """\
acts:
  - {did: added a book, marker: Bachstelze 7, run: [[shelf, add, Bachstelze 7]], repeat: 2}
  - {did: another theme, marker: moss, run: [[shelf, theme, moss]]}
  - {did: typed a key, marker: s3cr3t-t0ken, secret: yes, run: [[shelf, key]], input: s3cr3t-t0ken}
"""
DATA = "/home/alva/.local/share/shelf"
CONFIG = "/home/alva/.config/shelf/shelf.json"


@seen_by_all
def test_everything_has_its_class_with_its_evidence(shelf: Path) -> None:
    trace = traced(shelf, acts=ACTS)
    machine = FolderMachine(shelf / "machines/desk")
    found = {one.path: one for one in Classes(trace, machine).all}
    kinds = {path: one.kind for path, one in found.items()}
    assert kinds == {
        CONFIG: "setting",
        f"{DATA}/books.txt": "data",
        f"{DATA}/log.txt": "log",
        f"{DATA}/cache.bin": "cache",
        f"{DATA}/shelf.lock": "lock",
        f"{DATA}/token.json": "secret",
        f"{DATA}/notes.txt": "unclear",
        f"{DATA}/looks.json": "unclear",  # it comes back, but as it is by default
    }
    assert "only appended to, in 3 of 3 starts" in found[f"{DATA}/log.txt"].why
    assert 'nothing for "- Mosses"' in found[f"{DATA}/books.txt"].why
    assert trace.unstable == ("Shelf, fern #t #.#",) or len(trace.unstable) == 1, "a clock"
    changed = [v for r in trace.runs for t in r.touched for v in t.values if t.path == CONFIG]
    assert [(v.at, v.before, v.after) for v in changed] == [("/theme", "fern", "moss")]
    assert "s3cr3t" not in json.dumps(trace.as_json()), "a secret stands in no record"
    marked = {t.path: t.marker for r in trace.runs for t in r.touched if t.marker}
    assert marked[f"{DATA}/books.txt"] == "line 3"
    assert marked[CONFIG] == "value /theme"


def test_without_system_calls_the_same_is_found(
    shelf: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(system_calls, "why_not", lambda: "strace is not installed")
    trace = traced(shelf, acts=ACTS)
    assert "system calls" not in trace.eyes
    assert "strace is not installed" in trace.blind
    machine = FolderMachine(shelf / "machines/desk")
    kinds = {one.path: one.kind for one in Classes(trace, machine).all}
    assert kinds == {
        CONFIG: "setting",
        f"{DATA}/books.txt": "data",
        f"{DATA}/log.txt": "log",
        f"{DATA}/cache.bin": "cache",
        f"{DATA}/token.json": "secret",
        f"{DATA}/notes.txt": "unclear",
        f"{DATA}/looks.json": "unclear",  # it comes back, but as it is by default
    }


@pytest.mark.parametrize(
    ("screen", "why"),
    [
        ("chance", "prints something else each time"),
        ("nothing", "prints nothing that can be compared"),
        pytest.param("flood", "prints nothing that can be compared", marks=pytest.mark.sweep),
    ],
)
def test_a_print_out_that_cannot_judge_is_refused(shelf: Path, screen: str, why: str) -> None:
    with pytest.raises(InputUnusable) as told:
        traced(shelf, screen=screen)
    assert told.value.what == why
    assert told.value.todo


@pytest.mark.parametrize("way", ["hang", "leave", "away"])
def test_an_act_that_misbehaves_is_told_and_changes_nothing_else(
    shelf: Path, way: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.tracing.lab.SECONDS", 2)
    before = contents(shelf / "machines/desk")
    trace = traced(shelf, acts=f"acts: [{{did: {way}, run: [[shelf, {way}]]}}]\n")
    assert contents(shelf / "machines/desk") == before
    [run] = [run for run in trace.runs if run.kind == "act"]
    assert (run.status == -1) == (way == "hang")
    if way == "leave":
        gone = {touch.path for touch in run.touched if "removed" in touch.ways}
        assert f"{DATA}/books.txt" in gone


def test_what_is_wrong_with_a_script_is_told(shelf: Path) -> None:
    script = shelf / "shelf.trace.yaml"
    script.write_text("trace: x\nmachine: desk\nprogram: moss\nscreen: [moss]\n")
    ran = widetrail("trace", "run", script)
    assert ran.status == 2
    assert "program not found" in ran.err
    script.write_text("trace: x\nmachine: desk\nprogramme: shelf\nscreen: [shelf]\n")
    ran = widetrail("trace", "run", script)
    assert ran.status == 2
    assert 'unknown key "programme"' in ran.err + ran.out
    (shelf / "other.json").write_text("{}")
    ran = widetrail("trace", "show", shelf / "other.json")
    assert ran.status == 2
    assert "is no record of a trace" in ran.err


def test_the_page_shows_what_the_terminal_shows(shelf: Path) -> None:
    pytest.importorskip("matplotlib")
    record, page = shelf / "shelf.traced.json", shelf / "shelf.html"
    record.write_text(json.dumps(traced(shelf).as_json()))
    ran = widetrail("trace", "show", record, "--page", page)
    assert ran.status == 0, ran.err
    told = page.read_text()
    for path in (CONFIG, f"{DATA}/books.txt", f"{DATA}/log.txt"):
        assert path in ran.out
        assert path in told
    assert told.count("<svg") == 3
    assert not re.search(r"(?:src|href)=.https?:", told)


@pytest.mark.parametrize(
    ("name", "is_one"),
    [
        ("/accounts/0/password", True),
        ("C:/x/passwords.json", True),
        ("Software\\Shelf\0Token", True),
        ("credential/helper", False),
        ("/theme", False),
    ],
)
def test_a_name_suggests_a_secret(name: str, is_one: bool) -> None:
    assert is_secret(name) == is_one
    assert without_secrets("Signed in, token: 7f3a b") == "Signed in, token: ***"


def test_a_draft_has_samples_in_which_words_are_made_up(shelf: Path) -> None:
    data = shelf / "machines/desk/disk/home/alva/.local/share/shelf"
    (data / "books.txt").write_text("Alma Brook: Mosses, 2nd ed.\nalma@garden.test, 7 pages\n")
    (data / "token.json").write_text('{"token": "x7-91-alma"}')
    record = shelf / "shelf.traced.json"
    record.write_text(json.dumps(traced(shelf).as_json()))
    ran = widetrail("trace", "draft", record, shelf / "drafted")
    assert ran.status == 0, ran.out
    old = shelf / "drafted/machines/shelf-old/disk/home"
    kept = {path.name: path.read_text() for path in old.rglob("*") if path.is_file()}
    assert "token.json" not in kept, "a secret that is not needed stays behind"
    assert not re.search(r"(?i)alma|brook|mosses|garden", "".join(kept.values()))
    first, second = kept["books.txt"].splitlines()
    assert re.fullmatch(r"[A-Z][a-z]{3} [A-Z][a-z]{4}: [A-Z][a-z]{5}, 2[a-z]{2} [a-z]{2}\.", first)
    assert second.split(",")[0].endswith(".example")
    assert second.endswith(", 7 " + second.rpartition(" ")[2])


def test_words_are_made_up_only_where_the_program_goes_on(tmp_path: Path) -> None:
    folder = tmp_path / "machine"
    (folder / "disk/home/alva").mkdir(parents=True)
    (folder / "machine.yaml").write_text(
        "machine: desk\nplatform: linux\nsystem: '12'\nuser: alva\ndisks: {/: {folder: disk}}\n"
    )
    machine = FolderMachine(folder)
    good, needed, picture = (f"/home/alva/{name}" for name in ("good", "needed", "picture"))
    machine.host(good).write_text("Dear Alma, the Moss is green\n")
    machine.host(needed).write_text("Magic Words\n")
    machine.host(picture).write_bytes(b"\0\1Alma")

    def look() -> Screen:
        return Screen(0 if machine.host(needed).read_text() == "Magic Words\n" else 1, "1 letter")

    assert scrub(machine, [good, needed, picture], look) == [needed]
    assert "Alma" not in machine.host(good).read_text()
    assert machine.host(needed).read_text() == "Magic Words\n"


# Its parts


@given(st.sets(st.integers(0, 60)), st.integers(1, 61))
def test_the_least_that_is_enough_is_found(needed: set[int], count: int) -> None:
    needed &= set(range(count))
    tried = 0

    def enough(kept: Sequence[int]) -> bool:
        nonlocal tried
        tried += 1
        return needed <= set(kept)

    assert sorted(least(list(range(count)), enough)) == sorted(needed)
    rounds = 2 * (count).bit_length() + 3
    assert tried <= (len(needed) + 1) * rounds


def test_of_two_that_stand_in_for_each_other_one_is_kept() -> None:
    assert least(["a", "b", "c"], lambda kept: "c" in kept and bool({"a", "b"} & set(kept))) == [
        "b",
        "c",
    ]


def test_rates_say_how_many_runs_would_tell() -> None:
    sure = rates({"x": (8, 8, 0, 8), "noise": (8, 8, 8, 8)})
    assert sure["x"].is_sure
    assert not sure["noise"].is_sure
    assert sure["noise"].would_do == 0, "no number of runs would tell"
    unsure = rates({"x": (2, 2, 0, 2), "noise": (1, 2, 1, 2)})["x"]
    assert not unsure.is_sure
    enough = unsure.would_do
    assert rates({"x": (enough, enough, 0, enough), "noise": (1, 2, 1, 2)})["x"].is_sure


def test_names_that_differ_in_one_place_are_told_as_one() -> None:
    signs = [f"/l/{sign}.sign/{n}.png" for sign in "abcd" for n in range(ord(sign) - 94)]
    found = patterns([*signs, "/l/index.db", "/l/x/y"])
    assert {name: len(some) for name, some in found.items()} == {
        "/l/*.sign/*.png": len(signs),
        "/l/index.db": 1,
        "/l/x/y": 1,
    }


def test_a_fingerprint_sees_every_change_and_no_other(tmp_path: Path) -> None:
    (tmp_path / "sub").mkdir()
    for name in ("same", "longer", "as long", "gone", "sub/read"):
        (tmp_path / name).write_text("abc")
    print_ = Fingerprint((str(tmp_path),))
    tells = print_.forget_reading()
    assert list(print_.differences(reading=True)) == []
    tells = print_.forget_reading() and tells
    (tmp_path / "longer").write_text("abcd")
    (tmp_path / "as long").write_text("xyz")
    (tmp_path / "gone").unlink()
    (tmp_path / "new").write_text("abc")
    (tmp_path / "sub/read").read_text()
    (tmp_path / "same").chmod(0o600)
    found = {
        (seen.path.removeprefix(f"{tmp_path}/"), seen.how)
        for seen in print_.differences(reading=tells)
        if not seen.folder
    }
    changed = {(name, "written") for name in ("longer", "as long", "same")}
    expected = {*changed, ("gone", "removed"), ("new", "created")}
    assert found - {("new", "read")} == expected | ({("sub/read", "read")} if tells else set())


def test_values_are_taken_away_without_another_change(shelf: Path) -> None:
    machine = FolderMachine(shelf / "machines/desk")
    machine.host(CONFIG).write_text('{\n  "theme": "fern",\n  "size": 3\n}\n')
    take_away(machine, [Part(CONFIG, "json", "/theme"), Part(CONFIG, "json", "/nowhere")])
    assert machine.host(CONFIG).read_text() == '{\n  "size": 3\n}\n'


def test_a_package_that_is_missing_is_told_first(
    shelf: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("widetrail.cli.trace_view.find_spec", lambda name: None)
    ran = widetrail("trace", "run", shelf / "shelf.trace.yaml")
    assert ran.status == 2
    assert "scipy" in ran.err
    assert 'pip install "widetrail[trace]"' in ran.err
