"""The page of the house says how to add things: what stands there is taken from it and run."""

import importlib
import re
from collections.abc import Iterator
from datetime import date
from pathlib import Path
from types import ModuleType

import pytest

from build import NOW, item, trail
from test_added_kinds import call
from widetrail.machine.platforms import PLATFORMS
from widetrail.rehearsing import load_rehearsals, rehearse
from widetrail.rehearsing.scaffold import Beginning, begin_recipe, usual_sign
from widetrail.walking import make_report

PAGE = Path(__file__).parent.parent / "docs/architecture.md"
RECIPE = """
recipe: 1
revision: 1
application: {id: mossbook, name: Mossbook}
recognise: [{sign: {file: "{config}/Mossbook/moss.bars"}}]
places:
  kept:
    folder: "{documents}/Mossbook"
    set_in: {bars: "{config}/Mossbook/moss.bars", at: folder, as: path}
readings:
  colour: {bars: "{config}/Mossbook/moss.bars", at: colour}
  pages: {files: "{kept}"}
items:
  kept:
    title: What it keeps
    from: kept
    checks: {pages: {compare: at_least}, colour: {compare: same}}
    routes: [{name: folder, legs: [{new: [copy, {stamp: "{kept}/MOVED"}]}]}]
"""
CONFIG = "C:/Users/{}/AppData/Roaming/Mossbook/moss.bars"
REHEARSAL = f"""
rehearsal: stamped
recipe: mossbook
old:
  machine: mossbook-old
  files:
    "{CONFIG.format("anna")}": |
      colour | green
      folder | D:\\Moss
    "D:/Moss/first.txt": first
new:
  machine: mossbook-new
  files:
    "{CONFIG.format("anna.berg")}": "colour | green"
expect:
  kept: {{checks: {{pages: 2, colour: green}}}}
"""

LOSING = item(
    "        legs: [{new: [copy]}]",
    "    checks: {pages: {}}\n    losses: [{what: <b>, remedy: Draw it & look.}]",
)


@pytest.fixture(scope="module")
def added(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder as a distribution has it: the page's modules, and the entry points it tells."""
    folder = tmp_path_factory.mktemp("added")
    text = PAGE.read_text()
    modules = re.findall(r"```python\n# (\w+\.py)\n(.*?)```", text, re.S)
    assert len(modules) == 5
    for name, source in modules:
        (folder / name).write_text(source)
    points = re.findall(r"group\s+`(widetrail\.\w+)`:\s+`(\w+) = \"(\w+:\w+)\"`", text)
    assert [group for group, *_ in points] == [
        "widetrail.steps",
        "widetrail.forms",
        "widetrail.lint",
    ]
    told = folder / "moss-1.0.dist-info"
    told.mkdir()
    (told / "METADATA").write_text("Metadata-Version: 2.1\nName: moss\nVersion: 1.0\n")
    (told / "entry_points.txt").write_text(
        "".join(f"[{group}]\n{name} = {value}\n" for group, name, value in points)
    )
    return folder


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A recipe that uses the page's step kind and form, with its machines and a rehearsal."""
    (tmp_path / "home").mkdir()
    assert call(tmp_path, "new", "mossbook", "--name", "Mossbook", added=None)[0] == 0
    (tmp_path / "mossbook/mossbook.trail.yaml").write_text(RECIPE)
    (found,) = (tmp_path / "mossbook").glob("*.rehearsal.yaml")
    found.write_text(REHEARSAL)
    return tmp_path


@pytest.fixture
def module(added: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[dict[str, ModuleType]]:
    """The page's modules that are values of ours, by name."""
    monkeypatch.syspath_prepend(str(added))
    yield {name: importlib.import_module(name) for name in ("fernos", "task_page")}


def test_the_kind_and_the_form_are_rehearsed(folder: Path, added: Path) -> None:
    status, out, err = call(folder, "rehearse", "mossbook", "--keep", "kept", added=added)
    assert status == 0, out + err
    (stamp,) = (folder / "kept").rglob("documents/Mossbook/MOVED")
    assert date.fromisoformat(stamp.read_text()).year >= 2025
    assert call(folder, "lint", "mossbook/mossbook.trail.yaml", added=None)[0] == 1


def test_the_rule_strikes(folder: Path, added: Path) -> None:
    recipe = folder / "mossbook/mossbook.trail.yaml"
    long = "what_the_program_keeps_of_moss"
    text = RECIPE.replace("{kept}", f"{{{long}}}").replace("from: kept", f"from: {long}")
    recipe.write_text(text.replace("  kept:\n    folder", f"  {long}:\n    folder", 1))
    status, out, _ = call(folder, "lint", str(recipe), added=added)
    assert status == 0
    assert f'warning: places.{long}: "{long}" is long. Our house' in out


def test_the_platform_is_walked_to(
    tmp_path: Path, module: dict[str, ModuleType], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setitem(PLATFORMS, "fernos", module["fernos"].FERNOS)
    sign = usual_sign("fernos", "Mossbook")
    told = Beginning("mossbook", "Mossbook", "nobody", "fernos", "{documents}/Mossbook", sign)
    begin_recipe(tmp_path, told)
    (path,) = tmp_path.glob("*.rehearsal.yaml")
    for number, one in enumerate(load_rehearsals(path)):
        assert rehearse(one, NOW, keep=tmp_path / f"kept/{number}").passed
    assert list((tmp_path / "kept").rglob("folk/*/papers/Mossbook"))


def test_the_page_is_made(tmp_path: Path, module: dict[str, ModuleType]) -> None:
    one = trail(tmp_path, LOSING)
    one.walk("old")
    one.walk("new")
    page = module["task_page"].render_tasks(make_report(one.parcel))
    assert "<li>&lt;b&gt;: Draw it &amp; look.</li>" in page
