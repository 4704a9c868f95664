"""What all tests share: the demo world, the command line, and a way to stop the work anywhere."""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from zlib import crc32

import pytest
import yaml
from click.testing import CliRunner
from hypothesis import settings

import widetrail as product
from build import NOW as NOW
from build import Trail
from seat_world import WAYS, Explored, Way, explore
from widetrail.cli import main
from widetrail.formats import parser_process
from widetrail.library.publishing import bundle
from widetrail.machine import Effect, Effects
from widetrail_demo.world import build_world

settings.register_profile("ours", deadline=None, derandomize=True)
settings.load_profile("ours")


os.environ.pop("COLUMNS", None)  # what is piped is as wide as it is for a newcomer

SWEEP = pytest.mark.sweep
"""What tries everything there is, and takes minutes: see ``pyproject.toml``."""


def swept(values: Iterable[Any], kept: Iterable[Any]) -> list[Any]:
    """Return the values of a parameter; all but those ``kept`` in every run are a sweep's."""
    few = list(kept)
    return [v if v in few else pytest.param(*_several(v), marks=SWEEP) for v in values]


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """With ``WIDETRAIL_SHARE=1/3`` run that third of the sweeps and of the large ones only: which
    is whose is told by their names, so that three builds run all."""
    share = os.environ.get("WIDETRAIL_SHARE", "")
    if not share:
        return
    mine, of = (int(part) for part in share.split("/"))
    long = [
        one for one in items if one.get_closest_marker("sweep") or one.get_closest_marker("large")
    ]
    left = {one.nodeid for one in long if crc32(one.nodeid.encode()) % of != mine % of}
    config.hook.pytest_deselected(items=[one for one in items if one.nodeid in left])
    items[:] = [one for one in items if one.nodeid not in left]


def asked(request: pytest.FixtureRequest, test: str, *names: str) -> list[Any]:
    """Return the values that the tests of one name, as far as they run, have for parameters."""
    mine = [i for i in request.session.items if getattr(i, "originalname", "") == test]
    found = [tuple(i.callspec.params[n] for n in names) for i in mine if hasattr(i, "callspec")]
    return [value if len(names) > 1 else value[0] for value in found]


def _several(value: Any) -> tuple[Any, ...]:
    return value if isinstance(value, tuple) else (value,)


@dataclass(frozen=True)
class Ran:
    """How a call of the command line ended."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """The one JSON document on standard output."""
        return json.loads(self.out)


def widetrail(*arguments: str | Path) -> Ran:
    """Call the command line in this process."""
    result = CliRunner().invoke(main, [str(a) for a in arguments])
    if result.exception is not None and not isinstance(result.exception, SystemExit):
        raise result.exception
    return Ran(result.exit_code, result.stdout, result.stderr)


@dataclass(frozen=True)
class World:
    """A demo world of its own for one test."""

    folder: Path

    @property
    def recipe(self) -> Path:
        return self.folder / "recipes" / "sporelog.trail.yaml"

    @property
    def parcel(self) -> Path:
        return self.folder / "media" / "usb-stick" / "parcel"

    def machine(self, name: str) -> Path:
        return self.folder / "machines" / name

    @property
    def old(self) -> Path:
        return self.machine("potting-shed")

    @property
    def new(self) -> Path:
        return self.machine("glass-office")

    def plan(self, *more: str | Path) -> Ran:
        return widetrail(
            "plan",
            self.recipe,
            "--old",
            self.old,
            "--new",
            self.new,
            "--parcel",
            self.parcel,
            *more,
        )

    def walk(self, machine: Path, *more: str) -> Ran:
        here = ("walk", self.parcel, "--machine", machine)
        return widetrail(*here, "--yes", "--no-wait", *more)

    def edit(self, name: str, change: Callable[[str], str]) -> None:
        """Change a text file of the world."""
        path = self.folder / name
        before = path.read_text(encoding="utf-8")
        after = change(before)
        assert after != before, f"nothing to change in {name}"
        path.write_text(after, encoding="utf-8")


@pytest.fixture(autouse=True)
def nothing_lost() -> None:
    """Have each test begin with all the time that questions may lose."""
    parser_process.renew()


@pytest.fixture(autouse=True)
def own_recipes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Have what was used on this computer before be that of one test."""
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "own-state"))


@pytest.fixture(scope="session", autouse=True)
def own_cache_of_tests(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Have what the tool keeps for itself lie apart from the account's own."""
    os.environ["XDG_CACHE_HOME"] = str(tmp_path_factory.mktemp("cache"))
    os.environ["XDG_STATE_HOME"] = str(tmp_path_factory.mktemp("state"))


@pytest.fixture
def own_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Have the account that tests run as be at home in a folder of theirs."""
    home = tmp_path / "home"
    (home / ".config").mkdir(parents=True)
    monkeypatch.setenv("HOME", str(home))
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "SUDO_USER"):
        monkeypatch.delenv(name, raising=False)
    return home


@pytest.fixture(scope="session")
def first_world(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("first") / "world"
    build_world(folder)
    return folder


@pytest.fixture
def world(first_world: Path, tmp_path: Path) -> World:
    shutil.copytree(first_world, tmp_path / "world", symlinks=True)
    return World(tmp_path / "world")


def contents(folder: Path) -> dict[str, str]:
    """Return what is in a folder: a digest, time and mode for each name."""
    found = {}
    for path in sorted(folder.rglob("*")):
        status = path.lstat()
        if path.is_symlink():
            data = f"-> {path.readlink()}"
        elif path.is_file():
            data = f"{hashlib.sha256(path.read_bytes()).hexdigest()} {status.st_mtime_ns}"
        else:
            data = "folder"
        found[str(path.relative_to(folder))] = f"{data} {status.st_mode:o}"
    return found


def without_state(found: dict[str, str]) -> dict[str, str]:
    """Leave out the tool's own journal."""
    return {name: data for name, data in found.items() if "/widetrail" not in name}


class Stopped(BaseException):
    """The work was stopped by a test, as a kill would."""


def stop_at(number: int) -> Callable[[Effect], None]:
    """Return a gate that stops before the effect of that number."""

    def gate(effect: Effect) -> None:
        if effect.number == number:
            raise Stopped(effect)

    return gate


def cut_off_everywhere(
    one: Trail, folder: Path, every: int, judge: Callable[[Trail, int], None]
) -> int:
    """Walk new's leg in copies of ``one``, each cut off before another effect, and judge each.

    ``judge`` walks on. Return how many effects the leg has, about.
    """
    for number in range(1, 1000, every):
        copy = replace(one, folder=shutil.copytree(one.folder, folder / str(number), symlinks=True))
        try:
            copy.walk("new", Effects(stop_at(number)))
            return number
        except Stopped:
            judge(copy, number)
        shutil.rmtree(copy.folder)
    raise AssertionError("the leg has no end")


def of_the_person(folder: Path) -> dict[str, str]:
    """Return what is in a machine's folder but for what the tool keeps, and the folders of that."""
    own = ("/.local", "/AppData")
    found = without_state(contents(folder))
    return {name: data for name, data in found.items() if not any(o in name for o in own)}


def kept_files(folder: Path) -> set[str]:
    """Return the files on a machine that are the tool's own, wherever they lie."""
    return {
        name
        for name, data in contents(folder).items()
        if not data.startswith("folder") and ("/widetrail/" in name or "/.widetrail/" in name)
    }


FIGURES = "figures"
"""The property by which a test tells figures that are printed at the end."""


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    passed = terminalreporter.getreports("passed")
    told = [text for one in passed for name, text in one.user_properties if name == FIGURES]
    if told:
        terminalreporter.section("figures")
    for text in told:
        terminalreporter.write_line(str(text))


@pytest.fixture
def trails(tmp_path: Path) -> Iterator[Callable[..., Any]]:
    """Make moves of a licence, whose services are ended with the test; see ``seat_trail``."""
    from seat_trail import SeatTrail

    made: list[SeatTrail] = []

    def make(**ways: Any) -> SeatTrail:
        folder = tmp_path / f"trail-{len(made)}"
        folder.mkdir()
        made.append(SeatTrail(folder, **ways))
        return made[-1]

    yield make
    for trail in made:
        trail.close()


@pytest.fixture(scope="session")
def explored(request: pytest.FixtureRequest) -> dict[Way, Explored]:
    """Every state of the seat machine in its world, by the ways of ``seat_world``."""
    swept = any(item.get_closest_marker("sweep") is not None for item in request.session.items)
    ways = WAYS if swept else WAYS[:1]
    with ProcessPoolExecutor(2) as pool:
        return dict(zip(ways, pool.map(explore, ways), strict=True))


CODES_PAGE = (Path(product.__file__).parent / "findings.md").read_text(encoding="utf-8")
BASE = re.findall(r"```yaml\n(recipe: 1.*?)```", CODES_PAGE, re.DOTALL)[0]
"""The recipe without findings of the page of codes."""


def with_parts(fragment: str) -> str:
    """Return the recipe of the page with the parts that an example has in their place."""
    document = yaml.load(BASE, yaml.CBaseLoader)
    for section, parts in yaml.load(fragment, yaml.CBaseLoader).items():
        if isinstance(parts, dict) and isinstance(document.get(section), dict):
            document[section] |= parts
            document[section] = {k: v for k, v in document[section].items() if v != "null"}
        else:
            document[section] = parts
    return yaml.safe_dump(document, sort_keys=False, allow_unicode=True)


@pytest.fixture
def archive(world: World, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Return a bundle of a recipe, beside keys, a keyring and passphrases."""
    monkeypatch.setenv("XDG_STATE_HOME", str(world.folder / "state"))
    path = world.folder / "recipes.zip"
    path.write_bytes(bundle([world.folder / "recipes/huemoss.trail.yaml"]))
    lines = ["keyring: Marrowfield", "threshold: 2", "keys:"]
    for name in ("ines", "tomas"):
        said = world.folder / f"{name}.txt"
        said.write_text(f"the words of {name}\n")
        key = world.folder / f"{name}.key"
        assert widetrail("key", "make", key, "--passphrase-from", said).status == 0
        assert key.stat().st_mode & 0o777 == 0o600
        assert b"ENCRYPTED" in key.read_bytes()
        public = widetrail("key", "show", key, "--passphrase-from", said).out.strip()
        lines.append(f'  {name}: {{key: "{public}"}}')
    (world.folder / "keyring.yaml").write_text("\n".join(lines))
    return path
