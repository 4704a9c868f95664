"""Reports from the field: they tell how a move went, and no name, path, serial or secret of it."""

import json
import random
import re
import tempfile
import unicodedata
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from build import NOW
from conftest import FIGURES, World, contents, swept, widetrail
from fuzzing import mutated
from widetrail.errors import WideTrailError
from widetrail.field import FieldFile, MadeUpNames, own_words, public_names, rebuild
from widetrail.field.stand_in import play
from widetrail.library.field_reports import field_report, rehearse_field_report
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import machine_file_of
from widetrail.machine.own_folders import own_state
from widetrail.rehearsing import Rehearsal, load_rehearsals, rehearse
from widetrail.rehearsing.maker import serials_on
from widetrail.rehearsing.stage import machines_near
from widetrail_demo.world import copy_recipes

WORD = re.compile(r"\w+(?:[.\-_']\w+)*")
OURS = own_words()


def is_private(name: str, public: frozenset[str]) -> bool:
    """Return whether a name is none of a recipe, a system or our own language."""
    words = WORD.findall(name)
    ours = all(w in public or w.casefold() in OURS or w.isdecimal() for w in words)
    return len(name) > 2 and name not in public and not ours


def private_names(machine: Path, public: frozenset[str]) -> set[str]:
    """Return every name on a machine, of files, folders, its account and itself."""
    file = machine_file_of(machine)
    paths = (p for p in machine.rglob("*") if p.parent not in (machine, machine / "disks"))
    names = {file.machine, file.user, *(path.name for path in paths)}
    return {name for name in names if is_private(name, public)}


def texts(value: Any) -> Iterator[str]:
    """Give each text in a report, keys too."""
    if isinstance(value, dict):
        for key, inner in value.items():
            yield key
            yield from texts(inner)
    elif isinstance(value, list | tuple):
        for inner in value:
            yield from texts(inner)
    elif isinstance(value, str):
        yield value


def hits(report: FieldFile, private: set[str]) -> list[str]:
    """Return which private names stand anywhere in a report, but for the recipes' own text."""
    told = json.loads(report.text())
    del told["recipes"]
    whole = "\n".join(texts(told))
    return sorted(n for n in private if re.search(rf"(?<!\w){re.escape(n)}(?!\w)", whole))


QUICK = ("huemoss", "loamlens-maker", "brackenwend-names")


@pytest.fixture(scope="session")
def recipes_of_the_demo(first_world: Path) -> Path:
    return first_world / "recipes"


def goes_wrong(rehearsal: Rehearsal) -> bool:
    """Return whether a step is expected to go wrong."""
    expected = rehearsal.file.expect.items.values()
    return any(item.state in ("failed", "waiting") for item in expected)


def pytest_generate_tests(metafunc: pytest.Metafunc) -> None:
    if not {"rehearsal_file", "amiss_file"} & set(metafunc.fixturenames):
        return
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "recipes").mkdir()
        copy_recipes(Path(folder) / "recipes")
        files = sorted((Path(folder) / "recipes").glob("*.rehearsal.yaml"))
        amiss = [path.name for path in files if any(map(goes_wrong, load_rehearsals(path)))]
    if "amiss_file" in metafunc.fixturenames:
        metafunc.parametrize("amiss_file", swept(amiss, ()))
        return
    found = [path.name for path in files]
    kept = [name for name in found if name.partition(".")[0] in QUICK]
    metafunc.parametrize("rehearsal_file", swept(found, kept))


def reports_of(rehearsal: Rehearsal, keep: Path) -> Iterator[tuple[FieldFile, set[str]]]:
    """Give a report made from afar, and on either machine, with what is private on both."""
    rehearse(rehearsal, NOW, keep=keep)
    here, parcel = keep / "here", keep / "here/parcel"
    if not parcel.exists():
        return
    recipes = rehearsal.recipes()
    public = public_names(recipes)
    file = rehearsal.file
    machines = [here / side.machine for side in (file.old, file.new)]
    private = {
        n for machine in machines if machine.exists() for n in private_names(machine, public)
    }
    answers = (value for value in file.all_hands.values() if isinstance(value, str))
    serials = serials_on(FolderMachine(machines_near(rehearsal.path) / file.old.machine), recipes)
    assert bool(serials) == any(one.recipe.licences for one in recipes)
    private |= {word for word in (*answers, *serials.values()) if is_private(word, public)}
    for machine in (None, *machines):
        if machine is None or machine.exists():
            yield (
                field_report(parcel, None if machine is None else FolderMachine(machine))[0],
                private,
            )


def test_nothing_of_the_machines_stands_in_a_report(
    rehearsal_file: str, recipes_of_the_demo: Path, tmp_path: Path
) -> None:
    for number, rehearsal in enumerate(load_rehearsals(recipes_of_the_demo / rehearsal_file)):
        for report, private in reports_of(rehearsal, tmp_path / str(number)):
            assert len(private) > 10
            assert hits(report, private) == [], rehearsal.title
            assert FieldFile.read(report.text().encode(), "x") == report


def test_whatever_goes_wrong_in_the_demo_goes_wrong_again_from_its_report(
    amiss_file: str,
    recipes_of_the_demo: Path,
    tmp_path: Path,
    record_property: Callable[[str, object], None],
) -> None:
    again = several = 0
    for rehearsal in load_rehearsals(recipes_of_the_demo / amiss_file):
        if not goes_wrong(rehearsal):
            continue
        keep = tmp_path / str(several)
        rehearse(rehearsal, NOW, keep=keep)
        here = keep / "here"
        report, _ = field_report(here / "parcel", FolderMachine(here / rehearsal.file.new.machine))
        (keep / "field.json").write_text(report.text())
        done = rehearse_field_report(keep / "field.json", keep / "made")
        assert done.same_way, (rehearsal.title, done.other, done.more)
        several, again = several + 1, again + (not done.recorded)
    record_property(FIGURES, f"reports of {amiss_file}: {again} of {several} by itself")


# Names


def names(*public: str) -> MadeUpNames:
    return MadeUpNames(b"salt" * 8, {}, public)


SHAPES = st.text(min_size=1, max_size=40).filter(lambda t: "/" not in t and "\\" not in t)


@settings(max_examples=40)
@given(st.lists(SHAPES, unique=True))
def test_two_names_never_become_one(given_names: list[str]) -> None:
    made = names("Notes")
    became = {name: made.name(name) for name in given_names}
    assert len(set(became.values())) == len(became)
    assert {name: made.name(name) for name in given_names} == became
    again = MadeUpNames(made.salt, made.known, ["Notes"])
    assert {name: again.name(name) for name in given_names} == became


@pytest.mark.parametrize(
    "name",
    [
        "Anna's letters.docx",
        "Große Wiese 1987.txt",
        "  spaced . ",
        "a:b?c*.txt",
        "日記と手紙と.db",
        "x" * 250,
    ],
)
def test_a_name_keeps_its_shape(name: str) -> None:
    made = names().name(name)
    assert made != name
    assert len(made.encode()) == len(name.encode())
    assert [c.isalpha() for c in made] == [c.isalpha() for c in name]
    assert [c for c in made if not c.isalnum()] == [c for c in name if not c.isalnum()]
    assert Path(made).suffix == Path(name).suffix or not Path(name).suffix[1:].isalpha()


def test_what_is_alike_stays_alike() -> None:
    made = names()
    assert made.name("Meadow") != made.name("meadow")
    assert made.name("Meadow").casefold() == made.name("meadow").casefold()
    composed, apart = "Gärten", unicodedata.normalize("NFD", "Gärten")
    told = made.name(composed), made.name(apart)
    assert told[0] != told[1]
    assert unicodedata.normalize("NFC", told[0]) == unicodedata.normalize("NFC", told[1])


def test_what_is_nobodys_stays() -> None:
    made = names("Documents", "palettes.json")
    made.hide(["Documents of Anna", "ines"])
    path = r"C:/Users/ines/Documents/palettes.json/aux/../nul.txt"
    assert made.path(path) == f"C:/{made.name('Users')}/{made.name('ines')}/Documents/" + (
        "palettes.json/aux/../nul.txt"
    )
    assert made.name("ines") != "ines"


def test_a_name_that_is_a_word_of_ours_goes_too() -> None:
    made = names()
    words = frozenset({"copy", "of", "cannot", "be", "read", "failed"})
    sentence = "C:/copy of: cannot be read, Annabel failed at 12 of 123456"
    assert made.path("C:/copy of") != "C:/copy of"
    told = made.sentence(sentence, words)
    assert not {"copy", "Annabel", "123456"} & set(WORD.findall(told))
    assert {"cannot", "be", "read", "failed", "12"} <= set(WORD.findall(told))


# The commands


@pytest.fixture(scope="session")
def gone_wrong(first_world: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return the folder of a move in which somebody cleared a place before it was checked."""
    [amiss] = [
        one
        for one in load_rehearsals(first_world / "recipes/huemoss-amiss.rehearsal.yaml")
        if one.case.startswith("someone clears")
    ]
    kept = tmp_path_factory.mktemp("gone-wrong") / "kept"
    rehearse(amiss, NOW, keep=kept)
    return kept / "here"


def test_it_is_shown_before_it_is_written(gone_wrong: Path, tmp_path: Path) -> None:
    parcel, machine = gone_wrong / "parcel", gone_wrong / "glass-office"
    to = tmp_path / "field.json"
    before = contents(gone_wrong)
    call = ("report", parcel, "--for-maintainer", to, "--machine", machine)
    ran = widetrail(*call)
    assert (ran.status, "then add --yes" in ran.err) == (3, True)
    assert not to.exists()
    assert not (own_state() / "made-up-names.json").exists()
    shown = ran.out
    assert FieldFile.read(shown.encode(), "shown").here == "new"
    ran = widetrail(*call, "--yes")
    assert ran.status == 0
    assert to.read_text() == ran.out
    assert contents(gone_wrong) == before
    kept = own_state() / "made-up-names.json"
    assert kept.stat().st_mode & 0o077 == 0
    assert "imarsh" in json.loads(kept.read_text())["names"]
    assert json.loads(kept.read_text())["salt"] not in to.read_text()
    ran = widetrail(*call, "--yes")
    assert (ran.status, "already exists" in ran.err) == (2, True)
    again = widetrail(*call[:3], tmp_path / "again.json", *call[4:], "--yes")
    assert again.out == to.read_text()  # the same names each time


def test_a_report_becomes_a_rehearsal_that_fails_the_same_way(
    gone_wrong: Path, tmp_path: Path
) -> None:
    parcel, machine = gone_wrong / "parcel", gone_wrong / "glass-office"
    to, folder = tmp_path / "field.json", tmp_path / "made"
    widetrail("report", parcel, "--for-maintainer", to, "--machine", machine, "--yes")
    ran = widetrail("rehearse", "--from", to, "--keep", folder, "--json")
    told = ran.json
    assert (ran.status, told["same_way"]) == (0, True)
    assert {s["step"] for s in told["again"]} == {"huemoss.palettes/check", "huemoss.stamps/check"}
    assert told["recorded"] == told["other"] == told["more"] == []
    assert widetrail("rehearse", folder / "field.rehearsal.yaml").status == 0
    text = widetrail("rehearse", "--from", to, "--keep", tmp_path / "b").out
    assert "goes wrong again by itself, in the same way" in text
    assert "It goes as it went in the field." in text


@pytest.fixture
def counted_otherwise(world: World, tmp_path: Path) -> Path:
    """Return the report of a move after which a program counts other than before."""
    recipes = world.folder / "recipes"
    [amiss] = [
        one
        for one in load_rehearsals(recipes / "sporelog-amiss.rehearsal.yaml")
        if one.case.startswith("someone adds specimens")
    ]
    rehearse(amiss, NOW, keep=tmp_path / "kept")
    machine = FolderMachine(tmp_path / "kept/here" / amiss.file.new.machine)
    report, _ = field_report(tmp_path / "kept/here/parcel", machine)
    to = tmp_path / "field.json"
    to.write_text(report.text())
    return to


def verdicts(report: FieldFile) -> dict[str, str]:
    """Return how each check came out, by step and name."""
    return {
        f"{step}: {name}": check["verdict"]
        for entry in report.logbook
        for step, outcome in entry.get("steps", {}).items()
        for name, check in outcome["facts"].get("checks", {}).items()
    }


def test_readings_tell_what_they_told_until_they_ask_something_else(
    counted_otherwise: Path, world: World, tmp_path: Path
) -> None:
    bare = rehearse_field_report(counted_otherwise, tmp_path / "bare")
    wrong = {"sporelog.collection/check", "sporelog.views/check"}
    assert (bare.same_way, {one.id for one in bare.again}, bare.recorded) == (True, wrong, ())
    rehearsed, _ = field_report(tmp_path / "bare/walked/here/parcel")
    told = FieldFile.read(counted_otherwise.read_bytes(), "told")
    assert verdicts(rehearsed) == verdicts(told)
    recipe = tmp_path / "bare/sporelog.trail.yaml"
    recipe.write_text(
        recipe.read_text().replace("count(*) from specimen", "count(1) from specimen")
    )
    ran = widetrail("rehearse", tmp_path / "bare/field.rehearsal.yaml")
    assert (ran.status, "unknown" in ran.out) == (1, True)  # no contents are there to be counted
    like = world.folder / "recipes/sporelog.rehearsal.yaml"
    assert rehearse_field_report(counted_otherwise, tmp_path / "like", like).same_way


def test_what_cannot_be_had_from_a_report_is_told(counted_otherwise: Path, tmp_path: Path) -> None:
    text = counted_otherwise.read_text()
    other = tmp_path / "other.json"
    other.write_text(text.replace("sporelog.views/check", "sporelog.views/looked"))
    ran = widetrail("rehearse", "--from", other, "--keep", tmp_path / "a")
    assert (ran.status, "Name a rehearsal of the same recipe" in ran.out) == (1, True)


def test_what_the_system_refused_is_refused_again(world: World, tmp_path: Path) -> None:
    rehearsal = world.folder / "recipes/full.rehearsal.yaml"
    rehearsal.write_text(
        "rehearsal: the disk is full\nrecipe: huemoss\nold: {machine: potting-shed}\n"
        "new: {machine: glass-office}\nstops:\n"
        "  - {before: folder of the stamps/1/publish, by: disk full, lasting: yes}\n"
        "expect: {stamps: {state: waiting}}\n"
    )
    [full] = load_rehearsals(rehearsal)
    went = rehearse(full, NOW, keep=tmp_path / "kept")
    assert not went.differences, went.differences
    report, _ = field_report(tmp_path / "kept/here/parcel")
    to = tmp_path / "field.json"
    to.write_text(report.text())
    done = rehearse_field_report(to, tmp_path / "made")
    assert done.same_way
    assert [(one.id, one.refused) for one in done.again] == [
        ("huemoss.stamps/folder of the stamps/1/publish", "disk full")
    ]


# Reports of somebody who means harm


_LEADS_OUT: dict[str, Any] = {"path": "../../../../../../out.txt", "kind": "file", "size": 1}


@pytest.mark.parametrize(
    ("change", "outside"),
    [
        (lambda told: told["recipes"][0].update(id="../../out"), "out.trail.yaml"),
        (lambda told: _paths(told, "C:/../../../out"), "out"),
        (lambda told: told["packed"]["huemoss.stamps"]["names"].append(_LEADS_OUT), "out.txt"),
        (lambda told: told["plan"]["stations"][0]["roots"].update(home="C:/../../../out"), "out"),
        (lambda told: told["plan"]["stations"][0]["facts"].update(user="../../../out"), "out"),
    ],
)
def test_a_report_writes_below_its_folder_only(
    gone_wrong: Path, tmp_path: Path, change: Any, outside: str
) -> None:
    report, _ = field_report(gone_wrong / "parcel")
    told = json.loads(report.text())
    change(told)
    (tmp_path / "in").mkdir()
    to = tmp_path / "in/field.json"
    to.write_text(json.dumps(told))
    before = contents(tmp_path)
    with suppress(WideTrailError, OSError):
        rebuild(FieldFile.read(to.read_bytes(), "x"), tmp_path / "in/a/b/made")
    now = contents(tmp_path)
    new = {name for name in now if name not in before and not name.startswith(("in/a", "own-"))}
    assert new == set(), new
    assert outside not in {Path(name).name for name in now if not name.startswith("in/a/b/made")}


@pytest.mark.parametrize("folder", ["C:/../../out", "E:/out", "/out"])
def test_a_stand_in_makes_nothing_beside_its_machine(
    folder: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    disk = tmp_path / "machine/disk"
    monkeypatch.setenv("FOLDER_MACHINE_DISKS", json.dumps({"C:": str(disk)}))
    assert play([{"arguments": ["open"], "status": 0, "folders": ["C:/in"]}], ["open"]) == 0
    before = contents(tmp_path)
    with pytest.raises(ValueError, match="not on this machine"):
        play([{"arguments": ["open"], "status": 0, "folders": [folder]}], ["open"])
    assert contents(tmp_path) == before


def _paths(told: Any, path: str) -> None:
    for item in told["plan"]["items"]:
        item["old_path"] = path


@pytest.mark.parametrize("data", [b"", b"[]", b'{"field": 2}', b"[" * 100_000, b'{"field": 1}'])
def test_what_is_no_report_is_refused(data: bytes, tmp_path: Path) -> None:
    to = tmp_path / "field.json"
    to.write_bytes(data)
    ran = widetrail("rehearse", "--from", to, "--keep", tmp_path / "made")
    assert (ran.status, "is no field report" in ran.err) == (2, True)
    assert not (tmp_path / "made").exists()


def test_a_report_that_was_changed_ends_in_nothing_but_an_error_of_ours(
    gone_wrong: Path, tmp_path: Path
) -> None:
    report, _ = field_report(gone_wrong / "parcel", FolderMachine(gone_wrong / "glass-office"))
    seed, luck = json.loads(report.text()), random.Random("field")
    for number in range(60):
        told = mutated(seed, luck)
        with suppress(WideTrailError):
            read = FieldFile.read(json.dumps(told).encode(), "x")
            rebuild(read, tmp_path / str(number))
