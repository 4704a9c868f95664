"""A platform is one value: one that nobody else knows of is as good as those we ship."""

from collections.abc import Mapping
from pathlib import Path

import pytest

from build import NOW
from widetrail.errors import DocumentUnusable
from widetrail.machine import FolderMachine
from widetrail.machine.paths import is_within
from widetrail.machine.platforms import PLATFORMS, PlatformRules, Sample, Scope, Sensitive
from widetrail.machine.platforms.linux import LINUX
from widetrail.machine.platforms.rules import NO_MATCH, UNIX_VARIABLE, trouble_in_bytes
from widetrail.recipe import load_recipe
from widetrail.rehearsing import Rehearsed, load_rehearsals, rehearse
from widetrail.rehearsing.coverage import branches_of
from widetrail.rehearsing.mutants import mutants_of
from widetrail.rehearsing.scaffold import Beginning, begin_recipe, usual_sign
from widetrail.steps import KINDS


def _roots(system: str, home: str) -> Mapping[str, str]:
    own = {"home": home, "documents": f"{home}/papers", "temp": "/heap", "programs": "/tools"}
    return {name: own.get(name, f"{home}/set/{name}") for name in LINUX.roots(system, home)}


FERNOS = PlatformRules(
    name="fernos",
    title="FernOS",
    host="fernos",
    ignores_case=False,
    drive_letters=False,
    names_are_text=True,
    has_modes=True,
    trouble_with_name=trouble_in_bytes,
    fit_name=str,
    variable=UNIX_VARIABLE,
    list_separator=":",
    home=lambda system, user: f"/folk/{user}",
    roots=_roots,
    account_variables=lambda user, roots: {"ME": user, "MINE": roots["home"]},
    given_variables={"ME": "user", "MINE": "home"},
    scope=Scope(top=("tools", "heap"), each_disk=("lost",), homes=("folk",)),
    sensitive=Sensitive((("home", "wake"),), ("/tools",), ("tools",), ("ports",)),
    sample=Sample("{{programs}}/{name}", (("/", "disks/root"), ("/far", "disks/far")), "/far", "3"),
    mounted=NO_MATCH,
)


@pytest.fixture
def fernos(monkeypatch: pytest.MonkeyPatch) -> PlatformRules:
    """The made-up platform, as if it were one of ours."""
    monkeypatch.setitem(PLATFORMS, FERNOS.name, FERNOS)
    return FERNOS


def made(folder: Path, platform: str) -> Path:
    """Make a recipe with machines of a platform; return the recipe."""
    name = "Mossbook"
    sign = usual_sign(platform, name)
    told = Beginning("mossbook", name, "nobody", platform, "{documents}/Mossbook", sign)
    return begin_recipe(folder, told)[0]


def rehearsed(folder: Path) -> dict[str, Rehearsed]:
    """Run every rehearsal in a folder; return what each came to, by its case."""
    found = {}
    for path in sorted(folder.glob("*.rehearsal.yaml")):
        for one in load_rehearsals(path):
            found[one.title] = rehearse(one, NOW)
    return found


BOTH_WAYS = """
rehearsal: between {old} and {new}
recipe: mossbook
old: {{machine: {old}-old, files: {{{files}}}}}
new: {{machine: {new}-new}}
expect:
  kept: {{checks: {{files_there: 5}}}}
  at_the_end: {{new: {{files: {{{there}}}}}}}
"""


def test_a_platform_that_nobody_knows_is_refused(tmp_path: Path) -> None:
    recipe = made(tmp_path / "own", "windows")
    text = recipe.read_text().replace("- sign:", "- for: {platform: fernos}\n    sign:")
    recipe.write_text(text)
    with pytest.raises(DocumentUnusable) as refused:
        load_recipe(recipe, KINDS)
    (finding,) = refused.value.findings
    assert finding.message == 'expected one of "windows", "macos", "linux"; found "fernos"'


def test_a_new_recipe_begins_on_an_added_platform(tmp_path: Path, fernos: PlatformRules) -> None:
    recipe = made(tmp_path, fernos.name)
    machine = FolderMachine(tmp_path / "machines/mossbook-new")
    assert machine.root("documents") == "/far/documents"
    assert machine.root("home") == "/folk/anna.berg"
    assert machine.variables() == {"ME": "anna.berg", "MINE": "/folk/anna.berg"}
    environment = machine.environment("/tools/mossbook")
    assert environment["MINE"].endswith("disks/root/folk/anna.berg")
    assert not is_within("/far/A", "/far/a", fernos.name)
    assert {r.passed for r in rehearsed(tmp_path).values()} == {True}
    assert len(list(mutants_of(load_recipe(recipe, KINDS)))) == 3


def test_a_trail_goes_between_it_and_windows(tmp_path: Path, fernos: PlatformRules) -> None:
    """Names that only case tells apart stay two on the way there, and are two where they came from;
    on Windows the second is called otherwise."""
    made(tmp_path / "windows", "windows")
    recipe = made(tmp_path / "fernos", fernos.name)
    text = recipe.read_text()
    sign = '{windows: "{programs}/Mossbook/mossbook.exe", fernos: "{programs}/mossbook"}'
    recipe.write_text(text.replace('"{programs}/mossbook"', sign))
    (tmp_path / "machines").mkdir()
    for platform in ("windows", "fernos"):
        for side in ("old", "new"):
            machine = tmp_path / platform / "machines" / f"mossbook-{side}"
            machine.rename(tmp_path / "machines" / f"{platform}-{side}")
    recipe = recipe.rename(tmp_path / recipe.name)
    home, far, drive = "/folk/anna/papers", "/far/documents", "D:/documents"
    two = "".join(f'"{home}/Mossbook/{name}": {name}, ' for name in ("moss.txt", "Moss.txt"))
    there = f'"{drive}/Mossbook/Moss.txt": Moss.txt, "{drive}/Mossbook/moss (2).txt": moss.txt'
    (tmp_path / "there.rehearsal.yaml").write_text(
        BOTH_WAYS.format(old="fernos", new="windows", files=two, there=there)
    )
    one = "C:/Users/anna/Documents/Mossbook"
    files = f'"{one}/one.txt": one, "{one}/two.txt": two'
    back = f'"{far}/Mossbook/one.txt": one, "{far}/Mossbook/two.txt": two'
    (tmp_path / "back.rehearsal.yaml").write_text(
        BOTH_WAYS.format(old="windows", new="fernos", files=files, there=back)
    )
    found = rehearsed(tmp_path)
    assert {title: r.differences for title, r in found.items()} == dict.fromkeys(found, ())
    assert len(found) == 2
    branches = {branch.name for branch in branches_of(load_recipe(recipe, KINDS))}
    assert {"windows", "fernos"} <= branches
