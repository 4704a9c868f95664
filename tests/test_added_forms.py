"""Forms that another distribution adds: read, told by, rewritten, written, and an index."""

import json
from pathlib import Path

import pytest

from test_added_kinds import call

RECIPE = """
recipe: 1
revision: 1
application: {id: mossbook, name: Mossbook}
recognise:
  - sign: {file: "{programs}/Mossbook/mossbook.exe"}
    release: {leaf: "{config}/Mossbook/moss.leaf", at: release}
places:
  settings: {file: "{config}/Mossbook/moss.leaf"}
  kept:
    folder: "{documents}/Mossbook"
    set_in: {leaf: "{settings}", at: folder, as: path}
  shelves:
    index: {leaf: "{config}/Mossbook/shelves.leaf", at: "*", path: path, name: name}
readings:
  colour: {leaf: "{settings}", at: colour}
  pages: {files: "{kept}"}
  leaves: {files: "{shelves}"}
items:
  kept:
    title: What it keeps
    from: kept
    checks: {pages: {compare: same}}
    routes: [{name: folder, legs: [{new: [copy]}]}]
  settings:
    title: Its settings
    kind: settings
    from: settings
    checks: {colour: {compare: same}}
    paths: {leaf: "{settings}", at: "last *", outside: leave}
    routes:
      - name: file
        legs: [{new: [copy, {write: {leaf: "{settings}", at: moved, value: "yes"}}]}]
  shelf:
    title: A shelf
    from: shelves
    checks: {leaves: {compare: same}}
    routes: [{name: folder, legs: [{new: [copy]}]}]
"""
OLD = "C:/Users/anna/AppData/Roaming/Mossbook"
NEW = "C:/Users/anna.berg/AppData/Roaming/Mossbook"
REHEARSAL = f"""
rehearsal: all that a form can be used for
recipe: mossbook
old:
  machine: mossbook-old
  files:
    "{OLD}/moss.leaf": |
      release -> 3
      colour -> green
      folder -> D:\\Moss
      last page -> D:\\Moss\\first.txt
    "{OLD}/shelves.leaf": |
      Ferns -> C:\\Users\\anna\\Documents\\Ferns
    "D:/Moss/first.txt": first
    "C:/Users/anna/Documents/Ferns/one.txt": one
new:
  machine: mossbook-new
  files:
    "{NEW}/shelves.leaf": |
      Ferns -> D:\\documents\\Ferns
    "D:/documents/Ferns/own.txt": own
expect:
  kept: {{checks: {{pages: 1}}}}
  settings: {{rewritten: 2}}
  "shelf[Ferns]": {{checks: {{leaves: 1}}}}
  at_the_end:
    new:
      files:
        "{NEW}/moss.leaf": |
          release -> 3
          colour -> green
          folder -> D:\\documents\\Mossbook
          last page -> D:\\documents\\Mossbook\\first.txt
          moved -> yes
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A recipe of a program that writes in an added form, with its machines and a rehearsal."""
    (tmp_path / "home").mkdir()
    assert call(tmp_path, "new", "mossbook", "--name", "Mossbook", added=None)[0] == 0
    (tmp_path / "mossbook/mossbook.trail.yaml").write_text(RECIPE)
    (found,) = (tmp_path / "mossbook").glob("*.rehearsal.yaml")
    found.write_text(REHEARSAL)
    return tmp_path


def test_an_added_form_is_known_to_the_language(folder: Path) -> None:
    recipe = folder / "mossbook/mossbook.trail.yaml"
    status, out, _ = call(folder, "lint", str(recipe))
    assert status == 0, out
    recipe.write_text(RECIPE.replace('colour: {leaf: "{settings}"', 'colour: {leaf: "{nowhere}"'))
    status, out, _ = call(folder, "lint", str(recipe))
    assert (status, '"{nowhere}" is not known' in out) == (1, True)
    recipe.write_text(RECIPE.replace(", at: colour}", "}"))
    assert '"leaf" needs "at"' in call(folder, "lint", str(recipe))[1]
    assert "expected one form of" in call(folder, "lint", str(recipe), added=None)[1]


def test_it_is_read_rewritten_and_written_in_a_rehearsal(folder: Path) -> None:
    status, out, err = call(folder, "rehearse", "mossbook", "--json")
    told = json.loads(out)["rehearsals"]
    assert [(r["differences"], r["passed"]) for r in told] == [([], True)], err
    assert status == 0
