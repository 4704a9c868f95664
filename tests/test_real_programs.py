"""The recipes for real programs, rehearsed on machines that the programs themselves made."""

from __future__ import annotations

import importlib.util
import os
import shutil
from pathlib import Path
from types import ModuleType

import pytest

from conftest import swept, widetrail
from widetrail import lint, rehearse
from widetrail.machine import isolation

REAL = Path(__file__).parent.parent / "examples/real"


def _script() -> ModuleType:
    spec = importlib.util.spec_from_file_location("build_real", REAL / "build.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


build = _script()


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest) -> Path:
    """A folder with one program's recipe, rehearsal and machines."""
    if isolation.why_not():
        pytest.skip(isolation.why_not())
    if shutil.which("dpkg-query") is None:
        pytest.skip("dpkg-query (Debian) is not installed")
    folder = tmp_path_factory.mktemp("real")
    left: dict[str, str] = build.build(folder, [request.param])
    for why in left.values():
        pytest.skip(why)
    return folder


ALL = os.environ.get("WIDETRAIL_STOPS") == "all"
LARGE = ("postgresql", "keepassxc", "calibre")
"""The programs that are large to install."""

LIGHT = [name for name in build.PROGRAMS if name not in LARGE]
PROGRAMS = [
    *swept(LIGHT, ["taskwarrior"]),
    *(pytest.param(name, marks=pytest.mark.large) for name in LARGE),
]
JUDGED = [
    *(pytest.param(name, marks=pytest.mark.sweep) for name in (LIGHT if ALL else ["abook"])),
    *(pytest.param(name, marks=pytest.mark.large) for name in LARGE if ALL),
]


@pytest.mark.parametrize("program", build.PROGRAMS)
def test_the_recipe_has_no_findings(program: str) -> None:
    [findings] = lint([REAL / "recipes" / f"{program}.trail.yaml"]).values()
    assert [found for found in findings if found.rule != "asked"] == []


@pytest.mark.parametrize("made", PROGRAMS, indirect=True)
def test_each_rehearsal_passes_and_every_branch_is_reached(made: Path) -> None:
    rehearsed = rehearse([made], jobs=2)
    assert rehearsed.passed, [result.differences for result in rehearsed.results]
    assert not rehearsed.findings
    assert [covered.percent for covered in rehearsed.coverage()] == [100.0]


@pytest.mark.parametrize("made", JUDGED, indirect=True)
def test_every_mutation_is_detected_or_explained(made: Path) -> None:
    ran = widetrail("rehearse", made, "--mutate", "--jobs", "2", "--json")
    judged = ran.json["mutants"]
    assert judged
    assert [one for one in judged if one["survived"] and not one["explained"]] == []
