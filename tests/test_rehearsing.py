"""Rehearsals as proof: what they notice, what they must not pass over, and what none has tried."""

from __future__ import annotations

import os
import pickle
import re
import shutil
import subprocess
import sys
from pathlib import Path
from xml.etree import ElementTree

import pytest

from conftest import FIGURES, NOW, SWEEP, World, contents, widetrail
from widetrail.errors import DocumentUnusable, Halted, InputUnusable, Obstructed
from widetrail.findings import Finding
from widetrail.recipe import load_recipe
from widetrail.rehearsing import Rehearsed, collect_rehearsals, load_rehearsals, rehearse
from widetrail.rehearsing.batch import Job, jobs_of, run_job, run_many
from widetrail.rehearsing.coverage import (
    Coverage,
    Explained,
    coverage_of,
    load_unproved,
    show_where,
)
from widetrail.rehearsing.mutants import Judged, judge_mutants, mutants_of, show_mutant, unneeded
from widetrail.rehearsing.scaffold import Beginning, begin_recipe
from widetrail.rehearsing.stage import canary
from widetrail.steps import KINDS
from widetrail.workers import Crew

ROSTER = """#!/bin/sh
case "$1" in
  list) ls "$FOLDER_MACHINE/.."; ls "$HOME/Documents/Mossbook" 2>/dev/null; true;;
  stray) touch "$(dirname "$FOLDER_MACHINE")/../home/stray";;
  *) exit 3;;
esac
"""
"""A program that prints what lies beside its machine, and can write where it should not."""


@pytest.fixture
def begun(tmp_path: Path) -> Path:
    """A recipe as ``widetrail new`` makes it, with its rehearsal and machines."""
    folder = tmp_path / "mossbook"
    told = ("mossbook", "Mossbook", "Sedge", "linux", "{documents}/Mossbook", "{programs}/mossbook")
    begin_recipe(folder, Beginning(*told))
    for file in folder.glob("machines/*/machine.yaml"):  # its programs are scripts of these tests
        file.write_text(file.read_text().replace("isolated: yes\n", ""))
    return folder


def _write(folder: Path, text: str) -> Path:
    path = folder / "tried.rehearsal.yaml"
    head = "rehearsal: tried\nrecipe: mossbook\n"
    for station in ("old", "new"):
        if f"\n{station}:" not in f"\n{text}":
            head += f"{station}: {{machine: mossbook-{station}}}\n"
    path.write_text(head + text, encoding="utf-8")
    return path


def _run(folder: Path, text: str) -> Rehearsed:
    (rehearsal,) = load_rehearsals(_write(folder, text))
    return rehearse(rehearsal, NOW)


def _told(result: Rehearsed) -> list[tuple[str, str, str]]:
    return [(d.what, d.expected, d.found) for d in result.differences]


def _recipe(folder: Path, old: str, new: str) -> None:
    path = folder / "mossbook.trail.yaml"
    text = path.read_text(encoding="utf-8")
    assert old in text
    path.write_text(text.replace(old, new), encoding="utf-8")


def _coverage(folder: Path, results: list[Rehearsed]) -> Coverage:
    return coverage_of(load_recipe(folder / "mossbook.trail.yaml", KINDS), results)


def _all(folder: Path) -> list[Rehearsed]:
    return run_many(jobs_of(collect_rehearsals([folder]), NOW))


# Beginning


@pytest.mark.parametrize("platform", ["windows", "macos", "linux"])
def test_a_recipe_begins_with_a_rehearsal_that_passes_and_reaches_all(
    tmp_path: Path, platform: str
) -> None:
    ran = widetrail("new", tmp_path / "x", "--name", "Käfer: Buch", "--platform", platform)
    assert ran.status == 0, ran.err
    ran = widetrail("rehearse", tmp_path / "x", "--coverage", "--fail-under", "100")
    assert (ran.status, "3 of 3 rehearsals passed" in ran.out) == (0, True), ran.out
    assert "warning" not in ran.out  # another user name, another drive
    assert widetrail("new", tmp_path / "x", "--name", "Käfer: Buch").status == 2  # it is there
    assert widetrail("lint", tmp_path / "x").status == 0


def test_a_beginning_that_is_none_leaves_nothing(tmp_path: Path) -> None:
    for more in (["--keeps", "C:/Users"], ["--id", "No Id"], ["--sign", "{nowhere}/x"]):
        ran = widetrail("new", tmp_path / "x", "--name", "Moss", *more)
        assert (ran.status, (tmp_path / "x").exists()) == (2, False), ran.err


def test_every_mutant_of_a_first_recipe_is_noticed(begun: Path) -> None:
    loaded = load_recipe(begun / "mossbook.trail.yaml", KINDS)
    listed = jobs_of(collect_rehearsals([begun]), NOW)
    runs = [(job, run_job(job)) for job in listed]
    judged = judge_mutants(loaded, runs)
    assert len(judged) >= 2
    assert [j.mutant.change for j in judged if j.survived] == []


# What a rehearsal must not pass over


def test_nothing_in_common_is_no_proof(begun: Path) -> None:
    empty = "old: {machine: mossbook-old, removes: /home/anna/Documents/Mossbook/first.txt}\n"
    _recipe(begun, 'files: "{kept}"', 'files: "{kept}/*.txt"')
    told = _told(_run(begun, f"{empty}expect: {{kept: {{}}}}\n"))
    assert told == [
        ("kept.checks.files_there", "a value, or an expect that says it is empty", "0 = 0")
    ]
    assert _run(begun, f"{empty}expect: {{kept: {{checks: {{files_there: 0}}}}}}\n").passed


def test_unknown_is_never_equal_to_unknown(begun: Path) -> None:
    _recipe(begun, '{files: "{kept}"}', '{json: "{kept}/first.txt", at: /count}')
    told = _told(_run(begun, "expect: {kept: {}}\n"))
    assert told[0][:2] == ("kept", "carried") and "unknown" in told[0][2]
    said = "{state: failed, checks: {files_there: {unknown: first.txt}}}"
    assert _run(begun, f"expect: {{kept: {said}}}\n").passed


def test_only_the_machine_at_hand_is_within_reach(begun: Path) -> None:
    for station in ("old", "new"):
        machine = begun / "machines" / f"mossbook-{station}"
        script = machine / "roster.sh"
        script.write_text(ROSTER, encoding="utf-8")
        script.chmod(0o755)
        with (machine / "machine.yaml").open("a") as file:
            file.write(f"programs: [{{path: /usr/bin/mossbook, start: ['{script}']}}]\n")
    _recipe(
        begun, "  maker:", "  programs: {mossbook: mossbook}\n  screen: [mossbook, list]\n  maker:"
    )
    result = _run(begun, "expect: {kept: {}, screen: same}\n")
    assert result.new_screen.splitlines()[0] == "mossbook-new"  # neither old nor the parcel
    assert "mossbook-old" not in result.new_screen
    assert result.old_screen.splitlines()[0] == "mossbook-old"
    assert "mossbook-new" not in result.old_screen
    assert _told(result) == [("screen, line 1", "mossbook-old", "mossbook-new")]


def test_what_is_written_into_the_account_s_own_home_is_seen(tmp_path: Path) -> None:
    before = os.environ.get("HOME")
    with canary(tmp_path / "home") as touched:
        (Path.home() / ".config" / "mossbook").write_text("stray")
        (Path.home() / "kept.txt").unlink()
    assert touched == {".config/mossbook": "added", "kept.txt": "removed"}
    assert os.environ.get("HOME") == before


def test_a_program_that_leaves_its_machine_is_seen(begun: Path) -> None:
    machine = begun / "machines" / "mossbook-new"
    script = machine / "roster.sh"
    script.write_text(ROSTER, encoding="utf-8")
    script.chmod(0o755)
    with (machine / "machine.yaml").open("a") as file:
        file.write(f"programs: [{{path: /usr/bin/mossbook, start: ['{script}']}}]\n")
    _recipe(begun, "  maker:", "  programs: {mossbook: mossbook}\n  maker:")
    text = "new: {machine: mossbook-new, prepare: [[mossbook, stray]]}\nexpect: {kept: {}}\n"
    assert ("the account's own home", "nothing there is touched", "stray was added") in _told(
        _run(begun, text)
    )


def test_machines_are_left_alone_and_kept_where_that_is_asked(begun: Path) -> None:
    before = contents(begun / "machines")
    ran = widetrail("rehearse", begun, "--keep", begun / "kept")
    assert ran.status == 0, ran.out
    assert contents(begun / "machines") == before
    kept = sorted(p.name for p in (begun / "kept").iterdir())
    assert kept == [f"00{n} mossbook" for n in (1, 2, 3)]
    there = begun / "kept" / kept[0] / "here"
    assert {p.name for p in there.iterdir()} == {"mossbook-new", "mossbook-old", "parcel"}
    assert (there / "mossbook-new/disks/data/documents/Mossbook/first.txt").is_file()


def test_a_recipe_whose_paths_never_change_is_found(begun: Path) -> None:
    same = "new: {machine: mossbook-new, set: {user: anna, redirected: {}}}\nexpect: {kept: {}}\n"
    path = _write(begun, same)
    ran = widetrail("rehearse", path)
    words = "no rehearsal of mossbook has another user name and another drive on the new computer"
    assert (ran.status, words in ran.out) == (0, True)
    assert words not in widetrail("rehearse", begun).out  # another one has both


# What it tells


def test_a_difference_says_what_was_expected_found_and_where(begun: Path) -> None:
    path = _write(begun, "expect: {kept: {route: sign in, checks: {files_there: 4}}}\n")
    ran = widetrail("rehearse", path)
    assert ran.status == 1
    recipe = begun / "mossbook.trail.yaml"
    for line in (
        f"    kept.route ({recipe}:24:5)",
        "      expected: sign in",
        "      found:    whole folder",
        f"    kept.checks.files_there ({recipe}:23:7)",
        "      found:    3 (3 on the old computer)",
        "0 of 1 rehearsal passed",
    ):
        assert line in ran.out.splitlines(), ran.out


@pytest.mark.parametrize(
    ("expected", "told"),
    [
        ("kept: {losses: [a name]}", ("kept.losses", "a name", "none")),
        ("kept: {rejected: {export: release}}", ("kept.rejected", "export: release", "none")),
        ("kept: {backed_up: yes}", ("kept.backed_up", "yes", "no")),
        ("kept: {rewritten: 2}", ("kept.rewritten", "2", "0")),
        ("kept: {state: left}", ("kept", "left", "carried")),
        ("kept: {why: full}", ("kept.why", "full", "no reason")),
        ("lost: {}", ("lost", "an item of the recipe", "mossbook has no item of that name")),
        ("kept: {}, notices: [moon]", ("notices", "moon", "none")),
        ("kept: {}, at_the_end: {new: {gone: /home}}", ("/home on new", "gone", "it is there")),
        (
            "kept: {}, at_the_end: {old: {there: /moon}}",
            ("/moon on old", "there", "it is not there"),
        ),
        ("kept: {}, at_the_end: {old: {release: 1.0}}", ("release on old", "1.0", "unknown")),
        (
            "kept: {}, at_the_end: {new: {readings: {files_there: 7}}}",
            ("files_there on new", "7", "3"),
        ),
        ("kept: {}, refused: room", ("refused", "room", "nothing was")),
    ],
)
def test_whatever_is_otherwise_is_told(
    begun: Path, expected: str, told: tuple[str, str, str]
) -> None:
    assert told in _told(_run(begun, f"expect: {{{expected}}}\n"))


def test_a_refusal_is_expected_by_its_code(begun: Path) -> None:
    gone = "old: {machine: mossbook-old, removes: /home/anna/Documents/Mossbook}\n"
    assert _run(begun, f"{gone}expect: {{refused: not there}}\n").passed
    ((what, wanted, found),) = _told(_run(begun, f"{gone}expect: {{refused: room}}\n"))
    assert (what, wanted) == ("refused", "room") and found.startswith("not there (")
    ((what, _, found),) = _told(_run(begun, f"{gone}expect: {{kept: {{}}}}\n"))
    assert what == "the trail" and "was not found on" in found
    full = "new: {machine: mossbook-new, set: {disks: {/: {folder: disks/root}, /data: "
    full += "{folder: disks/data, size: 1 MiB, free: 1 KiB}}}}\n"
    assert _run(begun, f"{full}expect: {{refused: room}}\n").passed


def test_only_the_plan_is_made_where_that_is_all(begun: Path) -> None:
    text = "until: plan\nold:\n  machine: mossbook-old\n  files:\n"
    text += "    /home/anna/Documents/Mossbook/film: {size: 9 GiB}\nexpect: {kept: {}}\n"
    result = _run(begun, text)
    assert (result.passed, result.seconds < 20) == (True, True)  # nine gigabytes of nothing


# What happens on the way


@pytest.mark.parametrize("by", ["killed", "medium pulled", "disk full", "no permission"])
@pytest.mark.parametrize("step", ["whole folder/1/pack", "whole folder/1/publish"])
def test_what_stops_a_walk_is_over_when_it_is_walked_again(begun: Path, by: str, step: str) -> None:
    result = _run(begun, f"stops: [{{before: {step}, by: {by}}}]\nexpect: {{kept: {{}}}}\n")
    assert _told(result) == []
    assert any(branch.branch == "failed" for branch in result.branches)


def test_what_lasts_is_expected_to_fail(begun: Path) -> None:
    stop = "stops: [{before: whole folder/1/publish, by: disk full, lasting: yes}]\n"
    said = "{state: waiting, why: disk full}"
    assert _run(begun, f"{stop}expect: {{kept: {said}}}\n").passed
    ((what, wanted, found),) = _told(_run(begun, f"{stop}expect: {{kept: {{}}}}\n"))
    assert (what, wanted) == ("kept", "carried") and "disk full" in found


def test_a_stop_that_never_happens_is_a_difference(begun: Path) -> None:
    stop = "stops: [{before: moon landing/1/run, by: killed}]\n"
    told = _told(_run(begun, f"{stop}expect: {{kept: {{}}}}\n"))
    assert told == [("stops", "to happen at moon landing/1/run", "the step was not started")]


def test_all_is_taken_back_in_the_end(begun: Path) -> None:
    own = "new: {machine: mossbook-new, files: {/data/documents/Mossbook/own.txt: own}}\n"
    text = f"{own}until: undone\nexpect: {{kept: {{backed_up: yes}}}}\n"
    assert _told(_run(begun, text)) == []
    there = "{there: /data/documents/Mossbook/own.txt}"
    text = f"{own}expect: {{kept: {{backed_up: yes}}, at_the_end: {{new: {there}}}}}\n"
    assert [what for what, *_ in _told(_run(begun, text))] == [
        "/data/documents/Mossbook/own.txt on new"
    ]


def test_cases_of_tables_are_each_with_each_other(begun: Path) -> None:
    text = """each:
  users:
    - {case: a blank, new: {user: Anna Berg}}
    - {case: another script, new: {user: шмель}}
  drives:
    - {case: one disk, new: {set: {redirected: {}}}}
    - {case: another mount, new: {drives: {/data: /srv}}}
expect: {kept: {checks: {files_there: 3}}}
"""
    rehearsals = load_rehearsals(_write(begun, text))
    assert [r.case for r in rehearsals] == [
        "a blank, one disk",
        "a blank, another mount",
        "another script, one disk",
        "another script, another mount",
    ]
    results = [rehearse(r, NOW) for r in rehearsals]
    assert [_told(r) for r in results] == [[], [], [], []]
    assert [set(r.changed) for r in results] == [{"user"}, {"user", "drive"}] * 2


@pytest.mark.parametrize(
    ("text", "rule"),
    [
        ("each: [{new: {user: x}}]\nexpect: {kept: {}}\n", "each"),
        ("each: {}\nexpect: {kept: {}}\n", "each"),
        ("expect: {screen: same}\n", "expect"),
        ("stops: [{by: killed}]\nexpect: {kept: {}}\n", "stop"),
        ("stops: [{before: x, by: burnt}]\nexpect: {kept: {}}\n", "word"),
        ("expect: {kept: {checks: {n: {differs: 1, unknown: x}}}}\n", "check"),
        ("expect: {kept: {why: '('}}\n", "expression"),
        ("expext: {kept: {}}\n", "missing-key"),
        ("old: {machine: ../../home}\nexpect: {kept: {}}\n", "machine"),
        ("new: {machine: ..}\nexpect: {kept: {}}\n", "machine"),
    ],
)
def test_what_is_wrong_with_a_file_is_found_with_its_place(
    begun: Path, text: str, rule: str
) -> None:
    with pytest.raises(DocumentUnusable) as error:
        load_rehearsals(_write(begun, text))
    found = {f.rule: f for f in error.value.findings}
    assert rule in found and found[rule].line > 0


def test_a_machine_is_made_what_a_side_says(world: World) -> None:
    """Releases in four forms, written where the recipes read them."""
    for recipe, machine, release in (
        ("quillbox", "potting-shed", "8.9"),
        ("frondsign", "seed-vault", "3.9.9"),
        ("dewcast", "gatehouse", "2.0.1"),
    ):
        path = world.folder / "recipes" / "tried.rehearsal.yaml"
        path.write_text(
            f"rehearsal: tried\nrecipe: {recipe}\nuntil: plan\n"
            f"old: {{machine: {machine}, release: {release}}}\nnew: {{machine: glass-office}}\n"
            f"expect: {{x: {{}}, at_the_end: {{old: {{release: {release}}}}}}}\n"
        )
        (rehearsal,) = load_rehearsals(path)
        assert "release on old" not in [d.what for d in rehearse(rehearsal, NOW).differences]
    path.write_text(path.read_text().replace(f"release: {release}}}", "release: {moss: 1}}", 1))
    (rehearsal,) = load_rehearsals(path)
    with pytest.raises(InputUnusable, match="moss is not rehearsed"):
        raise_from(rehearse(rehearsal, NOW))


def raise_from(result: Rehearsed) -> None:
    """Raise what a rehearsal tells of input that could not be used."""
    raise InputUnusable(result.differences[0].found)


# Many at a time, and for other tools


def test_two_jobs_tell_the_same_as_one(begun: Path) -> None:
    once, twice = (
        widetrail("rehearse", begun, "--coverage", "--json", "--jobs", jobs).json
        for jobs in ("1", "2")
    )
    for told in (once, twice):
        for result in told["rehearsals"]:
            assert result.pop("seconds") > 0
    assert once == twice
    assert [c["percent"] for c in once["coverage"]] == [100.0]


def test_errors_cross_processes_whole() -> None:
    obstacle = Halted("no room", where="D:", why="full", todo="Make room.", codes=["room"])
    findings = [Finding("f", 1, 2, "word", "x", "wrong")]
    for error in (Obstructed("no plan", [obstacle]), DocumentUnusable("f", findings)):
        again = pickle.loads(pickle.dumps(error))
        assert (type(again), str(again), again.as_json()) == (
            type(error),
            str(error),
            error.as_json(),
        )


def test_junit_tells_every_rehearsal(begun: Path) -> None:
    _write(begun, "expect: {kept: {checks: {files_there: 4}}}\n")
    ran = widetrail("rehearse", begun, "--junit", begun / "out.xml")
    assert ran.status == 1
    (suite,) = ElementTree.parse(begun / "out.xml").getroot()
    assert {k: suite.get(k) for k in ("name", "tests", "failures")} == {
        "name": "mossbook",
        "tests": "4",
        "failures": "1",
    }
    failed = [case for case in suite if len(case)]
    assert [case.get("classname") for case in failed] == ["tried.rehearsal.yaml"]
    assert "expected 4, found 3" in str(failed[0][0].get("message"))
    assert "mossbook.trail.yaml:23:7" in str(failed[0][0].text)


def test_pytest_collects_only_where_it_was_switched_on(begun: Path) -> None:
    _write(begun, "expect: {kept: {checks: {files_there: 4}}}\n")

    def pytest_on(*more: str) -> str:
        command = [
            sys.executable,
            "-m",
            "pytest",
            "-p",
            "no:cacheprovider",
            "-v",
            str(begun),
            *more,
        ]
        done = subprocess.run(command, capture_output=True, text=True, cwd=begun, check=False)
        return done.stdout + done.stderr

    loaded = ("-p", "widetrail.rehearsing.plugin")
    assert "no tests ran" in pytest_on()
    assert "no tests ran" in pytest_on(*loaded)
    (begun / "pytest.ini").write_text("[pytest]\nrehearsals = .\n")
    out = pytest_on(*loaded)
    assert "mossbook.rehearsal.yaml::nothing is there yet PASSED" in out
    assert re.search("kept.checks.files_there .*mossbook.trail.yaml:23:7", out)
    assert "1 failed, 3 passed" in out


@SWEEP
def test_stops_are_tried_and_counted(begun: Path) -> None:
    ran = widetrail("rehearse", begun, "--stops", "--json")
    assert ran.status == 0, ran.out
    (first, *_) = ran.json["stops"].values()
    assert len(ran.json["stops"]) == 2  # the case whose check fails is left out
    assert first["possible"] > first["stops"] > 20 and first["troubles"] == []
    told = widetrail("rehearse", _write(begun, "expect: {kept: {}}\n"), "--stops").out
    assert re.search(r"\d+ of [\d,]+ stops, \d+ faults: 0 troubles", told)


# What none has tried


def test_what_no_rehearsal_reached_is_told_by_line(begun: Path) -> None:
    path = _write(begun, "expect: {kept: {}}\n")
    ran = widetrail(
        "rehearse", path, "--coverage", "--fail-under", "90", "--page", begun / "c.html"
    )
    assert ran.status == 1
    assert "mossbook: 5 of 8 branches (62 %)" in ran.out
    for words in ("23: items.kept.checks.files_there: differs", "routes[1]: failed"):
        assert f"mossbook.trail.yaml:{words}" in ran.out or words in ran.out
    page = (begun / "c.html").read_text(encoding="utf-8")
    assert "items.kept.checks.files_there: differs" in page and "<svg" in page
    assert widetrail("rehearse", path, "--coverage", "--fail-under", "60").status == 0


def test_a_reason_for_what_is_not_proved_must_be_needed(begun: Path) -> None:
    path = _write(begun, "expect: {kept: {}}\n")
    reasons = begun / "mossbook.unproved.yaml"
    reasons.write_text(
        "unproved:\n- {at: 'items.kept.routes[1]', branch: failed, why: it is a copy}\n"
        "- {at: 'items.kept.routes[1]', branch: arrived, why: none}\n"
    )
    ran = widetrail("rehearse", path, "--coverage")
    assert (ran.status, "5 of 7 branches (71 %); 1 explained" in ran.out) == (1, True)
    assert "needs no reason (none): it is reached" in ran.out


def test_platforms_that_a_recipe_rules_out_do_not_count(world: World) -> None:
    recipe = world.folder / "recipes" / "frondsign.trail.yaml"
    text = recipe.read_text(encoding="utf-8")
    windows = text.index("  - for: {platform: macos}\n    sign")
    recipe.write_text(text[:windows] + text[text.index("\nplaces:") :], encoding="utf-8")
    branches = coverage_of(load_recipe(recipe, KINDS), []).branches
    ruled_out = {branch.words for branch in branches if branch.unreachable}
    assert "application.programs.frondsign: macos" in ruled_out
    assert "application.programs.frondsign: windows" not in ruled_out
    assert {a.words for a in branches if a.name == "taken" and a.unreachable} >= {
        "places.settings[2]: taken",
        "places.settings[3]: taken",
    }


def test_a_mutant_that_nobody_notices_is_told_with_what_is_missing(begun: Path) -> None:
    _recipe(begun, "    from: kept", '    from: kept\n    leave: "*.part"')
    ran = widetrail("rehearse", begun, "--mutate")
    assert ran.status == 1
    assert "items.kept.leave: dropped: leave: *.part" in ran.out
    assert "Missing: one with something of *.part on the old computer" in ran.out
    (begun / "mossbook.unproved.yaml").write_text(
        "unproved:\n- {at: items.kept.leave, mutation: dropped, why: none makes one}\n"
        "- {at: items.kept.leave, mutation: widened, why: none makes one}\n"
    )
    told = widetrail("rehearse", begun, "--mutate", "--json").json["mutants"]
    left = [m for m in told if m["at"] == "items.kept.leave"]
    assert left and not any(m["survived"] for m in left if m["mutation"] == "dropped")


def test_a_reason_for_a_mutant_must_be_needed(begun: Path) -> None:
    mutant = next(mutants_of(load_recipe(begun / "mossbook.trail.yaml", KINDS)))
    needed = Explained(at=show_where(mutant.where), mutation=mutant.mutation, why="it is so")
    reasons = (needed, Explained(at="items.moon", mutation="dropped", why="none"))
    assert unneeded(reasons, [Judged(mutant, explained="it is so")]) == [reasons[1]]
    assert unneeded(reasons, [Judged(mutant, killed_by="one")]) == list(reasons)


def test_a_mutant_that_is_no_recipe_or_the_same_is_none(begun: Path) -> None:
    loaded = load_recipe(begun / "mossbook.trail.yaml", KINDS)
    mutants = list(mutants_of(loaded))
    assert len({m.text for m in mutants}) == len(mutants)
    assert all(m.mutation and m.change and m.missing and m.line > 0 for m in mutants)
    assert not any("revision" in m.where for m in mutants)
    assert isinstance(Judged(mutants[0]).as_json()["at"], str)


EVERY = 1 if os.environ.get("WIDETRAIL_STOPS") == "all" else 300
"""One mutant in so many of every third demo recipe is judged: all of them take most of an hour."""


@pytest.fixture(scope="module")
def recipes(first_world: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("rehearsed") / "world"
    shutil.copytree(first_world, folder, symlinks=True)
    return folder / "recipes"


@pytest.fixture(scope="module")
def rehearsed(recipes: Path) -> list[tuple[Job, Rehearsed]]:
    before = contents(recipes.parent / "machines")
    listed = jobs_of(collect_rehearsals([recipes, recipes.parent / "conversions"]), NOW)
    results = run_many(listed, 2)
    assert contents(recipes.parent / "machines") == before
    return list(zip(listed, results, strict=True))


@SWEEP
def test_every_arm_of_every_demo_recipe_is_reached(
    recipes: Path, rehearsed: list[tuple[Job, Rehearsed]], record_property: object
) -> None:
    results = [result for _, result in rehearsed]
    assert [r.told for r in results if not r.passed] == []
    branches = 0
    for path in sorted(recipes.parent.glob("*/*.trail.yaml")):
        covered = coverage_of(load_recipe(path, KINDS), results, load_unproved(path))
        assert [branch.words for branch in covered.missing] == [], path.name
        assert covered.findings == ()
        branches += len(covered.wanted)
    assert callable(record_property)
    record_property(
        FIGURES, f"rehearsals: {len(results)}, {branches} branches of 14 recipes, all reached"
    )


@SWEEP
def test_no_mutant_of_a_demo_recipe_is_left_unexplained(
    recipes: Path, rehearsed: list[tuple[Job, Rehearsed]], record_property: object
) -> None:
    judged: list[Judged] = []
    for path in sorted(recipes.parent.glob("*/*.trail.yaml"))[:: 1 if EVERY == 1 else 3]:
        loaded, reasons = load_recipe(path, KINDS), load_unproved(path)
        mine = judge_mutants(loaded, rehearsed, Crew(2), reasons, every=EVERY)
        assert ["\n".join(show_mutant(j)) for j in mine if j.survived] == []
        assert EVERY > 1 or unneeded(reasons, mine) == []
        judged += mine
    explained = sum(bool(j.explained) for j in judged)
    assert callable(record_property)
    record_property(FIGURES, f"mutants: {len(judged)}, {explained} explained, none left")
