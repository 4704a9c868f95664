"""Drafts: samples in which names are made up, and one recipe for several platforms."""

from __future__ import annotations

import json
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from conftest import widetrail
from test_tracing import DATA, shelf, traced  # noqa: F401
from widetrail.machine import FolderMachine
from widetrail.recipe import load_recipe
from widetrail.steps import KINDS
from widetrail.tracing import load_script, run_trace
from widetrail.tracing.lab import Screen
from widetrail.tracing.naming import is_personal
from widetrail.tracing.sample_names import make_up_account, make_up_files
from widetrail.tracing.scrubbing import Shape, change_texts, shape_of


def test_the_account_and_the_names_of_files_are_made_up(shelf: Path) -> None:  # noqa: F811
    """A sample of another account, in which files and what names them are called otherwise."""
    data = shelf / "machines/desk/disk/home/alva/.local/share/shelf"
    (data / "Letters of Alma.txt").write_text("x")
    (data / "books.txt").write_text(
        "Mosses\nKept in /home/alva/.local/share/shelf/Letters of Alma.txt\n"
    )
    record = shelf / "shelf.traced.json"
    record.write_text(json.dumps(traced(shelf).as_json()))
    ran = widetrail("trace", "draft", record, shelf / "drafted")
    assert ran.status == 0, ran.out
    old = shelf / "drafted/machines/shelf-old"
    machine = FolderMachine(old)
    assert machine.user != "alva"
    assert len(machine.user) == 4
    top = machine.host(f"/home/{machine.user}/.local/share/shelf")
    named = (top / "books.txt").read_text().partition("in ")[2].rstrip("\n")
    assert machine.look(named) is not None, "the path in the file leads to the file"
    everything = b"".join(path.read_bytes() for path in old.rglob("*") if path.is_file())
    assert b"alva" not in everything
    assert b"Alma" not in everything
    assert not [path for path in old.rglob("*") if "Alma" in path.name or path.name == "alva"]


def desk(above: Path) -> Path:
    folder = above / "desk"
    (folder / "disk/home/alva/Own").mkdir(parents=True)
    (folder / "machine.yaml").write_text(
        "machine: desk\nplatform: linux\nsystem: '12'\nuser: alva\ndisks: {/: {folder: disk}}\n"
    )
    return folder


def test_a_name_that_the_program_needs_stays(tmp_path: Path) -> None:
    folder = desk(tmp_path)
    own = folder / "disk/home/alva/Own"
    for name in ("Main Book.txt", "Letter to Jo.txt", "said-so.txt", "plain.txt"):
        (own / name).write_text("Letter to Jo.txt")

    def look(machine: FolderMachine) -> Shape:
        there = [path.name for path in machine.folder.rglob("*.txt")]
        return 0 if "Main Book.txt" in there else 1, [[str(len(there))]]

    names = ["Main Book.txt", "Letter to Jo.txt", "said-so.txt", "plain.txt"]
    assert make_up_files(folder, names, "{own}/said-so.txt", (), look) == ["Main Book.txt"]
    now = {path.name for path in own.iterdir()}
    assert {"Main Book.txt", "said-so.txt", "plain.txt"} < now
    [letter] = now - {"Main Book.txt", "said-so.txt", "plain.txt"}
    assert letter != "Letter to Jo.txt"
    assert (own / letter).read_text() == letter, "what names it follows"


def test_an_account_that_the_program_needs_stays(tmp_path: Path) -> None:
    folder = desk(tmp_path)
    assert not make_up_account(folder, lambda machine: (0, [[machine.user]]))
    assert FolderMachine(folder).user == "alva"
    assert (folder / "disk/home/alva/Own").is_dir()


@pytest.mark.parametrize(
    ("name", "personal"),
    [("Letter.txt", True), ("my letter.txt", True), ("épi", True), ("log-1.txt", False)],
)
def test_which_names_a_person_may_have_given(name: str, personal: bool) -> None:
    assert is_personal(name) == personal


def test_nothing_of_a_former_text_stays_in_a_database(tmp_path: Path) -> None:
    folder = desk(tmp_path)
    machine, path = FolderMachine(folder), "/home/alva/letters.db"
    host = machine.host(path)
    with closing(sqlite3.connect(host)) as data:
        data.execute("pragma journal_mode = wal")
        data.execute("create table letter (text)")
        data.executemany("insert into letter values (?)", [(f"Dear Alma {n}",) for n in range(90)])
        data.commit()
        data.execute("pragma wal_checkpoint")
        data.execute("insert into letter values ('Alma, in the log')")
        data.commit()
        for beside in ("", "-wal"):
            shutil.copyfile(f"{host}{beside}", tmp_path / f"kept{beside}")
    for beside in ("", "-wal"):
        shutil.copyfile(tmp_path / f"kept{beside}", f"{host}{beside}")
    assert change_texts(machine, path, lambda text: text.replace("Alma", "Bobo"))
    left = b"".join(file.read_bytes() for file in host.parent.glob("letters.db*"))
    assert b"Alma" not in left
    assert left.count(b"Bobo") == 91
    assert not change_texts(machine, path, lambda text: text), "nothing changes"


def test_what_stays_of_a_print_out_are_its_numbers() -> None:
    assert shape_of(Screen(0, "b 2 3\na 1")) == (0, [["1"], ["2", "3"]])


# Several platforms


@pytest.fixture
def records(first_world: Path, tmp_path: Path) -> dict[str, Path]:
    """Traces of one program on two platforms."""
    (tmp_path / "machines").mkdir()
    found = {}
    for machine in ("gatehouse", "seed-vault"):
        shutil.copytree(
            first_world / "machines" / machine, tmp_path / "machines" / machine, symlinks=True
        )
        script = tmp_path / f"{machine}.trace.yaml"
        text = (first_world / "traces/brackenwend.trace.yaml").read_text()
        script.write_text(text.replace("machine: seed-vault", f"machine: {machine}"))
        trace = run_trace(load_script(script), tmp_path / "machines")
        found[machine] = tmp_path / f"{machine}.traced.json"
        found[machine].write_text(json.dumps(trace.as_json()))
    return found


@pytest.mark.sweep
def test_one_recipe_is_drafted_for_several_platforms(
    records: dict[str, Path], tmp_path: Path
) -> None:
    drafted = tmp_path / "drafted"
    ran = widetrail(
        *(
            "trace",
            "draft",
            records["seed-vault"],
            drafted,
            "--with",
            records["gatehouse"],
            "--json",
        )
    )
    assert ran.status == 0, ran.out
    told = json.loads(ran.out)
    assert told["passed"] is True
    assert {Path(path).name.partition(".")[0] for path in told["rehearsals"]} == {
        "brackenwend-macos",
        "brackenwend-linux",
        "brackenwend-macos-to-linux",
        "brackenwend-linux-to-macos",
    }
    recipe = load_recipe(Path(told["recipe"]), KINDS).recipe
    [place] = recipe.places.values()
    cases = {case.for_.platform: case.folder for case in place if case.for_ is not None}
    assert cases == {"macos": "{config}/Brackenwend", "linux": "{config}/brackenwend"}
    assert len(recipe.items) == 1
    lint = widetrail("lint", drafted)
    assert lint.status == 0, lint.out
    one, again = records["gatehouse"], tmp_path / "again"
    refused = widetrail("trace", "draft", one, again, "--with", one)
    assert refused.status == 2
    assert "several traces are of one platform" in refused.err
    assert not again.exists()
