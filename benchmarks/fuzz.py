"""Fuzz every reader, rewriter and document: nothing but an error of our own may come of any input.

    python benchmarks/fuzz.py [TARGET ...] [--seconds 6] [--inputs 1000000] [--seed 1] [--list]

A target ends after so many seconds or inputs, whichever comes first. Targets of bytes are led by
what they reach (``atheris``, of the extra ``fuzz``) where that is installed, and otherwise changed
blindly; documents are trees that are changed at random, written with every checksum right, and
given to whole commands. A finding is an exception that is none of ours, an input that takes more
than 10 seconds, or more than 500 MB of memory; what gave it is kept in ``fuzz-found``.
"""

from __future__ import annotations

import argparse
import io
import json
import multiprocessing
import os
import random
import resource
import signal
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import redirect_stderr, suppress
from pathlib import Path
from typing import Any

TESTS = Path(__file__).resolve().parent.parent / "tests"
sys.path.insert(0, str(TESTS))
SLOW = 10
LARGE_MB = 500
FOUND = Path("fuzz-found")


class Slow(BaseException):
    """An input took too long."""


class Finish(BaseException):
    """The time or the inputs are at their end."""


class Watch:
    """Counts inputs, and takes note of each kind of failure once."""

    def __init__(self, name: str, seconds: float, inputs: int) -> None:
        self.name, self.count, self.inputs, self.seconds = name, 0, inputs, seconds
        self.begin()
        self.found: dict[str, str] = {}
        signal.signal(signal.SIGALRM, self._alarm)

    def begin(self) -> None:
        """Have the time begin now."""
        self.end = time.monotonic() + self.seconds

    def _alarm(self, *_: object) -> None:
        raise Slow

    def __call__(self, attempt: Callable[[Any], Any], what: Any, ours: tuple[type, ...]) -> None:
        if time.monotonic() > self.end or self.count >= self.inputs:
            raise Finish
        self.count += 1
        signal.setitimer(signal.ITIMER_REAL, SLOW)
        try:
            attempt(what)
        except ours:
            pass
        except (Slow, Exception) as error:
            self._note(error, what)
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)

    def _note(self, error: BaseException, what: Any) -> None:
        frames = traceback.extract_tb(error.__traceback__)
        mine = [f for f in frames if "/widetrail/" in f.filename] or list(frames)
        spot = f"{type(error).__name__} {Path(mine[-1].filename).name}:{mine[-1].lineno}"
        if spot in self.found:
            return
        FOUND.mkdir(exist_ok=True)
        file = FOUND / f"{self.name.replace(' ', '-')}-{len(self.found) + 1}"
        data = what if isinstance(what, bytes) else json.dumps(what).encode()
        file.write_bytes(data)
        file.with_suffix(".txt").write_text(
            "".join(traceback.format_exception(error)), errors="replace"
        )
        self.found[spot] = f"{str(error)[:100]!r} {file}"

    def tell(self) -> int:
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        if peak > LARGE_MB:
            self.found["memory"] = f"{peak} MB"
        print(
            f"{self.name}: {self.count:,} inputs, {len(self.found)} findings, {peak} MB", flush=True
        )
        for spot, more in self.found.items():
            print(f"    {spot}: {more}", flush=True)
        return 1 if self.found else 0


def blindly(seeds: list[bytes], luck: random.Random) -> bytes:
    """Return a seed in which some bytes are others, gone, doubled or elsewhere."""
    data = bytearray(luck.choice(seeds))
    for _ in range(luck.choice((1, 1, 2, 4, 16))):
        at = luck.randrange(len(data) + 1)
        match luck.randrange(5):
            case 0:
                data[at : at + luck.choice((1, 2, 8))] = b""
            case 1:
                data[at:at] = bytes(luck.randrange(256) for _ in range(luck.choice((1, 2, 8))))
            case 2 if data:
                data[at % len(data)] ^= 1 << luck.randrange(8)
            case 3:
                data[at:at] = data[at : at + luck.choice((4, 32, 256))]
            case 4:
                data[at:at] = luck.choice((b"\0", b"\xff", b"{", b"[[", b"\\", b'"', b"9" * 400))
    return bytes(data[:20_000])


def fuzz_bytes(name: str, watch: Watch, seed: int) -> None:
    from fuzzing import BYTES, OURS

    attempt, seeds = BYTES[name]
    if "atheris" not in sys.modules:
        luck = random.Random(seed)
        while True:
            watch(attempt, blindly(seeds, luck), OURS)
    import atheris

    def one(data: bytes) -> None:
        try:
            watch(attempt, data, OURS)
        except Finish:  # libFuzzer ends with its process only
            status = watch.tell()
            sys.stdout.flush()
            os._exit(status)

    with tempfile.TemporaryDirectory() as corpus:
        for number, data in enumerate(seeds):
            (Path(corpus) / f"seed-{number}").write_bytes(data)
        flags = ["-max_len=20000", "-rss_limit_mb=0", "-timeout=0", "-verbosity=0", f"-seed={seed}"]
        atheris.Setup([sys.argv[0], corpus, *flags], one)
        atheris.Fuzz()


def fuzz_documents(name: str, watch: Watch, seed: int) -> None:
    from fuzzing import DOCUMENTS, OURS, TEXTS_ONLY, mutated
    from widetrail_demo.world import build_world

    luck = random.Random(seed)
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        os.environ |= {
            "HOME": folder,
            "XDG_CACHE_HOME": f"{folder}/c",
            "XDG_STATE_HOME": f"{folder}/s",
        }
        build_world(top / "world", small=True)
        (top / "own").mkdir()
        seeds, attempt = DOCUMENTS[name](top / "own", top / "world")
        watch.begin()
        while True:
            watch(attempt, mutated(luck.choice(seeds), luck, texts_only=name in TEXTS_ONLY), OURS)


def run_one(name: str, seconds: float, inputs: int, seed: int) -> int:
    """Fuzz one target in this process."""
    import fuzzing

    watch = Watch(name, seconds, inputs)
    with suppress(Finish):
        (fuzz_documents if name in fuzzing.DOCUMENTS else fuzz_bytes)(name, watch, seed)
    return watch.tell()


def _alone(told: str, name: str, seconds: float, inputs: int, seed: int) -> None:
    """Fuzz one target in a process of its own, and tell what came of it in a file."""
    output = os.open(told, os.O_WRONLY)
    silent = os.open(os.devnull, os.O_WRONLY)
    os.dup2(output, 1)
    os.dup2(silent, 2)
    os._exit(run_one(name, seconds, inputs, seed))


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("targets", nargs="*")
    parser.add_argument("--seconds", type=float, default=6)
    parser.add_argument("--inputs", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--list", action="store_true")
    said = parser.parse_args()
    import fuzzing

    names = said.targets or [*fuzzing.BYTES, *fuzzing.DOCUMENTS]
    if said.list:
        print("\n".join(names))
        return 0

    # What is imported and instrumented once is shared by a process for each target.
    forking = multiprocessing.get_context("fork")

    def child(name: str) -> tuple[int, str]:
        with tempfile.NamedTemporaryFile("r") as told:
            arguments = (told.name, name, said.seconds, said.inputs, said.seed)
            process = forking.Process(target=_alone, args=arguments)
            process.start()
            process.join(said.seconds + 300)
            if process.exitcode is None:
                process.kill()
            return process.exitcode or 0, told.read()

    status = 0
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for name, (code, told) in zip(names, pool.map(child, names), strict=True):
            print(told, end="", flush=True)
            if code or not told:
                print(f"{name}: ended with {code}", flush=True)
            status |= code != 0 or not told
    return status


if __name__ == "__main__":
    try:
        import atheris
    except ImportError:
        import fuzzing
    else:
        parsers = ["widetrail.formats", "widetrail.machine.roots", "widetrail.recipe"]
        with redirect_stderr(io.StringIO()), atheris.instrument_imports(include=parsers):
            import fuzzing  # noqa: F401
    sys.exit(main())
