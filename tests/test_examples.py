"""The examples: each script runs as it says, and prints and writes what it is for."""

import ast
import re
import shlex
import subprocess
import sys
from importlib.util import find_spec
from pathlib import Path

import pytest

from conftest import World, swept, widetrail

HOME = Path(__file__).parent.parent / "examples"
SCRIPTS = sorted(HOME.glob("*.py"))
SAYS = {
    "compare_releases": ["rejected: taken in by the program – .* must be >=3, but is 2.9"],
    "first_recipe": ["findings: 0", "passed: nothing is there yet", "not covered: line .*gates"],
    "licence_by_errand": ["after the leg on visitor-hall: .*", ".*: claimed on the new computer"],
    "own_progress": [r"\[ 1/2\] Record views.*", "Transferred and checked: 1 of 1 item.*"],
    "plan_an_office": ["Ines +potting-shed +glass-office +20 .*", "Piet +gatehouse +bothy +3 .*"],
    "reading_form": ["colour: green on the old, green on the new: holds"],
    "rehearse_in_pytest": [r"3 passed.*"],
    "step_kind": ["the label says: moved", "after undoing: gone"],
    "survey_to_spreadsheet": [r"\d+ items of 11 applications"],
}
"""Lines that each script prints, as expressions."""

WRITES = {"plan_an_office": ["office.csv"], "survey_to_spreadsheet": ["survey.csv", "survey.png"]}


QUICK = [path for path in SCRIPTS if path.stem not in ("rehearse_in_pytest", "licence_by_errand")]
"""Scripts that take seconds."""


@pytest.mark.parametrize("script", swept(SCRIPTS, QUICK), ids=lambda path: path.stem)
def test_a_script_runs_as_it_says(script: Path, world: World) -> None:
    if script.stem == "survey_to_spreadsheet" and not (
        find_spec("matplotlib") and find_spec("pandas")
    ):
        pytest.skip('needs what is optional: pip install "widetrail[examples]"')
    text = ast.get_docstring(ast.parse(script.read_text(encoding="utf-8"))) or ""
    lines = [line.strip() for line in text.splitlines() if line.startswith("    ")]
    command = shlex.split(next(line for line in lines if script.name in line))
    assert command[0] in ("python", "pytest")
    before = ["-m", "pytest", "-p", "no:cacheprovider"] if command[0] == "pytest" else []
    assert Path(command[1]) in (Path("../examples") / script.name, Path("examples") / script.name)
    call = [sys.executable, *before, str(script)]
    ran = subprocess.run(call, cwd=world.folder, capture_output=True, text=True, timeout=300)
    assert ran.returncode == 0, f"{ran.stdout[-2000:]}\n{ran.stderr[-2000:]}"
    said = ran.stdout.splitlines()
    for wanted in SAYS[script.stem]:
        assert any(re.search(wanted, line) for line in said), (wanted, ran.stdout)
    for name in WRITES.get(script.stem, ()):
        assert (world.folder / name).stat().st_size > 100


def test_the_recipes_pass_and_each_is_a_page_that_says_what_it_shows() -> None:
    recipes = sorted((HOME / "recipes").glob("*.trail.yaml"))
    assert len(recipes) >= 5
    for recipe in recipes:
        lines = recipe.read_text(encoding="utf-8").splitlines()
        assert lines[0].startswith("# ") and len(lines) <= 60, recipe.name
    ran = widetrail("rehearse", HOME / "recipes")
    assert ran.status == 0, ran.out


def test_the_list_names_every_example() -> None:
    page = (HOME / "README.md").read_text(encoding="utf-8")
    named = set(re.findall(r"\]\(([\w/.]+)\)", page))
    there = {path.name for path in SCRIPTS} | {
        f"recipes/{path.name}" for path in (HOME / "recipes").glob("*.trail.yaml")
    }
    assert there <= named and all((HOME / name).exists() for name in named)
    assert {path.stem for path in SCRIPTS} == set(SAYS)
