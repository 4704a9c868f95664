"""What a recipe may do is told from its text alone, whole, and what grew is told."""

import re
import shutil
from pathlib import Path

import pytest

from build import NOW
from conftest import World, contents, widetrail
from widetrail.findings import Finding
from widetrail.library.accepted_recipes import grown, remember_used
from widetrail.library.recipes import lint, load_recipes
from widetrail.machine import FolderMachine, medium_of
from widetrail.machine.own_folders import own_state
from widetrail.planning import Choices, Plan, make_plan
from widetrail.recipe import Loaded, load_recipe_text
from widetrail.recipe.templates import plain
from widetrail.steps import KINDS, act_of
from widetrail.trust import Permission, more_than_before, permissions_of

RECIPE = """\
recipe: 1
revision: 1
application:
  id: moss
  name: Moss
  programs: {moss: {windows: "{programs}/Moss/moss.exe", else: moss}}
  close: [moss, quit]
recognise:
  - sign: {folder: {windows: "{config}/Moss", linux: "{config}/moss"}}
places:
  notes:
    folder: {windows: "{config}/Moss/Notes", else: "{config}/moss/notes"}
    set_in: {ini: {windows: "{config}/Moss/moss.ini", else: "{config}/moss/moss.ini"}, at: a/notes}
readings: {pages: {files: "{notes}/*.page"}}
asks: {phrase: {secret: The passphrase}}
items:
  notes:
    title: Notes
    from: notes
    retire: yes
    checks: {pages: {}}
    losses: [{what: colours, remedy: Choose them again.}]
    routes:
      - name: export
        needs: {new: {network: yes}}
        legs:
          - old: [{run: [moss, export, "{parcel}/notes"]}]
          - new: [{run: [moss, import, "{parcel}/notes"], changes: notes}]
"""


RUN = r"HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Run"


def loaded(text: str = RECIPE) -> Loaded:
    return load_recipe_text(text, "moss.trail.yaml", KINDS)


def told(recipe: Loaded, kind: str) -> list[tuple[str, str, str, str]]:
    found = [one for one in permissions_of(recipe) if one.kind == kind]
    return [(one.station, one.what, one.told, " ".join(one.platforms)) for one in found]


def test_all_that_a_recipe_may_do_is_told_from_its_text() -> None:
    recipe = loaded()
    exe = "‹programs›/Moss/moss.exe"
    assert told(recipe, "starts") == [
        ("both", "moss quit", "", "macos linux"),
        ("both", f"{exe} quit", "", "windows"),
        ("new", "moss import ‹parcel›/notes", "", "macos linux"),
        ("new", f"{exe} import ‹parcel›/notes", "", "windows"),
        ("old", "moss export ‹parcel›/notes", "", "macos linux"),
        ("old", f"{exe} export ‹parcel›/notes", "", "windows"),
    ]
    ini = "a/notes in ‹config›/moss/moss.ini", "a/notes in ‹config›/Moss/moss.ini"
    assert told(recipe, "writes") == [
        ("new", "‹config›/Moss/Notes", "", "windows"),
        ("new", "‹config›/moss/notes", "", "macos linux"),
        ("new", "‹notes›", ini[1], "windows"),
        ("new", "‹notes›", ini[0], "macos linux"),
    ]
    assert [(at, what) for at, what, *_ in told(recipe, "removes")] == [
        ("old", "‹config›/Moss/Notes"),
        ("old", "‹config›/moss/notes"),
        ("old", "‹notes›"),
        ("old", "‹notes›"),
    ]
    assert told(recipe, "secret") == [("both", "The passphrase", "", "")]
    assert told(recipe, "network") == [("new", "Notes", "", "")]
    assert ("both", "‹config›/moss/moss.ini", "", "macos linux") in told(recipe, "reads")
    assert ("both", "‹config›/moss/notes/*.page", "", "macos linux") in told(recipe, "reads")
    assert not told(recipe, "start-up")


@pytest.mark.parametrize(
    ("was", "now", "kind", "what", "platforms"),
    [
        ("notes, retire", "", "", "", ""),
        ("moss/notes", "autostart/moss", "start-up", "‹config›/autostart/moss", "linux"),
        ("export, ", "export, --all, ", "starts", "moss export --all ‹parcel›/notes", ""),
        ("else: moss}", "else: mossy}", "starts", "mossy quit", ""),
        ('else: "{config}/moss/notes"', 'else: "{home}/.ssh"', "access", "‹home›/.ssh", ""),
        ('else: "{config}/moss/notes"', 'else: "{home}"', "access", "‹home›", "macos linux"),
        ('{windows: "{config}/Moss", linux:', "{else:", "reads", "‹config›/moss", ""),
        (
            "changes: notes}",
            "changes: notes}, {write: {registry: '" + RUN + "', at: Moss, value: moss}}",
            "start-up",
            RUN,
            "windows",
        ),
        ("asks: {", "asks: {key: {secret: A key}, ", "secret", "A key", ""),
    ],
)
def test_what_grew_is_told(was: str, now: str, kind: str, what: str, platforms: str) -> None:
    before, after = loaded(), loaded(RECIPE.replace(was, now))
    assert more_than_before(before, before) == ()
    grown = more_than_before(before, after)
    if not kind:
        assert grown == ()
        return
    mine = [one for one in grown if (one.kind, one.what) == (kind, what)]
    assert mine, grown
    assert not platforms or " ".join(mine[0].platforms) == platforms


def test_less_than_before_is_nothing_more() -> None:
    assert more_than_before(loaded(), loaded(RECIPE.replace("    retire: yes\n", ""))) == ()


Planned = tuple[dict[str, Loaded], Plan, FolderMachine, FolderMachine]


def planned(world: World, choices: Choices) -> Planned:
    recipes = load_recipes([world.folder / "recipes"])
    old, new = FolderMachine(world.old), FolderMachine(world.new)
    medium = medium_of(world.folder / "media" / "usb-stick")
    plan = make_plan(recipes, old, new, medium, NOW, choices, sealed=True)
    return {one.id: one for one in recipes}, plan, old, new


def allows(permission: Permission, path: str, machine: FolderMachine) -> bool:
    """Return whether a permission is for a path of a machine: one that a setting tells is for any,
    and what is known only where it is done may be any name."""
    if permission.told:
        return True
    what = re.sub(r"^‹(\w+)›", lambda m: _root(machine, m[1]), permission.what)
    pattern = re.sub(r"‹[^›]*›|\\\*", ".*", re.escape(what))
    return re.fullmatch(f"{pattern}(/.*)?", path, re.IGNORECASE) is not None


def _root(machine: FolderMachine, name: str) -> str:
    try:
        return machine.root(name)
    except (KeyError, LookupError):
        return f"‹{name}›"


@pytest.mark.parametrize(
    "choices",
    [
        Choices(without=frozenset({"trellisdesk.boxes"})),  # for which the medium is taken away
        Choices(only=frozenset({"trellisdesk.boxes"})),
    ],
)
def test_no_step_of_a_plan_of_the_demo_goes_beyond_what_its_recipe_may_do(
    world: World, choices: Choices
) -> None:
    recipes, plan, old, new = planned(world, choices)
    looked_at = 0
    for step in plan.steps:
        recipe = recipes[plan.item(step.item).recipe]
        machine = old if step.station == "old" else new
        mine = [
            one
            for one in permissions_of(recipe)
            if one.station in ("both", step.station)
            and machine.platform in (one.platforms or (machine.platform,))
        ]
        for path in (*step.changes, *step.writes):
            if path.startswith(("{parcel}", "{request}", "{answer}")):
                continue
            kind = "removes" if act_of(step).removes else "writes"
            given = [one for one in mine if one.kind == kind]
            shown = plain(path)
            assert any(allows(one, shown, machine) for one in given), (step.id, path, given)
            looked_at += 1
        for command in step.commands.values():
            started = [one.what for one in mine if one.kind == "starts"]
            assert any(f" {command[1]}" in f"{one} " for one in started), (step.id, command)
            looked_at += 1
    assert looked_at > (40 if choices.without else 1)


def test_sheets_and_comparisons_show_it(world: World, tmp_path: Path) -> None:
    assert widetrail("sheet", world.recipe, "--to", tmp_path / "sheets").status == 0
    page = (tmp_path / "sheets" / "sporelog.html").read_text()
    assert "What it may do" in page
    assert "sporelog export" in page
    older = tmp_path / "older.trail.yaml"
    older.write_text(world.recipe.read_text())
    world.edit(
        "recipes/sporelog.trail.yaml", lambda t: t.replace("export, ", "export, --quietly, ")
    )
    ran = widetrail("compare", older, world.recipe)
    assert "May do more than before" in ran.out
    assert "--quietly" in ran.out.split("May do more than before")[1]


POLICY = """\
policy: Marrowfield Gardens
programs: ["{programs}/Moss/*", moss]
folders: ["{config}/moss", "{config}/Moss/*"]
"""


@pytest.mark.parametrize(
    ("policy", "against"),
    [
        (POLICY, []),
        ("policy: All\n", []),
        (POLICY.replace(", moss]", "]"), ["Starts moss export", "Starts moss import", "quit"]),
        (POLICY.replace('"{config}/moss", ', ""), ["Writes ‹config›/moss/notes", "Removes"]),
        (POLICY + "told_places: no\n", ["Writes ‹notes›", "Removes or renames ‹notes›"]),
        (POLICY + "never: [network]\n", ["Needs a network Notes (new computer)"]),
        (POLICY + "never: [secret, removes]\n", ["The passphrase", "Removes"]),
    ],
)
def test_a_policy_refuses_with_its_reason(tmp_path: Path, policy: str, against: list[str]) -> None:
    path, recipe = tmp_path / "policy.yaml", tmp_path / "moss.trail.yaml"
    path.write_text(policy)
    recipe.write_text(RECIPE)
    findings = widetrail_lint(recipe, path)
    assert all(one.rule == "not-allowed" and "allows it" in one.hint for one in findings)
    told = [one.message for one in findings]
    assert bool(told) is bool(against)
    for words in against:
        assert any(words in text for text in told), told
    for text in told:
        assert any(words in text for words in against), text


def widetrail_lint(recipe: Path, policy: Path) -> list[Finding]:
    return [f for f in lint([recipe], policy=policy)[recipe] if f.rule == "not-allowed"]


def test_a_policy_asks_for_owners_and_coverage(world: World) -> None:
    policy, recipe = world.folder / "policy.yaml", world.folder / "recipes/huemoss.trail.yaml"

    def told(text: str) -> list[str]:
        policy.write_text(f"policy: Marrowfield Gardens\n{text}")
        return [one.message for one in widetrail_lint(recipe, policy)]

    assert told("owners: {ines: [sporelog], tomas: 'quill*'}\n") == [
        "Nobody looks after huemoss: not allowed"
    ]
    assert told("owners: {ines: 'hue*'}\n") == []
    history = world.folder / "rehearsals.history"
    rehearsal = world.folder / "recipes/huemoss.rehearsal.yaml"
    ran = widetrail("rehearse", rehearsal, "--history", history)
    asked = "coverage: 100\nhistory: rehearsals.history\n"
    assert told(asked) == ["How many branches of it are reached was never measured"]
    ran = widetrail("rehearse", rehearsal, "--coverage", "--history", history)
    assert ran.status in (0, 1), ran.err
    [message] = told(asked)
    percent = int(message.split()[0])
    assert 0 < percent < 100
    assert message == f"{percent} % of its branches are reached; 100 % are asked"
    assert told(asked.replace("100", str(percent))) == []
    recipe.write_text(recipe.read_text() + "# another\n")
    assert told(asked) == ["How many branches of it are reached was never measured"]
    assert widetrail("lint", recipe, "--policy", policy).status == 1
    policy.write_text("policy: Marrowfield Gardens\ncoverage: 90\n")
    assert "coverage needs a history" in widetrail("lint", recipe, "--policy", policy).err


def test_what_a_policy_does_not_allow_is_not_planned(world: World) -> None:
    policy = world.folder / "policy.yaml"
    policy.write_text("policy: Marrowfield Gardens\nfolders: ['{config}/*']\n")
    ran = world.plan("--policy", policy)
    assert ran.status == 2
    assert "‹documents›/Sporelog" in ran.err
    assert not world.parcel.exists()
    policy.write_text("policy: Marrowfield Gardens\nfolders: '*'\n")
    assert world.plan("--policy", policy).status == 0


def test_a_policy_with_a_key_that_is_none_is_refused(world: World) -> None:
    policy = world.folder / "policy.yaml"
    policy.write_text("policy: Marrowfield Gardens\nfolder: ['{config}/*']\n")
    ran = widetrail("lint", world.recipe, "--policy", policy)
    assert ran.status == 2
    assert "folder" in ran.err


def test_nothing_leads_out_of_a_folder_that_is_allowed(tmp_path: Path) -> None:
    path, recipe = tmp_path / "policy.yaml", tmp_path / "moss.trail.yaml"
    path.write_text("policy: Marrowfield Gardens\nfolders: ['{config}/moss', '{config}/Moss']\n")
    recipe.write_text(RECIPE.replace('"{config}/moss/notes"', '"{config}/mossy"'))
    assert any("‹config›/mossy" in one.message for one in widetrail_lint(recipe, path))


def test_a_recipe_that_may_do_more_than_it_did_here_is_asked_about_again(world: World) -> None:
    assert world.plan().status == 0
    assert world.walk(world.old).status == 0
    shutil.rmtree(world.parcel)

    def more(text: str) -> str:
        return text.replace("revision: ", "revision: 9").replace("{documents}", "{pictures}", 1)

    world.edit("recipes/sporelog.trail.yaml", more)
    ran = world.plan()
    assert ran.status == 3, ran.out + ran.err
    assert "Sporelog may do more than revision " in ran.err
    assert "Read what is listed above, then add --allow more." in ran.err
    assert "‹pictures›" in ran.err
    assert not world.parcel.exists()
    assert world.plan("--allow", "more").status == 0
    shutil.rmtree(world.parcel)
    assert world.plan().status == 0  # it was used since


def test_a_parcel_with_a_recipe_that_may_do_more_is_asked_about_on_new(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    [kept] = load_recipes([world.recipe])
    world.edit("recipes/sporelog.trail.yaml", lambda t: t.replace("{documents}", "{pictures}", 1))
    assert world.plan("--allow", "more").status == 0
    assert world.walk(world.old).status == 0
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state of the new computer"))
    remember_used([kept])
    before = contents(world.new)
    ran = world.walk(world.new)
    assert (ran.status, "--allow more" in ran.err) == (3, True)
    assert contents(world.new) == before
    assert world.walk(world.new, "--allow", "more").status == 0
    assert not grown(load_recipes([world.recipe]))


def test_what_was_used_and_can_be_read_no_more_is_asked_about_as_a_whole(world: World) -> None:
    [loaded] = load_recipes([world.recipe])
    remember_used([loaded])
    [kept] = (own_state() / "recipes").iterdir()
    kept.write_text("damaged: [")
    [told] = grown([loaded])
    assert (told.before, told.more) == (0, permissions_of(loaded))
