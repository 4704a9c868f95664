"""What recipes can say of real programs: needs, signs, places and paths that are written oddly."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from build import HEAD, PROGRAM, SIGN, find, machine, moved, outcomes
from widetrail.finding import Absent, Found
from widetrail.finding.recognising import why_not_here
from widetrail.machine import FolderMachine
from widetrail.planning import Choices
from widetrail.recipe.loader import examine
from widetrail.recipe.releases import AS_OLD, parse_release
from widetrail.steps import KINDS

NOTES = """
places:
  notes: {folder: "{home}/notes"}
items:
  notes:
    title: Notes
    from: notes
    routes:
      - {name: same major, needs: {new: {release: same major}}, legs: [{new: [copy]}]}
      - {name: any, legs: [{new: [copy]}]}
"""


@pytest.mark.parametrize(
    ("old", "new", "holds"),
    [("3.1", "3.9", True), ("3.1", "2.9", False), ("v3", "3.0-rc1", True), ("3", "30", False)],
)
def test_a_major_is_the_first_number_of_a_release(old: str, new: str, holds: bool) -> None:
    before, after = parse_release(old), parse_release(new)
    assert before is not None and after is not None
    assert AS_OLD["same major"](after, before) == holds


@pytest.mark.parametrize(("release", "route"), [("3.9", "same major"), ("4.0", "any")])
def test_a_route_asks_for_the_same_major(tmp_path: Path, release: str, route: str) -> None:
    old = machine(tmp_path / "old", "linux", {"/home/ada/notes/a": "a"}, "identity: old\n")
    ini = {"/home/ada/fernbook.ini": f"[fernbook]\nrelease={release}\n"}
    new = machine(tmp_path / "new", "linux", ini, "identity: new\n", name="new")
    (item,) = moved(tmp_path, NOTES, old, new).parcel.plan.items
    assert item.route == route
    if route == "any":
        assert "3.1, or another of its major" in item.rejected[0].reason


PRINTED = """
recognise:
  - sign: {prints: {output: [fernbook, say, "Fernbook 3"], at: '^Fernbook (.*)$'}}
    release: {output: [fernbook, say, "3.2"], at: '^(.+)$'}
"""


def with_program(tmp_path: Path) -> FolderMachine:
    script = Path(__file__).with_name("fernbook.py")
    more = f"programs:\n- path: {PROGRAM}\n  start: ['{sys.executable}', '{script}']\n"
    return machine(tmp_path / "m", "linux", {PROGRAM: ""}, more)


def test_a_program_that_says_what_it_is_is_a_sign_with_consent_only(tmp_path: Path) -> None:
    here, places = with_program(tmp_path), 'places:\n  notes: {folder: "{home}/notes"}\n'
    unasked = find(here, places, PRINTED)
    assert unasked.installation is None
    assert "add --ask-programs" in why_not_here(unasked)[0]
    asked = find(here, places, PRINTED, ask=True)
    assert asked.installation is not None
    assert (asked.installation.sign, str(asked.installation.release)) == (PROGRAM, "3.2")
    assert any("say Fernbook 3" in command for command in asked.commands())
    other = find(here, places, PRINTED.replace("^Fernbook", "^Other"), ask=True)
    assert other.installation is None
    assert "has nothing at" in why_not_here(other)[0] or "matches" in why_not_here(other)[0]


@pytest.mark.parametrize(
    "sign", ["{prints: {ini: '{home}/x', at: a}}", "{prints: {file: '{home}/x'}, file: '{home}/y'}"]
)
def test_a_sign_that_is_printed_is_an_output_alone(sign: str) -> None:
    text = HEAD + SIGN.replace('{file: "{home}/fernbook.ini"}', sign) + NOTES
    assert sign in text
    assert "sign" in {f.rule for f in examine(text, "r", KINDS)[1]}


FIRST = """
places:
  notes:
    first_of: ["{home}/notes 2", "{home}/notes"]
    else: "{home}/none"
    set_in: {ini: "{home}/fernbook.ini", at: fernbook/notes}
"""


@pytest.mark.parametrize(
    ("ini", "there", "path", "kind"),
    [
        ("notes=~/elsewhere", "elsewhere/a", "/home/ada/elsewhere", Found),
        ("notes=~/gone", "notes/a", "/home/ada/gone", Absent),
        ("", "notes/a", "/home/ada/notes", Found),
        ("notes=", "notes 2/a", "/home/ada/notes 2", Found),
        ("", "other/a", "/home/ada/none", Absent),
    ],
)
def test_what_settings_tell_stands_before_the_first_that_is_there(
    tmp_path: Path, ini: str, there: str, path: str, kind: type
) -> None:
    files = {"/home/ada/fernbook.ini": f"[fernbook]\n{ini}\n", f"/home/ada/{there}": "a"}
    where = find(machine(tmp_path / "m", "linux", files), FIRST).place("notes")
    assert isinstance(where, kind) and isinstance(where, Found | Absent)
    assert where.path == path


PATHS = r"""
places:
  notes: {folder: "{home}/notes"}
items:
  notes:
    title: Notes
    kind: settings
    from: notes
    paths:
      - {ini: "{notes}/s.ini", at: run/*, prefix: ['exec:', 'open '], missing: map}
      - {ini: "{notes}/s.ini", at: plain/*}
    routes: [{name: copy, legs: [{new: [copy]}]}]
"""
WRITTEN = {
    "run/a": ("exec:/home/ada/notes/go", "exec:/home/bo/notes/go"),
    "run/b": ("open /home/ada/not there yet/x", "open /home/bo/not there yet/x"),
    "run/c": ("/home/ada/bin/tool", "/home/bo/bin/tool"),
    "run/d": ("https://example.org/home/ada", "https://example.org/home/ada"),
    "run/e": ("exec:", "exec:"),
    "plain/a": ("~/not there yet", "~/not there yet"),
}


def test_a_prefix_stays_and_a_path_is_mapped_though_nothing_is_there_yet(tmp_path: Path) -> None:
    lines: dict[str, list[str]] = {}
    for at, (before, _) in WRITTEN.items():
        section, _, key = at.partition("/")
        lines.setdefault(section, []).append(f"{key}={before}")
    text = "".join(f"[{s}]\n" + "\n".join(rows) + "\n" for s, rows in lines.items())
    files = {"/home/ada/notes/s.ini": text, "/home/ada/notes/go": "x"}
    old = machine(tmp_path / "old", "linux", files, "identity: old\n")
    new = machine(tmp_path / "new", "linux", {}, "identity: new\n", user="bo", name="new")
    one = moved(tmp_path, PATHS, old, new, Choices())
    one.walk("old")
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    written = one.new.read("/home/bo/notes/s.ini").decode()
    for at, (_, after) in WRITTEN.items():
        assert f"{at.partition('/')[2]}={after}\n" in written, written
