"""Machines stored by content: they cost what differs, and play what they played."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

import pytest

import widetrail
from conftest import World
from conftest import widetrail as command
from widetrail.catalogue.errand_inputs import lay_out, packed
from widetrail.errors import MachineUnusable
from widetrail.library.rehearsals import rehearse
from widetrail.machine import FolderMachine
from widetrail.machine.machine_file import CONTENTS
from widetrail.rehearsing.inputs import tree_digest
from widetrail.rehearsing.noting import Known
from widetrail.rehearsing.shared_contents import STORE, copy_shared, prune, share, unshare

MACHINES = 15


def facts(folder: Path) -> dict[str, tuple[int, int, bytes | str]]:
    """Return all that is told of what lies in a folder."""
    found: dict[str, tuple[int, int, bytes | str]] = {}
    for path in sorted(folder.rglob("*")):
        status = path.lstat()
        told: bytes | str = b""
        if path.is_symlink():
            told = str(path.readlink())
        elif path.is_file():
            told = path.read_bytes()
        time = 0 if path.is_symlink() else status.st_mtime_ns
        found[str(path.relative_to(folder))] = (status.st_mode, time, told)
    return found


def stored(machines: Path) -> int:
    """Return the bytes of all files in a folder."""
    return sum(path.stat().st_size for path in machines.rglob("*") if path.is_file())


@pytest.fixture
def odd(world: World) -> Path:
    """A machine with all that may lie in one."""
    machine = world.machine("bothy")
    (machine / "link").symlink_to("nowhere")
    (machine / "empty").mkdir(mode=0o700)
    (machine / "empty" / "not valid \udcff").write_bytes(b"moss")
    (machine / "empty" / "again").write_bytes(b"moss")
    (machine / "empty" / "again").chmod(0o600)
    os.utime(machine / "empty", ns=(1, 1_000_000_007))
    return machine


def test_what_is_stored_comes_back_as_it_was(odd: Path, tmp_path: Path) -> None:
    before, known_by = facts(odd), tree_digest(odd)
    assert widetrail.share_machine(odd) > 0
    assert {path.name for path in odd.iterdir()} == {"machine.yaml", CONTENTS}
    assert tree_digest(odd) == known_by  # proofs stay what they are
    copy_shared(odd, tmp_path / "copy")
    assert facts(tmp_path / "copy") == before
    assert packed(odd) == packed(tmp_path / "copy")
    lay_out(packed(odd)[1], tmp_path / "laid")
    assert tree_digest(tmp_path / "laid") == known_by
    assert widetrail.unshare_machine(odd) > 0
    assert facts(odd) == before and not list((odd.parent / STORE).rglob("*/*"))


def test_many_machines_cost_what_differs(world: World) -> None:
    machines = world.folder / "machines"
    first = world.machine("glass-office")
    for path in machines.iterdir():
        if path != first:
            shutil.rmtree(path)
    plain = stored(machines)
    digests = {}
    for number in range(MACHINES):
        twin = machines / f"twin-{number:03d}"
        shutil.copytree(first, twin, symlinks=True)
        note = next(iter(twin.glob("disks/C/Users/*"))) / "note.txt"
        note.write_text(f"a note of {number}")
        digests[twin] = tree_digest(twin)
    share(first)
    for twin in digests:
        share(twin, first)
    assert stored(machines) < 2 * plain < (1 + MACHINES) * plain / 7
    assert {twin: tree_digest(twin) for twin in digests} == digests
    some = machines / "twin-012"
    unshare(some)
    assert tree_digest(some) == digests[some] and FolderMachine(some).name
    assert prune(machines) == len("a note of 12")
    assert prune(machines) == 0


def test_what_is_stored_is_rehearsed_on_as_before(world: World) -> None:
    paths = [world.folder / f"recipes/huemoss{name}.rehearsal.yaml" for name in ("", "-taken-in")]
    runs = world.folder / "runs"
    assert rehearse(paths, history=runs).passed
    ran = command("machine", "share", world.machine("potting-shed"), world.machine("glass-office"))
    assert ran.status == 0 and ran.out.count("is stored by content") == 2
    again = rehearse(paths, history=Known(runs, changed=True))
    assert again.passed and again.results == ()
    told = rehearse(paths)
    assert told.passed and len(told.results) == 2
    refused = world.plan()
    assert refused.status == 2 and "machine unshare" in refused.err
    back = command("machine", "unshare", world.old, world.new)
    assert back.status == 0 and world.plan().status == 0


def test_a_machine_is_stored_once_and_on_a_base_beside_it(world: World, tmp_path: Path) -> None:
    share(world.old)
    with pytest.raises(MachineUnusable, match="already"):
        share(world.old)
    with pytest.raises(MachineUnusable, match="cannot have that base"):
        share(world.new, world.machine("bothy"))
    shutil.copytree(world.old, tmp_path / "elsewhere")
    with pytest.raises(MachineUnusable, match="cannot have that base"):
        share(world.new, tmp_path / "elsewhere")
    with pytest.raises(MachineUnusable):
        unshare(world.new)
    assert command("machine", "share", world.folder / "recipes").status == 2


LIE = '["file", 420, 0, "' + 64 * "0" + '", 4]'


@pytest.mark.parametrize(
    "lines",
    [
        '["../out", "file", 420, 0, "DIGEST", 4]',
        '["/out", "file", 420, 0, "DIGEST", 4]',
        '["a/../../out", "file", 420, 0, "DIGEST", 4]',
        '["way", "link", 0, 0, "", 0, "OUT"]\n["way/out", "file", 420, 0, "DIGEST", 4]',
        '["a", "file", 420, 0, "../../../out", 4]',
        '["a", "pipe"]',
        '["a", "folder", "x", 0]',
        '["a"]',
        "not JSON",
        '{"a": 1}',
    ],
)
def test_a_list_that_lies_writes_nowhere_else(lines: str, world: World, tmp_path: Path) -> None:
    share(world.old)
    path = world.old / CONTENTS
    known_by = next(
        told[4] for told in map(json.loads, path.read_text().splitlines()[1:]) if told[1] == "file"
    )
    outside = tmp_path / "outside"
    outside.mkdir()
    told = lines.replace("DIGEST", known_by).replace("OUT", str(outside))
    path.write_text(f"{path.read_text().splitlines()[0]}\n{told}\n")
    with pytest.raises(MachineUnusable):
        copy_shared(world.old, tmp_path / "in" / "copy")
    assert not list(outside.iterdir()) and not (tmp_path / "in" / "out").exists()
    assert not (tmp_path / "out").exists()


def test_what_is_missing_is_told(world: World, tmp_path: Path) -> None:
    share(world.old)
    share(world.new, world.old)
    [first, *_] = sorted((world.folder / "machines" / STORE).glob("??/*"))
    first.unlink()
    with pytest.raises(MachineUnusable, match="missing"):
        copy_shared(world.old, tmp_path / "copy")
    (world.old / CONTENTS).write_text("")
    with pytest.raises(MachineUnusable, match="cannot be read"):
        copy_shared(world.new, tmp_path / "other")
    with pytest.raises(MachineUnusable):  # nothing is removed while it is not known what is needed
        prune(world.folder / "machines")
    world.edit(
        "machines/glass-office/contents.txt", lambda t: t.replace("potting-shed", "glass-office", 1)
    )
    with pytest.raises(MachineUnusable, match="bases"):
        copy_shared(world.new, tmp_path / "circle")
