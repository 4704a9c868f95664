"""How fast a parcel is packed, sealed, topped up and unpacked, and how much memory that takes.

    python benchmarks/parcel.py [large] [small] [FOLDER]

Each leg is walked by a process of its own, whose memory is measured from when the passphrase of a
sealed parcel was taken: deriving its key takes 256 MiB or more for a second, as age has it. The
peer of packing is ``tar -cf`` followed by ``sha256sum`` of the tar; that of unpacking is
``tar -xf``, ``sync``, dropping the pages of what was unpacked, and ``sha256sum -c``. Sources were
just written and synced on both sides.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

from resume import NOW, machines, plan

from widetrail.machine import Effects, FolderMachine
from widetrail.machine.effects import Effect
from widetrail.parcel import Parcel
from widetrail.parcel.seal import make_seal
from widetrail.walking import Visit
from widetrail.walking.topping_up import top_up

SETS = {"large": ("1 GiB in 64 files", 64, 16 << 20), "small": ("20,000 of 4 KiB", 20_000, 4096)}
ROUNDS = {"large": 3, "small": 3}
PASSPHRASE = "reed bunting"


def leg(folder: str, name: str, again: str) -> None:
    """Walk one leg, and print its seconds and the memory that the process took at most."""
    packs = list[float]()

    def gate(effect: Effect) -> None:
        if "/data/cargo" in effect.path or (packs and "/data/index" in effect.path):
            packs.append(time.monotonic())

    effects = Effects(gate)
    machine = FolderMachine(Path(folder) / name, effects)
    begun = time.monotonic()
    parcel = Parcel(Path(folder) / "parcel", effects)
    parcel.unseal(PASSPHRASE)
    Path("/proc/self/clear_refs").write_text("5")  # the key's derivation takes memory of its own
    visit = Visit(parcel, machine)
    if again:
        top_up(visit, NOW)
    else:
        visit.walk(NOW)
    taken = time.monotonic() - begun
    packing = packs[-1] - packs[0] if packs else 0.0
    status = Path("/proc/self/status").read_text()
    memory = int(status.partition("VmHWM:")[2].split()[0]) / 1024
    print(json.dumps([taken, packing, memory]))


def walked(folder: Path, name: str, again: str = "") -> tuple[float, float, float]:
    call = [sys.executable, __file__, "leg", str(folder), name, again]
    done = subprocess.run(call, capture_output=True, text=True, check=True)
    seconds, packing, memory = json.loads(done.stdout)
    return seconds, packing, memory


def timed(act: Callable[[], object]) -> float:
    begun = time.monotonic()
    act()
    return time.monotonic() - begun


def tar_and_hash(notes: Path, tar: Path) -> None:
    subprocess.run(["tar", "-cf", tar, "-C", notes.parent, notes.name], check=True)
    subprocess.run(["sha256sum", tar], check=True, stdout=subprocess.DEVNULL)


def untar_and_check(tar: Path, sums: Path, to: Path) -> None:
    to.mkdir()
    subprocess.run(["tar", "-xf", tar, "-C", to], check=True)
    subprocess.run(["sync"], check=True)
    for path in to.rglob("*"):
        if path.is_file():
            handle = os.open(path, os.O_RDONLY)
            os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
            os.close(handle)
    subprocess.run(["sha256sum", "--quiet", "-c", sums], cwd=to, check=True)


def laid_out(stage: Path, count: int, size: int, sealed: bool = False) -> Path:
    stage.mkdir()
    notes = machines(stage, count, size)
    plan(stage, make_seal(PASSPHRASE) if sealed else None)
    os.sync()
    return notes


def one_round(top: Path, count: int, size: int, peer_first: bool) -> dict[str, float]:
    stage, tar, sums, out = (top / n for n in ("stage", "peer.tar", "sums", "out"))
    notes, found = laid_out(stage, count, size), dict[str, float]()

    def peer_packs() -> None:
        found["tar"] = timed(lambda: tar_and_hash(notes, tar))
        os.sync()

    def mine_packs() -> None:
        found["pack"], found["cargo"], found["pack MB"] = walked(stage, "old")
        os.sync()

    for act in (peer_packs, mine_packs) if peer_first else (mine_packs, peer_packs):
        act()
    found["top up"] = topped_up(stage, notes, count)
    with sums.open("wb") as file:
        command = "find notes -type f -print0 | xargs -0 sha256sum"
        subprocess.run(["bash", "-c", command], cwd=notes.parent, stdout=file, check=True)
    tar_and_hash(notes, tar)
    os.sync()

    def peer_unpacks() -> None:
        found["untar"] = timed(lambda: untar_and_check(tar, sums, out))
        shutil.rmtree(out)
        os.sync()

    def mine_unpacks() -> None:
        found["unpack"], _, found["unpack MB"] = walked(stage, "new")
        os.sync()

    for act in (peer_unpacks, mine_unpacks) if peer_first else (mine_unpacks, peer_unpacks):
        act()
    shutil.rmtree(stage)
    tar.unlink()
    os.sync()
    laid_out(stage, count, size, sealed=True)
    found["seal"], found["sealed cargo"], found["seal MB"] = walked(stage, "old")
    os.sync()
    found["unseal"], _, found["unseal MB"] = walked(stage, "new")
    shutil.rmtree(stage)
    os.sync()
    return found


def topped_up(stage: Path, notes: Path, count: int) -> float:
    """Change one file in a hundred, and return the seconds that topping up takes."""
    time.sleep(5)  # so that the times of the files tell that they were not touched since
    dice = random.Random(7)
    for path in dice.sample(sorted(notes.iterdir()), max(1, count // 100)):
        data = bytearray(path.read_bytes())
        data[:4096] = os.urandom(4096)
        path.write_bytes(data)
    os.sync()
    return walked(stage, "old", "top up")[0]


def main() -> None:
    if sys.argv[1:2] == ["leg"]:
        leg(*sys.argv[2:])
        return
    wanted = [name for name in SETS if name in sys.argv] or list(SETS)
    folders = [Path(word) for word in sys.argv[1:] if word not in SETS]
    for name in wanted:
        told, count, size = SETS[name]
        with tempfile.TemporaryDirectory(dir=folders[0] if folders else None) as top:
            rounds = [one_round(Path(top), count, size, bool(n % 2)) for n in range(ROUNDS[name])]
        show(told, {key: median(r[key] for r in rounds) for key in rounds[0]}, len(rounds))


def show(told: str, found: dict[str, float], rounds: int) -> None:
    print(f"{told}, medians of {rounds} rounds          (s)   peer (s)   ratio   memory (MB)")
    for words, mine, peer in (
        ("packing, segments and index", "cargo", "tar"),
        ("packing, the whole leg on old", "pack", "tar"),
        ("unpacking, the whole leg on new", "unpack", "untar"),
        ("topping up after 1 % changed", "top up", "pack"),
        ("packing sealed, segments and index", "sealed cargo", "cargo"),
        ("packing sealed, the whole leg on old", "seal", "pack"),
        ("unpacking sealed", "unseal", "unpack"),
    ):
        memory = found.get(f"{mine} MB")
        print(
            f"{words:<40} {found[mine]:>10.2f} {found[peer]:>10.2f}"
            f" {found[mine] / found[peer]:>7.2f} {f'{memory:.0f}' if memory else '':>13}",
            flush=True,
        )
    print()


if __name__ == "__main__":
    main()
