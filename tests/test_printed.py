"""What programs print: with a secret on standard input, and an exit status that is asked for."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from build import HEAD, NOW, PROGRAM, SIGN, find, machine, moved
from conftest import widetrail
from widetrail.finding import Known, Unknown
from widetrail.machine import FolderMachine
from widetrail.planning import Choices
from widetrail.rehearsing import load_rehearsals, rehearse
from widetrail.rehearsing.rehearsed import Rehearsed
from widetrail.steps.outcomes import Noted
from widetrail.walking import make_report

BODY = """
places:
  notes: {folder: "{home}/notes"}
asks: {phrase: {secret: The passphrase of the book}}
readings:
  pages: {output: [fernbook, locked], at: '(\\d+) pages', home: real, stdin: "{phrase}", exit: [3]}
items:
  notes:
    title: Notes
    from: notes
    checks: {pages: {compare: same}}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""


def two(tmp_path: Path) -> tuple[FolderMachine, FolderMachine]:
    script = Path(__file__).with_name("fernbook.py")
    more = f"programs:\n- path: {PROGRAM}\n  start: ['{sys.executable}', '{script}']\n"
    files: dict[str, str | bytes] = {PROGRAM: "", "/home/ada/notes/a.txt": "a"}
    old = machine(tmp_path / "old", "linux", files, more=f"{more}identity: old\n", name="old")
    new = machine(
        tmp_path / "new", "linux", {PROGRAM: ""}, more=f"{more}identity: new\n", name="new"
    )
    return old, new


def test_a_reading_with_a_secret_is_taken_in_walks_where_it_was_asked_for(tmp_path: Path) -> None:
    gone = moved(tmp_path, BODY, *two(tmp_path), Choices(ask_programs=True))
    answers = tmp_path / "answers.yaml"
    answers.write_text("fernbook.phrase: reed bunting\n")
    for name in ("old", "new"):
        at = ("walk", gone.at, "--machine", tmp_path / name, "--yes")
        unanswered = widetrail(*at)
        assert unanswered.status == 3
        assert (
            "no value was given for: The passphrase of the book" in unanswered.out + unanswered.err
        )
        ran = widetrail(*at, "--answers", answers)
        assert ran.status == 0, ran.out + ran.err
    answers.unlink()
    (line,) = make_report(gone.parcel).items[0].checks
    assert (line.old, line.new, line.verdict) == (Noted(value="1"), Noted(value="1"), "holds")
    assert "reed bunting" not in gone.everything()


def test_elsewhere_it_is_unknown_and_an_exit_status_that_is_none_of_those_asked_for_too(
    tmp_path: Path,
) -> None:
    old, _ = two(tmp_path)
    asked = find(old, BODY, ask=True).reading("pages")
    assert isinstance(asked, Unknown)
    assert "phrase is asked for in a walk only" in asked.reason
    for text, told in ((", exit: [3]", "ended with 3"), ('"{phrase}"', "1")):
        by = "" if text.startswith(",") else "reed bunting"
        found = find(old, BODY.replace('"{phrase}"', "reed bunting").replace(text, by), ask=True)
        assert told in str(found.reading("pages"))
    known = find(old, BODY.replace('"{phrase}"', "reed bunting"), ask=True).reading("pages")
    assert isinstance(known, Known)


REHEARSAL = """
rehearsal: the book is printed
recipe: fernbook
old: {machine: old}
new: {machine: new}
hands: {phrase: PHRASE}
SCREEN
expect: {notes: {checks: {there: 1}}, screen: same}
"""


def rehearsed(tmp_path: Path, phrase: str = "reed bunting", screen: str = "") -> Rehearsed:
    own = 'screen: {run: [fernbook, locked], stdin: "{phrase}", exit: 3}'
    head = HEAD.replace("programs:", f"{own}\n  programs:")
    there = 'readings:\n  there: {files: "{notes}/*.txt"}'
    body = BODY.replace("readings:", there).replace("{pages: {compare", "{there: {compare")
    assert own in head and "{there: {compare" in body
    (tmp_path / "fernbook.trail.yaml").write_text(head + SIGN + body)
    two(tmp_path / "machines")
    text = REHEARSAL.replace("PHRASE", phrase).replace("SCREEN", screen)
    (tmp_path / "fernbook.rehearsal.yaml").write_text(text)
    (rehearsal,) = load_rehearsals(tmp_path / "fernbook.rehearsal.yaml")
    return rehearse(rehearsal, NOW)


@pytest.mark.parametrize(
    ("phrase", "screen", "told"),
    [
        ("reed bunting", "", []),
        ("wrong", "", ["screen on old"]),
        ("reed bunting", "screen: [fernbook, locked]", ["screen on old"]),
        ("reed bunting", "screen: [fernbook, say, always]", []),
        (
            "wrong",
            "screen: {run: [fernbook, locked], stdin: '{phrase}', exit: [1], on: copy}",
            ["screen"],
        ),
    ],
)
def test_a_screen_is_told_a_secret_and_ends_as_it_says(
    tmp_path: Path, phrase: str, screen: str, told: list[str]
) -> None:
    result = rehearsed(tmp_path, phrase, screen)
    assert [d.what for d in result.differences] == told
    if not told and not screen:
        assert result.old_screen == "1 pages\n"
