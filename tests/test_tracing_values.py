"""What a trace tells of values: texts in lists, cells of databases, new names of files."""

from __future__ import annotations

import plistlib
import random
import sqlite3
import sys
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from conftest import contents
from widetrail.machine import FolderMachine, this_machine
from widetrail.tracing import load_script, run_trace
from widetrail.tracing.cells import CELLS_MOST, changed_cells
from widetrail.tracing.lists import any_entry, empty_list, inner_texts
from widetrail.tracing.live_watch import LiveWatch
from widetrail.tracing.parts import change_values, texts_in_lists, values_in
from widetrail.tracing.record import Trace

LISTS: dict[str, bytes] = {
    "json": b'{"shelves": [{"at": "/a", "name": "one"}, {"at": "/b"}], "all": ["/c"]}',
    "yaml": b"# kept\nshelves:\n  - {at: /a, name: one}\n  - at: /b\nall: [/c]\n",
    "toml": b'all = ["/c"]\n[[shelves]]\nat = "/a"\nname = "one"\n[[shelves]]\nat = "/b"\n',
    "plist": plistlib.dumps(
        {"shelves": [{"at": "/a", "name": "one"}, {"at": "/b"}], "all": ["/c"]}
    ),
    "xml": b'<r><shelf at="/a"><name>one</name></shelf><shelf at="/b"/><all>/c</all></r>',
}


@pytest.mark.parametrize("form", LISTS)
def test_texts_in_lists_are_found_and_changed_alone(form: str, tmp_path: Path) -> None:
    machine = desk(tmp_path, {f"kept.{form}": LISTS[form]})
    path = f"/home/alva/kept.{form}"
    texts = texts_in_lists(machine, path)
    wanted = {"/a", "one", "/b"} if form == "xml" else {"/a", "one", "/b", "/c"}
    assert set(texts.values()) == wanted
    [second] = [part.at for part, text in texts.items() if text == "/b"]
    [first] = [part.at for part, text in texts.items() if text == "/a"]
    assert any_entry(form, first) == any_entry(form, second), "they stand alike in their lists"
    change_values(machine, path, form, {second: "/moved"})
    assert {t for p, t in texts_in_lists(machine, path).items()} == (wanted - {"/b"}) | {"/moved"}
    assert inner_texts(form, b"\0 no such thing") == {}


@pytest.mark.parametrize("form", ["json", "yaml", "toml", "plist"])
def test_a_list_can_be_made_empty(form: str, tmp_path: Path) -> None:
    machine = desk(tmp_path, {f"kept.{form}": LISTS[form]})
    path = f"/home/alva/kept.{form}"
    data = machine.host(path).read_bytes()
    from widetrail.finding.stores import file_with

    now = file_with(form, data, {"/shelves": empty_list(form)})  # type: ignore[arg-type]
    assert set(inner_texts(form, now).values()) == {"/c"}
    assert "/all" in values_in(form, now)  # type: ignore[arg-type]


def desk(above: Path, files: dict[str, bytes]) -> FolderMachine:
    """A machine whose account has these files."""
    folder = above / "machines/desk"
    home = folder / "disk/home/alva"
    home.mkdir(parents=True)
    for name, data in files.items():
        (home / name).write_bytes(data)
    program = above / "shelf.py"
    program.write_text(PROGRAM)
    (folder / "disk/opt/shelf").mkdir(parents=True)
    (folder / "disk/opt/shelf/shelf").write_text("")
    (folder / "machine.yaml").write_text(
        "machine: desk\nplatform: linux\nsystem: '12'\nuser: alva\n"
        "programs:\n  - path: /opt/shelf/shelf\n"
        f"    start: [{sys.executable}, {program}]\n    paths: machine\n"
        "disks: {/: {folder: disk}}\n"
    )
    return FolderMachine(folder)


PROGRAM = """
import os, sqlite3, sys
from pathlib import Path
home = Path(os.environ["HOME"])
data = sqlite3.connect(home / "books.db")
if sys.argv[1] == "call":
    data.execute("update book set name = ? where rowid = 2", sys.argv[2:])
    data.commit()
elif sys.argv[1] == "rename":
    (home / "first.txt").rename(home / "last.txt")
else:
    print("Books:", *[row[0] for row in data.execute("select name from book")])
    print(*sorted(path.name for path in home.glob("*.txt")))
"""


def database(rows: int = 3) -> bytes:
    with closing(sqlite3.connect(":memory:")) as made:
        made.execute("create table book (name text, picture blob, shelf text default 'own')")
        made.execute("create table tag (name text primary key, note text) without rowid")
        made.executemany("insert into book (name) values (?)", [(f"b{n}",) for n in range(rows)])
        made.executemany("insert into tag values (?, 'x')", [(f"t{n}",) for n in range(rows)])
        made.commit()
        return made.serialize()


def traced(folder: Path, acts: str) -> Trace:
    script = folder / "shelf.trace.yaml"
    script.write_text(
        "trace: a shelf\nmachine: desk\nprogram: shelf\nscreen: [shelf, list]\n"
        f"idle: 1\nstarts: 2\nacts:\n{acts}"
    )
    return run_trace(load_script(script), folder / "machines")


def test_the_cell_and_the_new_name_are_told(tmp_path: Path) -> None:
    desk(tmp_path, {"books.db": database(), "first.txt": b"what is in it"})
    trace = traced(
        tmp_path,
        "  - {did: called it otherwise, marker: Bachstelze 7, run: [[shelf, call, Bachstelze 7]]}\n"
        "  - {did: gave a file another name, run: [[shelf, rename]]}\n",
    )
    [called, renamed] = trace.acted
    [[value]] = [touch.values for touch in called.changed]
    assert (value.form, value.at, value.marked) == ("sqlite", "book.name, row 2", True)
    assert (value.before, value.after) == ("b1", "Bachstelze 7")
    assert renamed.renamed == (("/home/alva/first.txt", "/home/alva/last.txt", 1),)
    ways = {t.path: t.ways for r in trace.runs for t in r.touched if r.did == renamed.did}
    assert "removed" not in ways["/home/alva/first.txt"], "nothing of it is gone"


def changed(
    tmp_path: Path, *queries: str, rows: int = 3
) -> list[tuple[str, str | None, str | None]]:
    before = desk(tmp_path / "before", {"books.db": database(rows)})
    after = desk(tmp_path / "after", {"books.db": database(rows)})
    with closing(sqlite3.connect(after.host("/home/alva/books.db"))) as data:
        for query in queries:
            data.execute(query)
        data.commit()
    cells = changed_cells(before, after, "/home/alva/books.db")
    return [(part.at, was, now) for part, was, now in cells]


def test_rows_that_come_and_go_are_told_by_their_own_key(tmp_path: Path) -> None:
    found = changed(
        tmp_path,
        "delete from book where rowid = 1",
        "insert into book (name, picture) values ('new', x'00ff')",
        "update tag set note = 'y' where name = 't1'",
        "create table more (a)",
        "insert into more values (1.5)",
    )
    assert found == [
        ("book.name, row 1", "b0", None),
        ("book.shelf, row 1", "own", None),
        ("book.name, row 4", None, "new"),
        ("book.picture, row 4", None, "2 bytes"),
        ("book.shelf, row 4", None, "own"),
        ("tag.note, row t1", "x", "y"),
        ("more.a, row 1", None, "1.5"),
    ]


def test_what_is_told_of_a_database_has_an_end(tmp_path: Path) -> None:
    found = changed(tmp_path, "update book set shelf = name", rows=CELLS_MOST * 3)
    assert len(found) == CELLS_MOST
    assert changed(tmp_path / "same") == []


# Others that write meanwhile


@contextmanager
def busy(folder: Path) -> Iterator[None]:
    """Somebody else who writes, renames and removes files in a folder until the end."""
    ended = threading.Event()

    def write() -> None:
        chance, number = random.Random(7), 0
        while not ended.is_set():
            number += 1
            path = folder / f"others-{chance.randrange(20)}.tmp"
            path.write_text(str(number))
            if number % 3 == 0:
                path.unlink()
            ended.wait(0.002)

    folder.mkdir(parents=True, exist_ok=True)
    thread = threading.Thread(target=write)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


def test_a_machine_that_others_write_to_is_traced(tmp_path: Path) -> None:
    machine = desk(tmp_path, {"books.db": database(), "first.txt": b"x"})
    call = "  - {did: called it otherwise, marker: wren, run: [[shelf, call, wren]], repeat: 2}\n"
    with busy(machine.host("/home/alva/.local/share/other")):
        trace = traced(tmp_path, call)
    [called] = trace.acted
    assert [touch.path for touch in called.changed] == ["/home/alva/books.db"]
    needed = {one.part.path for one in trace.shows if one.needed and one.part.is_file}
    assert needed == {"/home/alva/books.db", "/home/alva/first.txt"}


def test_what_others_write_meanwhile_is_not_what_was_typed(own_home: Path, tmp_path: Path) -> None:
    watching = LiveWatch(this_machine(), "shelf")
    with busy(own_home / "other"):
        watching.end("start", "started, and closed again")
        (own_home / "kept.json").write_text('{"theme": "Bachstelze 7"}')
        run = watching.end("act", "another theme", "Bachstelze 7")
    assert [t.path for t in run.touched if t.marker] == [f"{own_home}/kept.json"]
    before = contents(own_home)
    assert watching.trace("the shelf").runs[1] == run
    assert contents(own_home) == before
