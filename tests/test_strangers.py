"""What a recipe, parcel, machine or home made by a stranger may try, and what comes of it."""

from __future__ import annotations

import base64
import csv
import io
import json
import os
import shutil
import signal
import sqlite3
import struct
import threading
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pytest

from build import NOW, machine, trail
from conftest import contents, widetrail
from test_doing import new
from widetrail.errors import Halted, InputUnusable, MachineUnusable, ParcelUnusable
from widetrail.formats import parser_process
from widetrail.formats.canonical import canonical, digest
from widetrail.formats.expressions import matches
from widetrail.formats.interface import Unreadable, Unwritable
from widetrail.formats.masking import Masker
from widetrail.formats.outside import read_outside
from widetrail.formats.parser_process import ask, ask_pattern
from widetrail.formats.sqlite import run_statements
from widetrail.formats.texts import for_people
from widetrail.machine import Effects, this_machine
from widetrail.machine.moves import Move
from widetrail.machine.own_folders import own_state
from widetrail.parcel.seal import WORK_MOST, make_seal, open_seal, remember_sealed
from widetrail.recipe import load_recipe
from widetrail.steps import KINDS
from widetrail.steps.undo import UndoAct

COPY = new("copy")
POSIX = pytest.mark.skipif(os.name == "nt", reason="needs the files of a POSIX system")

# Files that are none


def fifo(path: Path) -> None:
    os.mkfifo(path)


def link(path: Path) -> None:
    path.symlink_to("/dev/zero")


def sparse(path: Path) -> None:
    with path.open("wb") as file:
        file.truncate(64 << 30)


ODD = pytest.mark.parametrize("odd", [fifo, link, sparse, Path.mkdir])


@POSIX
@ODD
def test_an_odd_file_is_refused_at_once(tmp_path: Path, odd: Callable[[Path], None]) -> None:
    recipe = tmp_path / "x.trail.yaml"
    odd(recipe)
    with pytest.raises(OSError):
        read_outside(recipe)
    with pytest.raises(InputUnusable, match=r"x\.trail\.yaml"):
        load_recipe(recipe, KINDS)


@POSIX
@ODD
@pytest.mark.parametrize("part", ["data/plan.json", "data/recipes/", "logbook/000001.json"])
def test_an_odd_file_in_a_parcel_is_refused_at_once(
    tmp_path: Path, odd: Callable[[Path], None], part: str
) -> None:
    one = trail(tmp_path, COPY)
    there = next(p for p in one.at.rglob("*") if p.is_file() and part in p.as_posix())
    there.unlink()
    odd(there)
    before = contents(tmp_path / "old")
    with pytest.raises(ParcelUnusable):
        one.walk("old")
    assert contents(tmp_path / "old") == before


# Links that lead out


@POSIX
@pytest.mark.parametrize("part", ["cargo", "index", "made", "secrets", "recipes", ""])
@pytest.mark.parametrize("after", ["plan", "old", "new"])
def test_a_parcels_folder_that_is_a_link_touches_nothing(
    tmp_path: Path, part: str, after: str
) -> None:
    one = trail(tmp_path, COPY)
    if after != "plan":
        one.walk("old")
    if after == "new":
        one.walk("new")
    victim = tmp_path / "victim"
    (victim / "deep").mkdir(parents=True)
    (victim / "deep" / "letter").write_text("mine")
    at = one.at / "data" / part if part else one.at / "logbook"
    if at.is_dir():
        shutil.copytree(at, victim, dirs_exist_ok=True)
        shutil.rmtree(at)
    at.symlink_to(victim)
    before = contents(victim)
    with pytest.raises(ParcelUnusable, match="link"):
        one.walk("new" if after != "plan" else "old")
    said = widetrail("settle", "--parcel", one.at, "--machine", tmp_path / "new", "--yes")
    assert said.status != 0
    assert contents(victim) == before


@POSIX
def test_a_link_that_anybody_may_have_made_leads_nowhere(tmp_path: Path, own_home: Path) -> None:
    (tmp_path / "victim").mkdir()
    (tmp_path / "way").symlink_to(tmp_path / "victim")
    here = this_machine()
    with pytest.raises(MachineUnusable, match="link"):
        here.host(f"{tmp_path.as_posix()}/way/file")
    assert here.host(f"{tmp_path.as_posix()}/victim/file") == tmp_path / "victim" / "file"


# A plan and a logbook that were written anew, with sound digests


def rewrite(at: Path, change: Callable[[dict[str, Any]], None], what: str = "log") -> None:
    """Change the plan, or the first entry of the logbook, and make every digest fit again."""
    files = sorted((at / "logbook").iterdir())
    bodies = [json.loads(file.read_bytes().split(b"\n")[0]) for file in files]
    if what == "plan":
        plan = json.loads((at / "data/plan.json").read_bytes())
        change(plan)
        (at / "data/plan.json").write_bytes(canonical(plan))
        newest = next(body for body in reversed(bodies) if body.get("plan"))
        newest["plan"] = digest(canonical(plan))
    else:
        change(bodies[0])
    before = ""
    for file, body in zip(files, bodies, strict=True):
        line = canonical({**body, "before": before})
        file.write_bytes(line + b"\n" + digest(line).encode() + b"\n")
        before = digest(file.read_bytes())


def test_a_plan_that_was_only_written_anew_is_walked(tmp_path: Path) -> None:
    one = trail(tmp_path, COPY)
    one.walk("old")
    rewrite(one.at, lambda plan: None, "plan")
    assert not one.walk("new").bad


@pytest.mark.parametrize(
    "name", ["", "..", "seats", "machines", "a/b", "x" * 300, "nul\0", "C:", 7]
)
def test_a_run_is_called_as_a_folder_may_be(tmp_path: Path, name: Any) -> None:
    one = trail(tmp_path, COPY)
    rewrite(one.at, lambda body: body.update(run=name))
    before = contents(tmp_path / "old")
    with pytest.raises(ParcelUnusable):
        one.walk("old")
    assert contents(tmp_path / "old") == before


OWN = ("target", "existing", "elsewhere", "single", "shared")
"""What a step has that puts an item in place, and others have not."""


def added(kind: str, **more: Any) -> Callable[[dict[str, Any]], None]:
    def change(plan: dict[str, Any]) -> None:
        publish = next(s for s in plan["steps"] if s["kind"] == "publish")
        kept = {n: value for n, value in publish.items() if kind == "publish" or n not in OWN}
        step = {**kept, "id": f"fernbook.notes/way/9/{kind}", "kind": kind, **more}
        plan["steps"].append(step)
        plan["legs"][-1]["steps"].append(step["id"])

    return change


def other_item(plan: dict[str, Any]) -> None:
    added("publish", item="fernbook.other")(plan)


def renamed(plan: dict[str, Any]) -> None:
    text = json.dumps(plan).replace("/publish", "/put")
    plan.update(json.loads(text))


def another_kind(plan: dict[str, Any]) -> None:
    step = next(s for s in plan["steps"] if s["kind"] == "publish")
    for name in OWN:
        del step[name]
    step |= {"kind": "retire", "place": "/home/ada/x", "renamed": "/home/ada/y"}


@pytest.mark.parametrize("begun", [False, True])
@pytest.mark.parametrize(
    "change",
    [
        added("publish"),
        added("write", form="ini", file="/home/ada/.bashrc", at="a", value="b"),
        added("run", command=["fernbook", "x"], within="1 min"),
        other_item,
        renamed,
        another_kind,
    ],
)
def test_a_step_that_no_recipe_has_is_never_done(
    tmp_path: Path, change: Callable[[dict[str, Any]], None], begun: bool
) -> None:
    one = trail(tmp_path, new("copy", "person: Look"))
    one.walk("old")
    if begun:
        one.walk("new")
    rewrite(one.at, change, "plan")
    before = contents(tmp_path / "new")
    with pytest.raises(
        ParcelUnusable, match=r"no recipe|not the parcel as it left|has no item|its kind is"
    ):
        one.walk("new")
    assert contents(tmp_path / "new") == before


# Consent that is true


def test_what_opens_and_closes_a_program_is_told_whole(tmp_path: Path) -> None:
    one = trail(tmp_path, new("copy", "open: ''", "close: ''"))
    one.walk("old")
    told = [words for _, words in one.visit("new").words(NOW)]
    assert any("fernbook/fernbook open" in words for words in told)
    assert any("fernbook/fernbook close" in words for words in told)


# Databases and seals


def super_journal(database: Path, names: Path) -> None:
    """Lay a hot journal beside a database that names another file, as SQLite's format has it."""
    data = database.read_bytes()
    page = struct.unpack(">H", data[16:18])[0]
    magic = bytes.fromhex("d9d505f920a163d7")
    head = magic + struct.pack(">IIIII", 0, 0, len(data) // page, 512, page)
    name = str(names).encode()
    tail = struct.pack(">I", 0x40000000 // page + 1) + name
    tail += struct.pack(">II", len(name), sum(name)) + magic
    Path(f"{database}-journal").write_bytes(head.ljust(512, b"\0") + tail)


def test_a_journal_removes_no_file_elsewhere(tmp_path: Path) -> None:
    here = machine(tmp_path / "old", files={"/home/ada/n.db": b""})
    database, letter = here.host("/home/ada/n.db"), tmp_path / "letter"
    letter.write_text("mine")
    with closing(sqlite3.connect(database)) as made, made:
        made.execute("create table t(x)")
    recipe = tmp_path / "x.trail.yaml"
    recipe.write_text(COUNTED)
    assert "count: 0" in widetrail("survey", recipe, "--machine", tmp_path / "old").out
    super_journal(database, letter)
    said = widetrail("survey", recipe, "--machine", tmp_path / "old")
    assert "journal that names another file" in said.out
    assert letter.read_text() == "mine"


FERNBOOK = """\
recipe: 1
revision: 1
application: {id: fernbook, name: Fernbook}
recognise:
  - sign: {file: "{home}/fernbook.ini"}
"""
COUNTED = (
    FERNBOOK
    + """\
places:
  db: {file: "{home}/n.db"}
readings:
  count: {sqlite: "{db}", at: select count(*) from t}
items:
  notes:
    title: Notes
    from: db
    checks: {count: {compare: same}}
    routes: [{name: way, legs: [{new: [copy]}]}]
"""
)


@pytest.mark.parametrize("work", ["19", "24", "63", "99", "-1", "1e1", "", "018 1"])
def test_a_seal_that_costs_too_much_is_never_tried(work: str) -> None:
    seal, key = make_seal("reed and sedge")
    lines = key.split(b"\n")
    words = lines[1].split(b" ")
    assert int(words[3]) <= WORK_MOST
    lines[1] = b" ".join([*words[:3], work.encode()])
    with pytest.raises(ParcelUnusable, match="steps of work"):
        open_seal(seal, b"\n".join(lines), "reed and sedge", "x")


# What is shown


SECRET = "pass=w0rd & naïve"
BYTES = SECRET.encode()
WIDE = SECRET.encode("utf-16-le")


@pytest.mark.parametrize(
    "spelled",
    [
        WIDE.decode("latin-1"),
        " ".join(SECRET),
        WIDE.hex(),
        WIDE.hex(","),
        BYTES.hex(":"),
        "".join(f"%{b:02X}" for b in BYTES),
        "".join(f"\\x{b:02x}" for b in BYTES),
        repr(BYTES)[2:-1],
        base64.b64encode(WIDE).decode(),
        quote(SECRET, safe=""),
        *(base64.b64encode(b"u" * n + BYTES + b"more of it").decode() for n in range(6)),
        *(base64.b64encode(b"u" * n + WIDE + b"m").decode() for n in range(3)),
        base64.b64encode(f"user:{SECRET}".encode()).decode(),
    ],
)
def test_a_secret_is_masked_as_bytes_and_within_other_text(spelled: str) -> None:
    masker = Masker()
    masker.add("word", SECRET)
    masked = masker.mask(f"before {spelled} after")
    assert "‹word›" in masked
    assert len(masked) < len(spelled) + len("before  after")


def test_no_cell_of_a_spreadsheet_is_a_formula(tmp_path: Path) -> None:
    names = ("=HYPERLINK(1)", "\t=1", "+1", "-1", "@x", "\u202e=a\x1b[31m")
    files: dict[str, str | bytes] = {f"/home/ada/{name}/f": "x" * 9000 for name in names}
    files["/home/ada/=new\nline"] = "x" * 9000
    machine(tmp_path / "old", files={**files, "/home/ada/n.db": b""})
    recipe = tmp_path / "x.trail.yaml"
    recipe.write_text(COUNTED)
    said = widetrail("survey", recipe, "--machine", tmp_path / "old", "--csv", "--all").out
    cells = [cell for row in csv.reader(io.StringIO(said)) for cell in row]
    assert any("HYPERLINK" in cell for cell in cells)
    assert not [cell for cell in cells if cell.lstrip()[:1] in ("=", "+", "-", "@")]
    assert not [cell for cell in cells if cell != for_people(cell)]


# Bounds


NOTES = (
    FERNBOOK
    + """\
places:
  notes: {folder: "{home}/notes"}
readings:
  what: {text: "{home}/notes/one.txt", at: '^(.*)$'}
items:
  notes:
    title: Notes
    from: notes
    routes:
      - {name: copy, NEEDS legs: [{new: [copy]}]}
      - {name: by hand, legs: [{new: [{person: Do it.}]}]}
"""
)
ENDLESS = "'^(a+)+$'"


def test_an_expression_without_end_decides_nothing_and_ends(tmp_path: Path) -> None:
    files = {"/home/ada/notes/one.txt": f"{'a' * 60}!"}
    machine(tmp_path / "old", files=files, more="identity: old\n")
    machine(tmp_path / "new", more="identity: new\n")
    recipe = tmp_path / "x.trail.yaml"
    needs = f"needs: {{old: {{what: {{matches: {ENDLESS}}}}}}},"
    recipe.write_text(NOTES.replace("NEEDS", needs))
    said = widetrail("lint", recipe)
    assert said.status == 0, said.out
    sides = ("--old", tmp_path / "old", "--new", tmp_path / "new", "--parcel", tmp_path / "p")
    said = widetrail("plan", recipe, *sides, "--details")
    assert "rejected: copy" in said.out


def test_no_more_than_some_seconds_are_lost_on_what_does_not_end(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(parser_process, "LOST", 0.6)
    monkeypatch.setattr(parser_process, "PATTERN_SECONDS", 0.3)
    for _ in range(2):
        with pytest.raises(Unreadable, match="was not read within"):
            ask_pattern(matches, "(a+)+$", "a" * 60 + "!")
    with pytest.raises(Unreadable, match="what came before it"):
        ask(matches, "a", "a")
    parser_process.renew()
    assert ask(matches, "a", "a") is True


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ("".join(f"key{n}: 1\n" for n in range(120_000)), "more than 200,000 keys"),
        ("".join(f"key{n}: 1\n" for n in range(3_000)), "the first 200 are shown"),
    ],
)
def test_findings_and_keys_are_counted_and_end(tmp_path: Path, more: str, said: str) -> None:
    recipe = tmp_path / "x.trail.yaml"
    recipe.write_text(NOTES.replace("NEEDS ", "") + more)
    ran = widetrail("lint", recipe)
    assert ran.status == 1
    assert said in ran.out
    told = [line for line in ran.out.splitlines() if line.startswith(str(recipe))]
    assert len(told) < 210


@pytest.mark.parametrize("what", ["places", "readings"])
def test_a_recipe_has_so_many_names_and_no_more(tmp_path: Path, what: str) -> None:
    recipe = tmp_path / "x.trail.yaml"
    one = '{folder: "{home}/x"}' if what == "places" else '{file: "{home}/x"}'
    many = "".join(f"  n{n}: {one}\n" for n in range(401))
    recipe.write_text(NOTES.replace("NEEDS ", "").replace(f"{what}:\n", f"{what}:\n{many}"))
    assert "expected at most 400" in widetrail("lint", recipe).out


@pytest.mark.parametrize("told", ["nan", "inf", "-inf", "1e999", "9" * 5000, "1_0", "\u0663"])
def test_a_number_that_is_none_is_unknown(tmp_path: Path, told: str) -> None:
    machine(tmp_path / "old", files={"/home/ada/notes/one.txt": told}, more="identity: old\n")
    recipe = tmp_path / "x.trail.yaml"
    recipe.write_text(
        NOTES.replace("NEEDS ", "").replace("at: '^(.*)$'", "at: '^(.*)$', as: number")
    )
    said = widetrail("survey", recipe, "--machine", tmp_path / "old", "--json")
    assert said.status == 0
    assert not {"NaN", "Infinity"} & set(said.out.replace(",", " ").split())


def test_a_redirected_folder_that_no_system_has_is_none(tmp_path: Path) -> None:
    told = f'XDG_DOCUMENTS_DIR="{"$HOME/" * 200_000}"\n'
    here = machine(tmp_path / "x", files={"/home/ada/.config/user-dirs.dirs": told})
    assert here.root("documents") == "/home/ada/Documents"


# Documents written anew: the sealed one, and a rehearsal's


def test_nobody_makes_an_open_parcel_of_a_sealed_one(tmp_path: Path) -> None:
    """Even where every checksum is right: the plan says so, and so does the computer it was made
    on."""
    sealed = trail(tmp_path / "a", COPY, sealed="reed bunting")
    opened = trail(tmp_path / "b", COPY)
    assert sealed.parcel.plan.sealed and not opened.parcel.plan.sealed
    rewrite(opened.at, lambda plan: plan.update(sealed=True), "plan")
    with pytest.raises(ParcelUnusable, match="was sealed and is not any more: its plan says so"):
        opened.walk("old")
    other = trail(tmp_path / "c", COPY)
    remember_sealed("run", Effects())
    try:
        with pytest.raises(ParcelUnusable, match="when it was planned here"):
            other.walk("old")
    finally:
        (own_state() / "sealed" / "run").unlink()


@pytest.mark.parametrize(
    "statement",
    [
        "attach '{victim}' as v",
        "vacuum into '{victim}'",
        "select load_extension('{victim}')",
        "create table if not exists t(x); attach '{victim}' as v",
    ],
)
def test_no_statement_reaches_another_file(tmp_path: Path, statement: str) -> None:
    victim = tmp_path / "victim.db"
    with closing(sqlite3.connect(victim)) as made, made:
        made.execute("create table letters(x)")
    before = victim.read_bytes()
    other = tmp_path / "other.db"
    for path in (victim, other):
        with pytest.raises(Unwritable):
            run_statements(str(tmp_path / "own.db"), [statement.format(victim=path)])
    assert victim.read_bytes() == before
    assert not other.exists()


def test_what_undoing_does_is_told_from_that_alone() -> None:
    assert UndoAct(command=("/bin/x", "a b")).words == 'run /bin/x "a b"'
    assert "move /etc/x away" in UndoAct((Move("out", "/etc/x", "/y"),)).words
    assert UndoAct((Move("unfolder", "", "/etc/x"),)).words
    assert "HKCU" in UndoAct(values=("registry", "HKCU\\X", "/y")).words


# A plan that was put in later, after a station had begun


def append_plan(at: Path, change: Callable[[dict[str, Any]], None]) -> None:
    """Add a generation with another plan, as planning anew does."""
    files = sorted((at / "logbook").iterdir())
    plans = sorted((at / "data").glob("plan*.json"))
    plan = json.loads(plans[-1].read_bytes())
    change(plan)
    number = len(files) + 1
    data = canonical(plan)
    (at / f"data/plan-{number:06d}.json").write_bytes(data)
    body = {
        "event": "planned anew",
        "number": number,
        "before": digest(files[-1].read_bytes()),
        "plan": digest(data),
        "time": NOW.isoformat(),
    }
    line = canonical(body)
    (at / f"logbook/{number:06d}.json").write_bytes(line + b"\n" + digest(line).encode() + b"\n")


def another_command(plan: dict[str, Any]) -> None:
    step = next(s for s in plan["steps"] if s["kind"] == "run" and s["station"] == "new")
    step["command"] = ["fernbook", "spoil"]


def another_target(plan: dict[str, Any]) -> None:
    plan["items"][0]["new_path"] = "/home/ada/other"


def another_change(plan: dict[str, Any]) -> None:
    step = next(s for s in plan["steps"] if s["kind"] == "run" and s["station"] == "new")
    step["changes"] = ["/home/ada/other"]


def lying_words(plan: dict[str, Any]) -> None:
    step = next(s for s in plan["steps"] if s["kind"] == "person")
    step["task"] = "Nothing at all"


@pytest.mark.parametrize("change", [another_command, another_target, another_change, lying_words])
def test_a_plan_that_was_put_in_after_a_station_had_begun_is_refused(
    tmp_path: Path, change: Callable[[dict[str, Any]], None]
) -> None:
    steps = "copy", "{run: [fernbook, fail], changes: notes}", "person: Look"
    one = trail(tmp_path, new(*steps))
    one.walk("old")
    one.walk("new")  # the program fails, so there is more to do
    append_plan(one.at, lambda plan: None)
    one.visit("new").look_ahead(NOW)  # the same plan again is one
    append_plan(one.at, change)
    before = contents(tmp_path / "new")
    with pytest.raises((ParcelUnusable, Halted)):
        one.visit("new").look_ahead(NOW)
    assert contents(tmp_path / "new") == before


@POSIX
def test_a_reader_that_crashes_is_told_as_that() -> None:
    ask(matches, "a", "a")
    process = parser_process._worker._process
    assert process is not None
    threading.Timer(0.3, process.send_signal, [signal.SIGSEGV]).start()
    with pytest.raises(Unreadable, match="SIGSEGV"):
        ask(matches, "(a+)+$", "a" * 60 + "!")
    assert ask(matches, "a", "a") is True
