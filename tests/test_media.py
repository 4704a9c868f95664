"""Parcels on real media: volumes mounted from image files, as memory sticks come."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import bagit
import pytest

from build import Trail, item, outcomes, trail
from conftest import contents
from widetrail.errors import Halted
from widetrail.machine import Effects
from widetrail.walking import make_report

COPY = "        legs:\n          - new:\n              - copy"
CHECKED = "    checks: {pages: {}}"
MIB = 1 << 20

pytestmark = pytest.mark.skipif(
    sys.platform != "linux" or os.geteuid() != 0, reason="only root of a Linux may mount volumes"
)

MAKES = {
    "fat": ["mkfs.vfat", "-n", "STICK"],
    "exfat": ["mkfs.exfat"],
    "ntfs": ["mkfs.ntfs", "-F", "-q"],
    "ext4": ["mkfs.ext4", "-q"],
}
MOUNTS = {
    "fat": [["mount"], ["fusefat", "-o", "rw+"]],
    "exfat": [["mount", "-t", "exfat"], ["mount.exfat-fuse"]],
    "ntfs": [["mount.ntfs-3g", "-o", "windows_names"]],
    "ext4": [["mount"]],
}


@pytest.fixture
def medium(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Path]:
    """Mount an empty volume of the format that the test names."""
    kind: str = request.param
    image, at = tmp_path / "image", tmp_path / "medium"
    at.mkdir()
    if kind == "tmpfs":
        _run(["mount", "-t", "tmpfs", "-o", "size=6m", "tmpfs", str(at)], "a tmpfs")
    else:
        with image.open("wb") as file:
            file.truncate(64 * MIB)
        _run([*MAKES[kind], str(image)], f"a {kind} volume")
        _mount(kind, image, at)
    yield at
    subprocess.run(["umount", "-l", str(at)], check=False, capture_output=True)
    used = ["losetup", "-n", "-O", "NAME", "-j", str(image)]
    if kind != "tmpfs":
        found = subprocess.run(used, capture_output=True, text=True, check=False)
        for device in found.stdout.split():
            subprocess.run(["losetup", "-d", device], check=False, capture_output=True)


def _mount(kind: str, image: Path, at: Path) -> None:
    told = []
    for command in MOUNTS[kind]:
        if shutil.which(command[0]) is None:
            told.append(f"{command[0]} is not installed")
            continue
        attach = ["losetup", "-f", "--show", str(image)]
        found = subprocess.run(attach, capture_output=True, text=True, check=False)
        if found.returncode:
            told.append(found.stderr.strip())
            break
        source = found.stdout.strip() if command[0] != "fusefat" else str(image)
        mount = [*command, source, str(at)]
        done = subprocess.run(mount, capture_output=True, text=True, check=False)
        if done.returncode == 0:
            return
        told.append(done.stderr.strip().splitlines()[0])
    pytest.skip(f"{kind} cannot be mounted here: {'; '.join(told)}")


def _run(command: list[str], what: str) -> None:
    if shutil.which(command[0]) is None:
        pytest.skip(f"{command[0]} is not installed, so there is no way to make {what}")
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        pytest.skip(f"{what} cannot be made here: {done.stderr.strip().splitlines()[-1]}")


def odd_trail(folder: Path, parcel: Path, sealed: str = "") -> Trail:
    """Return a trail whose notes have all that a plain medium cannot hold."""
    notes = folder / "old/root/home/ada/notes"
    (notes / "deep" / ("long " * 40)).mkdir(parents=True)
    for name in ("a:b?", "CON", "dot.", "Case", "case", os.fsdecode(b"caf\xe9"), "ünïcode ☘"):
        (notes / name).write_text(name.encode("utf-8", "surrogateescape").hex())
    (notes / "deep/link").symlink_to("../one.txt")
    (notes / "tool").write_bytes(random.Random(3).randbytes(3 * MIB))
    (notes / "tool").chmod(0o750)
    os.link(notes / "tool", notes / "deep/twin")
    return trail(folder, item(COPY, CHECKED), parcel=parcel, sealed=sealed)


@pytest.mark.parametrize("medium", ["fat", "exfat", "ntfs", "ext4"], indirect=True)
@pytest.mark.parametrize(
    "sealed",
    [
        pytest.param("", id="plain"),
        pytest.param("reed bunting", id="sealed", marks=pytest.mark.sweep),
    ],
)
def test_everything_travels_on_any_medium(medium: Path, tmp_path: Path, sealed: str) -> None:
    one = odd_trail(tmp_path / "machines", medium / "parcel", sealed)
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    assert bagit.Bag(str(one.at)).is_valid()
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert contents(one.notes("new")) == contents(one.notes("old"))
    legs = make_report(one.parcel).legs
    assert (legs[0].read_back[0] > 1, legs[1].on_arrival[0] > 3, legs[1].verified) == (
        True,
        True,
        11,
    )


@pytest.mark.parametrize("medium", ["tmpfs"], indirect=True)
def test_a_medium_that_runs_full_is_told_and_the_walk_goes_on(medium: Path, tmp_path: Path) -> None:
    notes = tmp_path / "machines/old/root/home/ada/notes"
    notes.mkdir(parents=True)
    (notes / "tool").write_bytes(random.Random(3).randbytes(MIB))
    one = trail(tmp_path / "machines", item(COPY, CHECKED), parcel=medium / "parcel")
    filler = medium / "filler"
    filler.write_bytes(bytes(5 * MIB))
    before = contents(one.notes("old"))
    with pytest.raises(Halted, match="No space left on device"):
        one.walk("old")
    assert contents(one.notes("old")) == before
    filler.unlink()
    assert set(outcomes(one.walk("old")).values()) == {"done"}
    assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert contents(one.notes("new")) == before


@pytest.mark.parametrize("medium", ["ext4"], indirect=True)
@pytest.mark.parametrize("station", ["old", "new"])
def test_a_medium_that_is_taken_away_in_the_middle(
    medium: Path, tmp_path: Path, station: str
) -> None:
    one = odd_trail(tmp_path / "machines", medium / "parcel")
    if station == "new":
        one.walk("old")
    before = contents(one.notes("old"))
    wanted = "/data/cargo/" if station == "old" else "/staging/"

    def gate(effect: object) -> None:
        path = getattr(effect, "path", "")
        if wanted in path and getattr(effect, "kind", "") == "create":
            subprocess.run(["umount", "-l", str(medium)], check=False, capture_output=True)

    with pytest.raises(Halted):
        done = one.walk(station, Effects(gate))  # type: ignore[arg-type]
        raise Halted(str(outcomes(done)))  # a step waits: the leg goes on when it is there again
    assert contents(one.notes("old")) == before
    assert not list(medium.iterdir()), "something was written where the medium had been"
    assert not one.notes("new").exists()
    subprocess.run(["mount", "-o", "loop", tmp_path / "image", medium], check=True)
    if station == "new":
        assert set(outcomes(one.walk("new")).values()) == {"done"}
    else:
        assert set(outcomes(one.walk("old")).values()) == {"done"}
        assert set(outcomes(one.walk("new")).values()) == {"done"}
    assert contents(one.notes("new")) == before
