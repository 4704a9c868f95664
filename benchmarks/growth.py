"""How time and memory grow with the number of files, and what other trees cost than a plain one.

    pip install . matplotlib && python benchmarks/growth.py shapes [FOLDER]
    pip install . matplotlib && python benchmarks/growth.py growth COUNT… [FOLDER]
    python benchmarks/growth.py figure docs/growth.svg

Each leg is walked by a process of its own, start included. The peers are those of ``parcel.py``:
``tar -cf`` and ``sha256sum`` of the tar; ``tar -xf``, ``sync``, and ``sha256sum -c`` of each file.
CPU is that of all processes of a side. ``growth`` takes as many files of 1 KiB, 1,000 in a folder,
and keeps what it measured in ``growth.json`` beside itself, of which ``figure`` makes a picture.
"""

from __future__ import annotations

import json
import os
import random
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from parcel import leg
from resume import machines, plan

KEPT = Path(__file__).with_name("growth.json")
SHAPES: dict[str, Callable[[Path], None]] = {}


def shape(told: str) -> Callable[[Callable[[Path], None]], Callable[[Path], None]]:
    """Enter what fills a folder, by what it is called in the table."""

    def enter(fill: Callable[[Path], None]) -> Callable[[Path], None]:
        SHAPES[told] = fill
        return fill

    return enter


@shape("one folder of 20,000 files of 4 KiB")
def plain(top: Path) -> None:
    for number in range(20_000):
        (top / f"{number:05d}.bin").write_bytes(os.urandom(4096))


@shape("photos: one folder of 5,000, 200 KiB each")
def photos(top: Path) -> None:
    for number in range(5_000):
        (top / f"IMG_{number:04d}.jpg").write_bytes(os.urandom(200 << 10))


@shape("source trees: 20,000 files 4 to 12 folders deep")
def sources(top: Path) -> None:
    dice, made = random.Random(5), 0
    while made < 20_000:
        names = (
            f"{dice.choice('core util test main impl'.split())}{dice.randrange(3)}"
            for _ in "x" * 12
        )
        folder = top.joinpath(f"project{made % 40}", *list(names)[: dice.randrange(3, 12)])
        folder.mkdir(parents=True, exist_ok=True)
        for _ in range(dice.randrange(1, 20)):
            size = int(dice.paretovariate(1.1) * 400) % 60_000
            (folder / f"module_{made}.py").write_bytes(dice.randbytes(size))
            made += 1


@shape("long names of many scripts: 10,000 files")
def scripts(top: Path) -> None:
    dice = random.Random(6)
    words = ("Überblick", "été à la mer", "写真とメモ", "заметки", "σημειώσεις", "📷 garden")
    for number in range(10_000):
        folder = top / dice.choice(words) / f"{dice.choice(words)} {number % 50}"
        folder.mkdir(parents=True, exist_ok=True)
        name = " ".join(dice.choice(words) for _ in range(5))
        (folder / f"{name} {number}.txt").write_bytes(dice.randbytes(2_000))


@shape("a mail store: 30,000 letters in 40 folders")
def mail(top: Path) -> None:
    dice = random.Random(7)
    for number in range(30_000):
        folder = top / f".Folder {number % 40}" / ("cur" if number % 20 else "new")
        folder.mkdir(parents=True, exist_ok=True)
        letter = dice.randbytes(int(dice.paretovariate(1.2) * 1_500) % 200_000)
        (folder / f"17{number:08d}.M{number}P1.host,S={len(letter)}:2,S").write_bytes(letter)


def many(count: int) -> Callable[[Path], None]:
    def fill(top: Path) -> None:
        for number in range(count):
            if number % 1000 == 0:
                folder = top / f"{number // 1000:04d}"
                folder.mkdir()
            (folder / f"{number:07d}.bin").write_bytes(os.urandom(1024))

    return fill


# Measuring


def spent(act: Callable[[], object]) -> tuple[float, float]:
    """Return the seconds that an act takes, and the CPU of the processes that it starts."""
    before, begun = resource.getrusage(resource.RUSAGE_CHILDREN), time.monotonic()
    act()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime
    return time.monotonic() - begun, cpu


def measured(fill: Callable[[Path], None], top: Path) -> dict[str, float]:
    """Walk both legs with what a function filled the item with, and its peers."""
    stage, tar, out = top / "stage", top / "peer.tar", top / "out"
    stage.mkdir()
    notes, found = machines(stage, 0, 0), dict[str, float]()
    fill(notes)
    found["files"] = sum(len(names) for _, _, names in os.walk(notes))
    plan(stage)
    os.sync()

    def peer_packs() -> None:
        run("tar", "-cf", tar, "-C", notes.parent, notes.name)
        run("sha256sum", tar)

    def peer_unpacks() -> None:
        run("tar", "-xf", tar, "-C", out)
        run("sync")
        run("bash", "-c", f"cd '{out}' && sha256sum --quiet -c '{top}/sums'")

    found |= side("old peer", peer_packs)
    os.sync()
    found |= side("old", lambda: walks(stage, "old", found))
    os.sync()
    sums = f"cd '{notes.parent}' && find notes -type f -print0 | xargs -0 sha256sum > '{top}/sums'"
    run("bash", "-c", sums)
    out.mkdir()
    found |= side("new peer", peer_unpacks)
    shutil.rmtree(out)
    tar.unlink()
    os.sync()
    found |= side("new", lambda: walks(stage, "new", found))
    shutil.rmtree(stage)
    return found


def side(name: str, act: Callable[[], None]) -> dict[str, float]:
    seconds, cpu = spent(act)
    return {f"{name} s": seconds, f"{name} cpu": cpu}


def walks(stage: Path, name: str, found: dict[str, float]) -> None:
    call = [sys.executable, __file__, "leg", str(stage), name]
    done = subprocess.run(call, capture_output=True, text=True, check=True)
    found[f"{name} MB"] = json.loads(done.stdout)[2]


def run(*command: str | Path) -> None:
    subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL)


def row(told: str, found: dict[str, float]) -> str:
    ratios = [
        f"{found[f'{n} {u}'] / found[f'{n} peer {u}']:6.2f}"
        for n in ("old", "new")
        for u in ("s", "cpu")
    ]
    memory = f"{found['old MB']:6.0f} {found['new MB']:6.0f}"
    return f"{told:<50} {' '.join(ratios)}   {memory}"


HEAD = f"{'':<50} {'old s':>6} {'cpu':>6} {'new s':>6} {'cpu':>6}   {'MB old':>6} {'new':>6}"


# The figure


def figure(to: Path) -> None:
    """Draw what was measured: time and memory by the number of files, both scales logarithmic."""
    from matplotlib import pyplot

    rows = sorted(json.loads(KEPT.read_text()), key=lambda row: row["files"])
    counts = [row["files"] for row in rows]
    pyplot.rcParams.update({"font.size": 10, "svg.hashsalt": "growth", "axes.spines.top": False})
    drawn, (time_axes, memory_axes) = pyplot.subplots(1, 2, figsize=(10, 4.2))
    for name, colour, words in (
        ("old", "#1f5f8b", "on the old computer"),
        ("new", "#b3541e", "on the new one"),
    ):
        for of, style, who in (("", "-o", "Wide Trail"), (" peer", "--s", "its peer")):
            values = [row[f"{name}{of} cpu"] for row in rows]
            time_axes.plot(
                counts, values, style, color=colour, label=f"{who}, {words}", markersize=5
            )
        memory_axes.plot(
            counts,
            [row[f"{name} MB"] for row in rows],
            "-o",
            color=colour,
            label=words,
            markersize=5,
        )
    time_axes.set(title="CPU of a leg (s)", xscale="log", yscale="log")
    memory_axes.set(
        title="Memory of a leg at most (MB)", xscale="log", yscale="log", ylim=(10, 1000)
    )
    for axes in (time_axes, memory_axes):
        axes.set_xlabel("files of 1 KiB")
        axes.set_xticks(counts, [f"{count:,.0f}" for count in counts])
        axes.minorticks_off()
        axes.yaxis.set_major_formatter(lambda value, at: f"{value:g}")
        axes.grid(alpha=0.3)
        axes.spines["right"].set_visible(False)
        axes.legend(frameon=False, fontsize=8)
    drawn.tight_layout()
    drawn.savefig(to, metadata={"Date": None})


def main() -> None:
    what, *words = sys.argv[1:]
    if what == "leg":
        leg(words[0], words[1], "")
        return
    if what == "figure":
        figure(Path(words[0]))
        return
    folder = next((word for word in words if not word.isdigit()), None)
    print(HEAD)
    for told, fill in asked(what, words):
        with tempfile.TemporaryDirectory(dir=folder) as top:
            found = measured(fill, Path(top))
        print(row(told, found), flush=True)
        if what == "growth":
            known = json.loads(KEPT.read_text()) if KEPT.exists() else []
            others = [one for one in known if one["files"] != found["files"]]
            rounded = {name: round(value, 2) for name, value in found.items()}
            KEPT.write_text(json.dumps([*others, rounded], indent=1) + "\n")


def asked(what: str, words: list[str]) -> Iterator[tuple[str, Callable[[Path], None]]]:
    if what == "shapes":
        yield from SHAPES.items()
    for count in map(int, filter(str.isdigit, words)):
        yield f"{count:,} files of 1 KiB", many(count)


if __name__ == "__main__":
    main()
