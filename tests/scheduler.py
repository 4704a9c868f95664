"""A scheduler of Dask and its workers as processes of their own, on this computer alone."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

import psutil


class Scheduler:
    """Processes as README starts them; ``folder`` holds what they write."""

    def __init__(self, folder: Path) -> None:
        self.folder, self._port = folder, 0
        self.scheduler: subprocess.Popen[bytes] | None = None
        self.workers: list[subprocess.Popen[bytes]] = []
        folder.mkdir(parents=True)
        self.start()

    @property
    def address(self) -> str:
        return f"tcp://127.0.0.1:{self._port}"

    def start(self) -> None:
        """Start the scheduler, the next time at the same address."""
        at = self.folder / f"scheduler-{time.monotonic_ns()}.json"
        told = ["--host", "127.0.0.1", "--port", str(self._port), "--no-dashboard"]
        self.scheduler = self._dask("scheduler", *told, "--scheduler-file", str(at))
        deadline = time.monotonic() + 60
        while not at.exists() or not at.stat().st_size:
            assert time.monotonic() < deadline and self.scheduler.poll() is None, "it did not start"
            time.sleep(0.05)
        self._port = int(json.loads(at.read_text())["address"].rpartition(":")[2])

    def work(
        self, count: int = 1, folder: Path | None = None, memory: str = "0", **environment: str
    ) -> None:
        """Start workers, whose files lie in a ``folder`` and that may take so much ``memory``."""
        for _ in range(count):
            local = (folder or self.folder) / f"worker-{len(self.workers)}"
            local.mkdir()
            told = ["--nthreads", "1", "--no-dashboard", "--host", "127.0.0.1"]
            told += ["--local-directory", str(local), "--death-timeout", "30"]
            told += ["--memory-limit", memory]
            self.workers.append(self._dask("worker", self.address, *told, **environment))

    def processes(self) -> list[psutil.Process]:
        """Return the processes that do errands, below their nannies."""
        found = []
        for worker in self.workers:
            with suppress(psutil.NoSuchProcess):
                for child in psutil.Process(worker.pid).children():
                    with suppress(psutil.Error):
                        if "spawn_main" in " ".join(child.cmdline()):
                            found.append(child)
        return found

    def stop(self) -> None:
        """End all of them."""
        for process in (*self.workers, *([self.scheduler] if self.scheduler else ())):
            with suppress(psutil.NoSuchProcess):
                for child in psutil.Process(process.pid).children(recursive=True):
                    with suppress(psutil.NoSuchProcess):
                        child.kill()
            with suppress(ProcessLookupError):
                process.send_signal(signal.SIGKILL)
            process.wait()

    def _dask(self, *told: str, **environment: str) -> subprocess.Popen[bytes]:
        kept: Mapping[str, str] = {**os.environ, **environment}
        command = [sys.executable, "-m", "dask", *told]
        with (self.folder / "log.txt").open("ab") as log:
            return subprocess.Popen(command, stdout=log, stderr=log, env=kept)


@contextmanager
def scheduling(folder: Path, workers: int) -> Iterator[Scheduler]:
    """Lend a scheduler with workers."""
    scheduler = Scheduler(folder)
    try:
        scheduler.work(workers)
        yield scheduler
    finally:
        scheduler.stop()
