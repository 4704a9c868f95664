"""What independent trials found: nothing lost, nothing untrue, one class of fault after another."""

from __future__ import annotations

import errno
import itertools
import json
import os
import shutil
import sqlite3
import stat
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any, BinaryIO

import pytest

from build import NOW, PROGRAM, Trail, item, machine, moved, outcomes, trail
from conftest import Stopped, World, contents, widetrail
from test_doing import NEW, OLD, new, old
from widetrail.errors import Obstructed
from widetrail.finding.old_path_search import find_remnants, remnant_pattern
from widetrail.formats.sqlite import list_column, put_column, texts_in
from widetrail.formats.texts import unescaped
from widetrail.machine import Effects, FolderMachine, this_machine
from widetrail.machine.host import HostMachine
from widetrail.planning import Choices
from widetrail.recipe import Globs, load_recipe_text
from widetrail.rehearsing import load_rehearsal, rehearse
from widetrail.rehearsing.batch import jobs_of, run_job
from widetrail.rehearsing.constant_screens import constant_screens
from widetrail.steps import KINDS, Noted
from widetrail.survey.automaton import Automaton, Segment
from widetrail.walking import Run, make_report

COPY = new("copy")
PLAIN = "items:\n  notes: {{title: Notes, from: notes{more}, routes: [{{name: way{existing}, legs: "
PLAIN += "[{{new: [copy]}}]}}]}}\n"


def two(
    folder: Path,
    files: dict[str, str | bytes],
    there: dict[str, str | bytes] | None = None,
    more: str = "",
    user: str = "ada",
) -> tuple[FolderMachine, FolderMachine]:
    """Make an old machine with ``files`` below its home, and a new one with others."""
    mine = {f"/home/ada/{name}": data for name, data in files.items()}
    theirs = {f"/home/{user}/{name}": data for name, data in (there or {}).items()}
    one = machine(folder / "old", files=mine, more=f"identity: old\n{more}")
    other = machine(
        folder / "new", files=theirs, more=f"identity: new\n{more}", user=user, name="glass"
    )
    return one, other


def went(one: Trail) -> dict[str, str]:
    """Walk both legs; return what came of each step on new."""
    assert not one.walk("old").bad
    return outcomes(one.walk("new"))


# Files that change while they are packed


@contextmanager
def meddling(monkeypatch: pytest.MonkeyPatch, act: Callable[[str, int], None]) -> Iterator[None]:
    """Have something done each time that a file of a place is opened to be read."""
    opened: dict[str, int] = {}
    below = HostMachine.opened

    @contextmanager
    def lent(self: HostMachine, path: str) -> Iterator[Any]:
        with below(self, path) as folder:
            take = folder.open

            def open_one(name: str) -> BinaryIO:
                file = take(name)
                opened[name] = opened.get(name, 0) + 1
                act(name, opened[name])
                return file

            monkeypatch.setattr(folder, "open", open_one)
            yield folder

    monkeypatch.setattr(HostMachine, "opened", lent)
    yield


def replaced(path: Path) -> None:
    other = path.with_name("x")
    other.write_text("two!")
    other.replace(path)


CHANGES: dict[str, Callable[[Path], object]] = {
    "in place, its size unchanged": lambda path: path.write_bytes(b"ONE\n"),
    "replaced by another": lambda path: replaced(path),
    "grown": lambda path: path.write_text("one and more\n"),
    "one appears beside it": lambda path: path.with_name("late.txt").write_text("late"),
    "it goes": lambda path: path.unlink(),
}


@pytest.mark.parametrize("change", CHANGES.values(), ids=CHANGES)
def test_a_file_is_packed_from_one_moment(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, change: Callable[[Path], object]
) -> None:
    one = trail(tmp_path, COPY)
    path = one.notes("old") / "one.txt"

    def once(name: str, count: int) -> None:
        if (name, count) == ("one.txt", 1):
            change(path)

    with meddling(monkeypatch, once):
        assert not one.walk("old").bad
    one.walk("new")
    assert {p.name: p.read_bytes() for p in one.notes("new").iterdir()} == {
        p.name: p.read_bytes() for p in one.notes("old").iterdir()
    }


def test_what_changes_without_end_stops_with_the_reason(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = trail(tmp_path, COPY)
    path = one.notes("old") / "one.txt"
    with meddling(monkeypatch, lambda name, n: path.write_text(f"{n:04d}")):  # type: ignore[arg-type]
        (told,) = one.walk("old").waits
    assert "one.txt: it changed while it was packed" in told.outcome.reason  # type: ignore[union-attr]
    monkeypatch.undo()
    assert not one.walk("old").bad, "once it is quiet"


def test_a_large_file_that_is_written_to_arrives_whole(tmp_path: Path) -> None:
    one = trail(tmp_path, COPY)
    path, stop = one.notes("old") / "large", threading.Event()
    size, spots = 60_000_000, (0, 30_000_000, 59_999_992)
    path.write_bytes(b"\0" * size)

    def write() -> None:
        handle, count = os.open(path, os.O_RDWR), 0
        while not stop.is_set():
            count += 1
            for spot in spots:
                os.pwrite(handle, count.to_bytes(8, "big"), spot)
            time.sleep(0.004)
        os.close(handle)

    writer = threading.Thread(target=write)
    writer.start()
    try:
        done = one.walk("old")
    finally:
        stop.set()
        writer.join()
    assert done.waits
    assert not one.walk("old").bad
    one.walk("new")
    data = (one.notes("new") / "large").read_bytes()
    assert len({data[spot : spot + 8] for spot in spots}) == 1


@pytest.mark.parametrize("answer", ["", "leave it out", "leave out all like it"])
def test_a_file_that_cannot_be_read_does_not_end_the_walk(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, answer: str
) -> None:
    hands = {"fernbook.notes.unreadable": answer} if answer else {}
    one = trail(tmp_path, COPY, hands=hands)
    (one.notes("old") / "three.txt").write_text("three")

    class Bad:
        def __init__(self, file: BinaryIO) -> None:
            self._file = file

        def __enter__(self) -> Bad:
            return self

        def __exit__(self, *_: object) -> None:
            self._file.close()

        def read(self, size: int = -1) -> bytes:
            raise OSError(errno.EIO, os.strerror(errno.EIO))

        def fileno(self) -> int:
            return self._file.fileno()

    below = HostMachine.opened

    @contextmanager
    def lent(self: HostMachine, path: str) -> Iterator[Any]:
        with below(self, path) as folder:
            take = folder.open
            monkeypatch.setattr(
                folder, "open", lambda n: Bad(take(n)) if n == "one.txt" else take(n)
            )
            yield folder

    monkeypatch.setattr(HostMachine, "opened", lent)
    done = one.walk("old")
    if not answer:
        (told,) = outcomes(done).values()
        assert "one.txt: cannot be read: Input/output error" in told
        return
    assert not done.bad
    monkeypatch.undo()
    one.walk("new")
    assert sorted(p.name for p in one.notes("new").iterdir()) == ["three.txt", "two.txt"]
    (report,) = make_report(one.parcel).items
    assert report.notes == ("skipped, since it cannot be read: one.txt (Input/output error)",)


def test_any_refusal_of_the_system_is_told_and_the_rest_goes_on(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    items = COPY + COPY.replace("notes:", "more:", 1).replace("from: notes", "from: extra")
    (tmp_path / "old/root/home/ada/extra").mkdir(parents=True)
    (tmp_path / "old/root/home/ada/extra/e.txt").write_text("e")
    one = trail(tmp_path, items)

    def broken(self: HostMachine, path: str, deepest: int | None = None) -> Iterator[Any]:
        if path.endswith("/notes"):
            raise OSError(errno.EIO, os.strerror(errno.EIO), path)
        return walk(self, path, deepest)

    walk = HostMachine.walk
    monkeypatch.setattr(HostMachine, "walk", broken)
    told = outcomes(one.walk("old"))
    assert "Input/output error" in told["fernbook.notes/way/1/pack"]
    assert told["fernbook.more/way/1/pack"] == "done"


# Databases and their journals


def database(path: Path, *, committed: bool = True) -> None:
    """Make a database whose last rows are in its journal only."""
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("pragma journal_mode = wal")
        connection.execute("create table t (v text)")
        connection.execute("insert into t values ('first')")
        connection.commit()
        connection.execute("pragma wal_checkpoint(truncate)")
        connection.execute("pragma wal_autocheckpoint = 0")
        connection.execute("insert into t values ('last')")
        connection.commit()
        kept = {p: p.read_bytes() for p in (path, path.with_name(f"{path.name}-wal"))}
    for one, data in kept.items():
        one.write_bytes(data)


def rows(path: Path) -> list[str]:
    with closing(sqlite3.connect(path)) as connection:
        return [row[0] for row in connection.execute("select v from t order by rowid")]


ONE_FILE = """
places:
  notes: {file: "{home}/notes/b.db"}
items:
  notes: {title: Notes, from: notes, routes: [{name: way, legs: [{new: [copy]}]}]}
"""


@pytest.mark.parametrize("existing", ["back up", "replace", "alongside"])
@pytest.mark.parametrize("take", ['"*.db"', '"**"'])
def test_a_database_goes_with_its_journal(tmp_path: Path, take: str, existing: str) -> None:
    body = "places:\n  notes: {folder: '{home}/notes'}\n"
    body += PLAIN.format(more=f", take: {take}, leave: '*-wal'", existing=f", existing: {existing}")
    one, other = two(tmp_path, {"notes/a": "a"}, {"notes/a": "a"})
    database(one.host("/home/ada/notes/b.db"))
    database(other.host("/home/ada/notes/b.db"))
    other.host("/home/ada/notes/b.db-journal").write_text("of another")
    gone = moved(tmp_path, body, one, other)
    assert set(went(gone).values()) == {"done"}
    folder = gone.notes("new")
    (arrived,) = [p for p in folder.glob("b*.db") if "from" in p.name or existing != "alongside"]
    assert rows(arrived) == ["first", "last"]
    if existing != "alongside":
        assert not (folder / "b.db-journal").exists(), "one of another would damage it"
        Run(gone.new).undo(NOW)
        assert (folder / "b.db-journal").read_text() == "of another"


def test_a_single_database_goes_with_its_journal(tmp_path: Path) -> None:
    one, other = two(tmp_path, {"notes/a": "a"}, {"notes/b.db-journal": "of another"})
    database(one.host("/home/ada/notes/b.db"))
    gone = moved(tmp_path, ONE_FILE, one, other)
    assert set(went(gone).values()) == {"done"}
    assert rows(gone.notes("new") / "b.db") == ["first", "last"]
    assert not (gone.notes("new") / "b.db-journal").exists()
    Run(gone.new).undo(NOW)
    assert [p.name for p in gone.notes("new").iterdir()] == ["b.db-journal"]


# Places as they were, and who may read what


def test_the_place_itself_arrives_as_it_was(tmp_path: Path) -> None:
    one = trail(tmp_path, item(NEW + "\n              - copy", "    take: '*.txt'"))
    mine = one.notes("old")
    mine.chmod(0o700)
    os.utime(mine, ns=(10**18, 10**18))
    if sys.platform == "linux":
        os.setxattr(mine, "user.note", b"here")
    assert set(went(one).values()) == {"done"}
    status = one.notes("new").stat()
    assert (stat.S_IMODE(status.st_mode), status.st_mtime_ns) == (0o700, 10**18)
    assert sys.platform != "linux" or os.getxattr(one.notes("new"), "user.note") == b"here"


def test_what_is_private_is_so_on_the_way(tmp_path: Path) -> None:
    one = trail(tmp_path, COPY)
    secret = one.notes("old") / "one.txt"
    secret.chmod(0o600)
    one.notes("new").mkdir()
    (one.notes("new") / "own").write_text("x")
    one.walk("old")
    one.walk("new")
    own = [p for p in tmp_path.rglob("*") if p.is_relative_to(one.at) or "/widetrail" in str(p)]
    assert len(own) > 20
    open_ = [p for p in own if p.lstat().st_mode & 0o077 and not p.is_symlink()]
    assert [p for p in open_ if "aside" not in p.parts] == []
    assert one.at.stat().st_mode & 0o077 == 0


def test_a_medium_that_cannot_keep_what_is_private_is_told(world: World) -> None:
    stick = world.folder / "media/usb-stick/medium.yaml"
    assert "exFAT" in stick.read_text()
    signs = world.machine("gatehouse") / "disks/root/home/piet/Schilder"
    next(p for p in signs.rglob("*.json")).chmod(0o600)
    parcel = world.folder / "media/usb-stick/p"
    ran = widetrail(
        "plan",
        world.folder / "recipes/frondsign.trail.yaml",
        "--old",
        world.machine("gatehouse"),
        "--new",
        world.machine("herbarium-loft"),
        "--parcel",
        parcel,
    )
    told = "cannot keep from others what only the account may read"
    assert told in ran.out, ran.out + ran.err


# Paths that name what does not arrive, or is somebody else's

NAMING = """
places:
  notes: {{folder: "{{home}}/notes"}}
  settings: {{folder: "{{home}}/settings"}}
items:
  settings:
    title: Settings
    kind: settings
    from: settings
    paths: [{{ini: "{{settings}}/a.ini", at: main/include{outside}}}]
    routes: [{{name: way, legs: [{{new: [copy]}}]}}]
  notes:
    title: Notes
    from: notes
    take: ['*.txt']
    leave: ['*.inc']
    routes: [{{name: way, existing: alongside, legs: [{{new: [copy]}}]}}]
"""


def naming(folder: Path, include: str, there: dict[str, str | bytes], outside: str = "") -> Trail:
    files: dict[str, str | bytes] = {
        "settings/a.ini": f"[main]\ninclude=/home/ada/notes/{include}\n",
        "notes/a.txt": "old's",
        "notes/extra.inc": "extra",
    }
    one, other = two(folder, files, there, user="bo")
    return moved(folder, NAMING.format(outside=outside), one, other)


def included(one: Trail) -> str:
    text = (one.folder / "new/root/home/bo/settings/a.ini").read_text()
    return text.splitlines()[1].partition("=")[2]


def test_a_name_that_changes_on_arrival_changes_in_what_names_it(tmp_path: Path) -> None:
    one = naming(tmp_path, "a.txt", {"notes/a.txt": "somebody else's"})
    assert set(went(one).values()) == {"done"}
    assert included(one) == "/home/bo/notes/a (from test).txt"
    assert (tmp_path / "new/root/home/bo/notes/a (from test).txt").read_text() == "old's"


def test_what_settings_name_and_is_left_out_is_a_loss_and_a_fault(tmp_path: Path) -> None:
    one = naming(tmp_path, "extra.inc", {})
    (loss,) = one.parcel.plan.item("fernbook.settings").losses
    assert loss.what == (
        "files that it refers to and the recipe excludes (/home/ada/notes/extra.inc)"
    )
    told = went(one)
    assert told["fernbook.settings/remnants"] == (
        "fernbook.settings names a path that does not exist: "
        "/home/bo/settings/a.ini:2: /home/bo/notes/extra.inc"
    )


def test_what_is_left_out_comes_along_where_the_recipe_says_so(tmp_path: Path) -> None:
    one = naming(tmp_path, "extra.inc", {}, ", outside: carry")
    assert set(went(one).values()) == {"done"}
    assert included(one) == "/home/bo/settings/outside/extra.inc"
    assert (tmp_path / "new/root/home/bo/settings/outside/extra.inc").read_text() == "extra"


def test_what_was_not_there_on_old_is_no_fault_on_new(tmp_path: Path) -> None:
    one = naming(tmp_path, "never.txt", {})
    assert set(went(one).values()) == {"done"}
    assert included(one) == "/home/bo/notes/never.txt"


TWICE = """
places:
  notes: {folder: "{home}/notes"}
items:
  first: {title: First, from: notes, take: ['a*'], routes: [{name: way, legs: [{new: [copy]}]}]}
  second:
    {title: Second, from: notes, take: ['*.txt'], routes: [{name: way, legs: [{new: [copy]}]}]}
  rest: {title: Rest, from: notes, routes: [{name: way, legs: [{new: [copy]}]}]}
"""


def test_what_several_items_take_comes_once(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {f"notes/{n}": n for n in ("a.txt", "ab", "b.txt", "c")}
    one, other = two(tmp_path, files, {"notes/a.txt": "new's", "notes/c": "new's"})
    gone = moved(tmp_path, TWICE, one, other)
    assert set(went(gone).values()) == {"done"}
    packed = [
        (e.item.partition(".")[2], e.path)
        for e in gone.parcel.reader("linux").entries
        if e.kind == "file"
    ]
    assert sorted(packed) == [
        ("first", "a.txt"),
        ("first", "ab"),
        ("rest", "c"),
        ("second", "b.txt"),
    ]
    there = {p.name: p.read_text() for p in gone.notes("new").iterdir()}
    assert there == {name.partition("/")[2]: data for name, data in files.items()}
    Run(gone.new).undo(NOW)
    assert {p.name: p.read_text() for p in gone.notes("new").iterdir()} == {
        "a.txt": "new's",
        "c": "new's",
    }


# Profiles

LISTED = """
places:
  list: {file: "{home}/list.json"}
  notes:
    index: {json: "{list}", at: /all, path: folder, name: name}
    pair: [name, register]
items:
  notes: {title: Notes, from: notes, routes: [{name: way, legs: [{new: [copy]}]}]}
"""


def test_two_profiles_never_get_one_place(tmp_path: Path) -> None:
    def listed(*entries: tuple[str, str]) -> str:
        return json.dumps({"all": [{"name": n, "folder": f} for n, f in entries]})

    mine: dict[str, str | bytes] = {
        "list.json": listed(("Garden", "p1"), ("Shop", "p2")),
        "p1/a": "garden",
        "p2/a": "shop",
    }
    theirs: dict[str, str | bytes] = {"list.json": listed(("Shop", "p1")), "p1/a": "their shop"}
    one, other = two(tmp_path, mine, theirs)
    gone = moved(tmp_path, LISTED, one, other)
    places = {i.instance: i.new_path for i in gone.parcel.plan.items}
    assert places == {"Garden": "/home/ada/p1 (from test)", "Shop": "/home/ada/p1"}
    (task,) = gone.parcel.plan.item("fernbook.notes[Garden]").tasks
    assert task == (
        "On glass: add /home/ada/p1 (from test) to what Fernbook lists, as “Garden”; "
        "copying alone does not do that"
    )
    assert set(went(gone).values()) == {"done"}
    assert (tmp_path / "new/root/home/ada/p1 (from test)/a").read_text() == "garden"


# What is told


def test_nothing_carried_is_told_as_that(tmp_path: Path) -> None:
    body = (
        "places:\n  notes: {folder: '{home}/notes'}\nreadings:\n  pages: {files: '{notes}/*.x'}\n"
    )
    body += PLAIN.format(more=", take: '*.x', checks: {pages: {compare: same}}", existing="")
    gone = moved(tmp_path, body, *two(tmp_path, {"notes/a": "a"}))
    notices = gone.parcel.plan.notices
    assert "fernbook.notes: /home/ada/notes has nothing of it, so nothing is transferred" in notices
    assert "1 file is not covered by the recipe (a)" in notices[-1]
    went(gone)
    report = make_report(gone.parcel)
    assert [i.state for i in report.items] == ["nothing"]
    assert report.headline == "Nothing to transfer: Fernbook: Notes."
    assert report.items[0].checks[0].is_empty


def test_an_optional_item_that_is_not_there_stops_nothing(tmp_path: Path) -> None:
    body = """
places:
  notes: {folder: "{home}/notes"}
  theme: {file: "{home}/theme"}
items:
  notes: {title: Notes, from: notes, routes: [{name: way, legs: [{new: [copy]}]}]}
  theme: {title: Theme, from: theme, optional: OPTIONAL,
          routes: [{name: way, legs: [{new: [copy]}]}]}
"""
    machines = two(tmp_path, {"notes/a": "a"})
    with pytest.raises(Obstructed):
        moved(tmp_path, body.replace("OPTIONAL", "no"), *machines)
    gone = moved(tmp_path, body.replace("OPTIONAL", "yes"), *machines)
    went(gone)
    report = make_report(gone.parcel)
    assert report.headline == "Transferred and checked: 1 of 1 item."
    assert report.left[0].reasons == ("it is optional, and there is nothing at /home/ada/theme",)


def test_a_walk_on_new_does_not_end_well_where_an_item_failed_on_old(tmp_path: Path) -> None:
    bad = old("run: [fernbook, spoil]").replace("notes:", "bad:", 1)
    (tmp_path / "old/root/home/ada/extra").mkdir(parents=True)
    one = trail(tmp_path, COPY + bad.replace("from: notes", "from: extra"))
    for name, status in (("old", 1), ("new", 1), ("new", 1)):
        ran = widetrail("walk", one.at, "--machine", tmp_path / name, "--yes", "--no-wait")
        assert ran.status == status, ran.out + ran.err
    assert "The last leg was walked. At least one step failed" in ran.out
    assert widetrail("report", one.at).status == 1


def test_a_note_is_of_the_moment_that_is_packed(tmp_path: Path) -> None:
    checks = "    checks: {pages: {compare: same}}"
    one = trail(tmp_path, new("copy", more=checks))
    seen: list[str] = []

    def gate(effect: Any) -> None:
        seen.append(effect.kind)
        if effect.kind == "create":  # the first segment, after the note
            raise Stopped(effect)

    with pytest.raises(Stopped):
        one.walk("old", Effects(gate))
    (one.notes("old") / "three.txt").write_text("three")
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}


def test_checks_look_where_the_item_was_put(tmp_path: Path) -> None:
    checks = "    checks: {pages: {compare: same}}"
    one = trail(tmp_path, new("copy: '{home}/elsewhere'", more=checks))
    one.notes("new").mkdir()
    (one.notes("new") / "other.txt").write_text("not old's")
    assert set(went(one).values()) == {"done"}
    (line,) = make_report(one.parcel).items[0].checks
    assert (line.old, line.new, line.verdict) == (Noted(value=2), Noted(value=2), "holds")


ASKED = """
places:
  notes: {folder: "{home}/notes"}
readings:
  kind: {output: [fernbook, say, grand], at: '^(.+)$'}
items:
  notes:
    title: Notes
    from: notes
    checks: {kind: {compare: same}}
    routes:
      - {name: grand way, needs: {old: {kind: grand}}, legs: [{new: [copy]}]}
      - {name: plain way, legs: [{new: [copy]}]}
"""


def test_a_program_is_asked_with_consent_in_planning_and_in_walks(tmp_path: Path) -> None:
    script = Path(__file__).with_name("fernbook.py")
    more = f"programs:\n- path: {PROGRAM}\n  start: ['{sys.executable}', '{script}']\n"
    machines = two(tmp_path, {"notes/a": "a"}, more=more)
    for one in machines:
        one.host(PROGRAM).parent.mkdir(parents=True)
        one.host(PROGRAM).write_text("")
    unasked = moved(tmp_path, ASKED, *machines)
    assert unasked.parcel.plan.items[0].route == "plain way"
    shutil.rmtree(unasked.at)
    gone = moved(tmp_path, ASKED, *machines, Choices(ask_programs=True))
    assert gone.parcel.plan.items[0].route == "grand way"
    for name in ("old", "new"):
        refused = widetrail("walk", gone.at, "--machine", tmp_path / name)
        assert refused.status == 3
        assert "fernbook say grand (in an empty home)" in refused.err
        ran = widetrail("walk", gone.at, "--machine", tmp_path / name, "--yes")
        assert ran.status == 0, ran.out + ran.err
    assert make_report(gone.parcel).items[0].checks[0].new == Noted(value="grand")
    findings = load_recipe_text(_whole(ASKED), "test", KINDS).findings
    assert [f.where for f in findings if f.rule == "asked"] == [
        "items.notes.checks.kind",
        "items.notes.routes.0.needs.old.kind",
    ]


def _whole(body: str) -> str:
    from build import HEAD, SIGN

    return HEAD + SIGN + body


def test_a_plan_made_without_new_is_walked_there_by_a_program_s_own_way(tmp_path: Path) -> None:
    from build import TRAIL_HEAD
    from widetrail.machine import medium_of
    from widetrail.parcel import set_out
    from widetrail.planning import make_plan

    steps = "\n              - {run: [fernbook, give, '{parcel}/all'], makes: '{parcel}/all'}"
    taken = "\n              - {run: [fernbook, take, '{parcel}/all'], changes: notes}"
    one = trail(tmp_path, item(OLD + steps + "\n          - new:" + taken))
    shutil.rmtree(one.at)
    text = TRAIL_HEAD + "items:\n" + item(OLD + steps + "\n          - new:" + taken)
    loaded = load_recipe_text(text, "test", KINDS)
    plan = make_plan([loaded], one.old, None, medium_of(one.at), NOW)
    set_out(one.at, plan, [loaded], "run", NOW, Effects())
    one.walk("old")
    for _ in range(2):
        ran = widetrail("walk", one.at, "--machine", tmp_path / "new", "--as", "new", "--yes")
    assert ran.status == 0, ran.out + ran.err
    assert (one.notes("new") / "taken.txt").read_text() == "one\ntwo\n"


def test_a_place_on_a_disk_that_is_not_there_is_no_place(tmp_path: Path) -> None:
    body = """
places:
  notes:
    folder: "{home}/notes"
    set_in: {ini: "{home}/fernbook.ini", at: main/folder, as: path}
items:
  notes: {title: Notes, from: notes, routes: [{name: way, legs: [{new: [copy]}]}]}
"""
    one, other = two(tmp_path, {"notes/a": "a"})
    ini = other.host("/home/ada/fernbook.ini")
    ini.write_text(f"{ini.read_text()}[main]\nfolder=/media/ada/stick/notes\n")
    with pytest.raises(Obstructed) as error:
        moved(tmp_path, body, one, other)
    assert error.value.codes == ("disk",)
    assert "/media/ada/stick/notes" in error.value.obstacles[0].where


# Texts in bytes


def test_paths_in_bytes_are_found_and_rewritten_where_they_can_be(tmp_path: Path) -> None:
    path = tmp_path / "b.db"
    texts = [b"/home/ada/a", "/home/ada/b".encode("utf-16-le"), b"\x00\x01/home/ada/c\xff"]
    with closing(sqlite3.connect(path)) as connection:
        connection.execute("create table t (v)")
        connection.executemany("insert into t values (?)", [(t,) for t in (*texts, "/home/ada/d")])
        connection.commit()
    pattern = remnant_pattern(["/home/ada"], "linux")
    assert len(texts_in(str(path), pattern, 10)) == 4
    assert [spot.text for spot in list_column(str(path), "t.v")] == ["/home/ada/a", "/home/ada/d"]
    changes = {"/home/ada/a": "/home/bo/a", "/home/ada/d": "/home/bo/d"}
    assert put_column(str(path), "t.v", changes) == 2
    with closing(sqlite3.connect(path)) as connection:
        found = [row[0] for row in connection.execute("select v from t order by rowid")]
    assert found == [b"/home/bo/a", *texts[1:], "/home/bo/d"]


@pytest.mark.parametrize(
    "line",
    [
        r"last=@Variant(\0\0\0\n\0\0\0\x16\0/\0h\0o\0m\0e\0/\0\xe4\0\x64\0\x61)",
        r"last=@ByteArray(/home/\xc3\xa4\x64\x61/x)",
        r"last=/home/\xe4\x64\x61/M\xfcll",
    ],
)
def test_paths_that_qt_escapes_are_found(line: str) -> None:
    pattern = remnant_pattern(["/home/äda"], "linux")
    assert any("/home/äda" in text for text in unescaped(line))
    found = list(find_remnants(f"[main]\n{line}\n".encode(), pattern))
    assert [spot.line for spot in found] == [2]


def test_a_path_with_a_bracket_is_told_whole(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "settings/a.ini": "[main]\ninclude=/home/ada/else (old)/x%20y (1).txt\n",
    }
    body = NAMING.format(outside=", outside: leave")
    body = body[: body.index("  notes:\n    title")]
    one, other = two(tmp_path, files, user="bo")
    gone = moved(tmp_path, body, one, other)
    assert set(went(gone).values()) == {"done"}


# Machines


def test_the_disk_of_a_dead_computer_is_only_read(tmp_path: Path, own_home: Path) -> None:
    items = new("copy", more="    retire: yes\n    checks: {pages: {compare: same}}")
    one = trail(tmp_path / "one", items, machines="read_only: yes\n")
    file = tmp_path / "one/new/machine.yaml"
    file.write_text(file.read_text().replace("read_only: yes", "read_only: no"))
    before = contents(tmp_path / "one/old")
    assert not one.walk("old").bad
    assert contents(tmp_path / "one/old") == before
    assert list(own_home.rglob("machines/*/run/journal"))
    assert not one.walk("new").bad
    report = make_report(one.parcel)
    assert "Rename /home/ada/notes" in report.tasks[0].words
    Run(one.old, "run").settle()
    assert not list(own_home.rglob("run"))


def test_an_argument_is_not_a_folder_of_this_computer_unawares(tmp_path: Path) -> None:
    real = tmp_path / "real"
    real.mkdir()
    script = "import sys, pathlib; pathlib.Path(sys.argv[1]).write_text('x'); print(sys.argv[1])"

    def played(paths: str) -> FolderMachine:
        folder = tmp_path / (paths or "unsaid")
        more = f"programs:\n- path: /opt/x\n  start: ['{sys.executable}', -c, \"{script}\"]\n"
        more += f"  paths: {paths}\n" if paths else ""
        made = machine(folder, more=more)
        made.host(str(real)).mkdir(parents=True)
        return made

    with pytest.raises(Exception, match="this computer itself might be changed"):
        played("").start("/opt/x", [f"{real}/a"])
    assert not list(real.iterdir())
    one = played("host")
    assert one.start("/opt/x", [f"{real}/a"]).output == f"{real}/a\n"
    assert one.host(f"{real}/a").read_text() == "x"
    assert not list(real.iterdir())


@pytest.mark.skipif(sys.platform != "linux", reason="looks at processes of Linux")
@pytest.mark.parametrize("kind", ["link", "script", "binary"])
def test_a_program_that_runs_is_seen_however_it_is_started(tmp_path: Path, kind: str) -> None:
    path = tmp_path / "fern"
    if kind == "script":
        path.write_text(f"#!{sys.executable}\nimport time\ntime.sleep(30)\n")
        path.chmod(0o755)
    elif kind == "link":
        shutil.copyfile("/bin/sleep", tmp_path / "real")
        (tmp_path / "real").chmod(0o755)
        path.symlink_to(tmp_path / "real")
    else:
        shutil.copyfile("/bin/sleep", path)
        path.chmod(0o755)
    here = this_machine("root" if os.geteuid() == 0 else "")
    assert here.running(str(path)) == []
    with subprocess.Popen([path, "30"]) as process:
        try:
            end = time.monotonic() + 10
            while not here.running(str(path)) and time.monotonic() < end:
                time.sleep(0.05)
            assert here.running(str(path)) == [f"process {process.pid}"]
        finally:
            process.kill()


@pytest.mark.skipif(
    sys.platform != "linux" or os.geteuid() != 0, reason="acts for another account as root"
)
def test_an_administrator_acts_with_the_account_s_rights(tmp_path: Path) -> None:
    """Where the account may not read this Python, that is refused; else it owns what is made."""
    home = Path("/var/tmp") if Path("/var/tmp").is_dir() else tmp_path
    code = "from widetrail.machine.accounts import become; become('nobody')\n"
    code += "import os; open(os.sys.argv[1], 'w'); print(os.geteuid(), os.environ['HOME'])"
    target = home / f"widetrail-test-{os.getpid()}"
    done = subprocess.run([sys.executable, "-c", code, target], capture_output=True, text=True)
    try:
        if done.returncode:
            assert "may not read the Python that Wide Trail is installed in" in done.stderr
            return
        import pwd

        entry = pwd.getpwnam("nobody")
        assert done.stdout.split() == [str(entry.pw_uid), entry.pw_dir]
        assert target.stat().st_uid == entry.pw_uid
    finally:
        target.unlink(missing_ok=True)


# The language


def test_lint_looks_into_what_is_written() -> None:
    steps = "write: {ini: '{home}/a.ini', at: a/b, value: 'x{word} {nowhere}'}"
    body = "asks:\n  word: {secret: A word}\nplaces:\n  notes: {folder: '{home}/notes'}\n"
    body += "items:\n" + new(steps)
    with pytest.raises(Exception) as error:
        load_recipe_text(_whole(body), "test", KINDS)
    codes = {f.rule for f in error.value.findings}  # type: ignore[attr-defined]
    assert {"secret-written", "unknown-name"} <= codes


SEGMENTS = ("a", "b", "*", "?", "**", "a*", "*b", "*a*", "[ab]", "[!a]", "ab")
NAMES = ("a", "b", "ab", "ba", "aab")


def test_globs_mean_the_same_wherever_they_are_matched() -> None:
    """Every glob of up to three segments, against every path of up to three names."""

    def one_name(glob: str, name: str) -> bool:
        if not glob:
            return not name
        if glob[0] == "*":
            return any(one_name(glob[1:], name[n:]) for n in range(len(name) + 1))
        if not name:
            return False
        if glob[0] == "[":
            inner, _, rest = glob[1:].partition("]")
            return (name[0] in inner) != inner.startswith("!") and one_name(rest, name[1:])
        return glob[0] in ("?", name[0]) and one_name(glob[1:], name[1:])

    def meant(globs: tuple[str, ...], names: tuple[str, ...]) -> bool:
        if not globs:
            return not names
        if globs[0] == "**":
            return any(meant(globs[1:], names[n:]) for n in range(len(names) + 1))
        return bool(names) and one_name(globs[0], names[0]) and meant(globs[1:], names[1:])

    paths = [p for n in (1, 2, 3) for p in itertools.product(NAMES, repeat=n)]
    for count in (1, 2, 3):
        for globs in itertools.product(SEGMENTS, repeat=count):
            matches, automaton = Globs(["/".join(globs)], ignore_case=False), Automaton()
            automaton.add([Segment(s) for s in globs], 7)
            for names in paths:
                wanted = meant(globs, names)
                assert matches("/".join(names)) == wanted, (globs, names)
                state = automaton.start
                for name in names:
                    state = state.step(name)
                assert bool(state.marks) == wanted, (globs, names)


def test_a_hostile_glob_takes_no_longer_than_its_length() -> None:
    hostile = Globs(["**/a*a*a*a*a*b/**/a*/**/a*a*a*c/**/x"], ignore_case=True)
    begun = time.process_time()
    assert not hostile("/".join(["a" * 250] * 200))
    assert time.process_time() - begun < 2


# Rehearsals


def test_a_screen_that_never_changes_proves_nothing(world: World) -> None:
    path = world.folder / "recipes/huemoss.rehearsal.yaml"
    first = jobs_of([path], NOW)[0]
    assert constant_screens([(first, run_job(first))]) == []
    recipe = world.folder / "recipes/huemoss.trail.yaml"
    text = recipe.read_text()
    recipe.write_text(text.replace("screen: [huemoss, list]", "screen: [huemoss, --help]"))
    assert recipe.read_text() != text
    (finding,) = constant_screens([(first, run_job(first))])
    assert finding.rule == "constant-screen"


def test_a_program_that_fails_alike_on_both_is_no_proof(world: World) -> None:
    path = world.folder / "recipes/huemoss.rehearsal.yaml"
    recipe = world.folder / "recipes/huemoss.trail.yaml"
    recipe.write_text(
        recipe.read_text().replace("screen: [huemoss, list]", "screen: [huemoss, nothing]")
    )
    result = rehearse(load_rehearsal(path), NOW)
    assert [d.what for d in result.differences] == ["screen on old"]


def test_the_order_of_the_readme_works(world: World, tmp_path: Path) -> None:
    assert world.plan().status == 0
    assert world.walk(world.old).status == 0
    assert world.walk(world.new).status == 0
    kept = tmp_path / "kept"
    here = Path.cwd()
    os.chdir(tmp_path)
    try:
        ran = widetrail(
            "rehearse", world.folder / "recipes/sporelog.rehearsal.yaml", "--keep", "kept"
        )
    finally:
        os.chdir(here)
    assert ran.status == 0, ran.out
    assert [p.name for p in kept.iterdir()] == ["001 sporelog"]


def test_every_step_of_a_walk_can_be_told(world: World) -> None:
    """No braces of a template, and no more paths than are told, are shown to people."""
    ran = widetrail(
        "plan",
        world.folder / "recipes/dewcast.trail.yaml",
        "--old",
        world.old,
        "--new",
        world.new,
        "--parcel",
        world.folder / "p",
        "--details",
    )
    assert ran.status == 0
    assert "{" not in ran.out
    assert "‹index›" in ran.out


def test_what_was_there_is_kept_once_also_where_the_first_try_failed(tmp_path: Path) -> None:
    steps = ("{run: [fernbook, make], changes: notes}", "{run: [fernbook, about], changes: notes}")
    one = trail(tmp_path, new(*steps))
    there = one.notes("new")
    there.mkdir()
    (there / "session").write_text("mine")
    assert one.walk("new").bad
    (there / "session").unlink()
    done = one.walk("new")
    kept = [s.outcome.facts.backed_up for s in done.steps if s.step.kind == "run"]
    assert list(map(len, kept)) == [1, 0]
    (item,) = make_report(one.parcel).items
    assert len(item.backed_up) == 1
