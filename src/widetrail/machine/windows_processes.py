"""Programs under Windows: with all that they start in one job, without a window, behind a gate.

Sources: "Job Objects", "Process Creation Flags" and ``QueryFullProcessImageNameW`` of Microsoft's
documentation.
"""

from __future__ import annotations

import sys

if sys.platform == "win32":
    import ctypes
    import subprocess
    from collections.abc import Iterator
    from contextlib import contextmanager, suppress
    from ctypes import wintypes
    from typing import IO

    import psutil

    from widetrail.machine.process_start import Start

    _KERNEL = ctypes.WinDLL("kernel32", use_last_error=True)
    _KERNEL.CreateJobObjectW.restype = wintypes.HANDLE
    _KERNEL.OpenProcess.restype = wintypes.HANDLE
    _SUSPENDED = 0x4
    _KILL_AT_CLOSE, _MAY_LEAVE, _LIMITS = 0x2000, 0x800, 9
    """The job ends what is in it; a service that a program starts may ask to be none of it, as one
    with a session of its own is elsewhere."""

    _MEMBERS, _MOST = 3, 1024
    _KERNEL.CreateMutexW.restype = wintypes.HANDLE
    _TAKEN = (0, 0x80)
    """What tells that a name is held now: it was free, or whoever held it has ended."""

    _USER = ctypes.WinDLL("user32", use_last_error=True)
    _CLOSE = 0x10
    _EACH = ctypes.WINFUNCTYPE(wintypes.BOOL, wintypes.HWND, wintypes.LPARAM)

    _ASK = 0x1000
    """PROCESS_QUERY_LIMITED_INFORMATION: what everybody may ask of an own process."""

    class _Basic(ctypes.Structure):
        _fields_ = (
            ("process_time", ctypes.c_int64),
            ("job_time", ctypes.c_int64),
            ("flags", wintypes.DWORD),
            ("least", ctypes.c_size_t),
            ("most", ctypes.c_size_t),
            ("processes", wintypes.DWORD),
            ("affinity", ctypes.c_size_t),
            ("priority", wintypes.DWORD),
            ("scheduling", wintypes.DWORD),
        )

    class _Extended(ctypes.Structure):
        _fields_ = (
            ("basic", _Basic),
            ("counters", ctypes.c_uint64 * 6),
            ("process_memory", ctypes.c_size_t),
            ("job_memory", ctypes.c_size_t),
            ("peak_process", ctypes.c_size_t),
            ("peak_job", ctypes.c_size_t),
        )

    class _Listed(ctypes.Structure):
        _fields_ = (
            ("assigned", wintypes.DWORD),
            ("listed", wintypes.DWORD),
            ("pids", ctypes.c_size_t * _MOST),
        )

    class JobProcess(subprocess.Popen[bytes]):
        """A program in a job of its own, which stands still until ``go``."""

        def __init__(
            self, wanted: Start, given: int, streams: tuple[IO[bytes] | int, IO[bytes]]
        ) -> None:
            super().__init__(
                list(wanted.command),
                env=dict(wanted.env),
                cwd=wanted.folder,
                stdin=given,
                stdout=streams[0],
                stderr=streams[1],
                creationflags=_SUSPENDED
                | subprocess.CREATE_NO_WINDOW
                | subprocess.CREATE_NEW_PROCESS_GROUP,
            )
            self._job = wintypes.HANDLE(_KERNEL.CreateJobObjectW(None, None))
            limits = _Extended()
            limits.basic.flags = _KILL_AT_CLOSE | _MAY_LEAVE
            size = ctypes.sizeof(limits)
            _KERNEL.SetInformationJobObject(self._job, _LIMITS, ctypes.byref(limits), size)
            handle = wintypes.HANDLE(int(self._handle))  # type: ignore[attr-defined]
            if not _KERNEL.AssignProcessToJobObject(self._job, handle):
                error = ctypes.WinError(ctypes.get_last_error())
                self.kill()
                raise error

        def go(self) -> None:
            """Let the program begin."""
            psutil.Process(self.pid).resume()

        def started(self) -> Iterator[tuple[int, str]]:
            """Give the processes that it started, at whatever depth, and that run, each with the
            name of its program; the console that the system gives it is none."""
            for pid in self._members():
                name = image_of(pid).rpartition("\\")[2]
                if pid != self.pid and name and name.casefold() != "conhost.exe":
                    yield pid, name

        def ask_to_end(self) -> None:
            """Ask each window of it, and of what it started, to close, as its close button does."""
            members = set(self._members())

            def ask(window: int, _: int) -> bool:
                owner = wintypes.DWORD()
                _USER.GetWindowThreadProcessId(wintypes.HWND(window), ctypes.byref(owner))
                if owner.value in members:
                    _USER.PostMessageW(wintypes.HWND(window), _CLOSE, 0, 0)
                return True

            _USER.EnumWindows(_EACH(ask), 0)

        def end_all(self) -> None:
            """End it with all that it started."""
            _KERNEL.TerminateJobObject(self._job, 1)

        def leave(self) -> None:
            """Close the job, which ends what is still in it."""
            if self._job:
                _KERNEL.CloseHandle(self._job)
                self._job = wintypes.HANDLE()

        def _members(self) -> list[int]:
            found = _Listed()
            asked = _KERNEL.QueryInformationJobObject
            told = asked(self._job, _MEMBERS, ctypes.byref(found), ctypes.sizeof(found), None)
            return list(found.pids[: found.listed]) if told else []

    @contextmanager
    def held_name(name: str) -> Iterator[bool]:
        """Hold a name that one thread of the account holds at a time; tell whether it could be had
        at once. A process that ends lets go of it."""
        mutex = wintypes.HANDLE(_KERNEL.CreateMutexW(None, False, f"Local\\{name}"))
        held = bool(mutex) and _KERNEL.WaitForSingleObject(mutex, 0) in _TAKEN
        try:
            yield held
        finally:
            if held:
                _KERNEL.ReleaseMutex(mutex)
            _KERNEL.CloseHandle(mutex)

    def image_of(pid: int) -> str:
        """Return the file of the program that a process runs, or an empty text where it is not
        told."""
        handle = wintypes.HANDLE(_KERNEL.OpenProcess(_ASK, False, pid))
        if not handle:
            return ""
        try:
            name, size = ctypes.create_unicode_buffer(32_768), wintypes.DWORD(32_768)
            told = _KERNEL.QueryFullProcessImageNameW(handle, 0, name, ctypes.byref(size))
            return name.value if told else ""
        finally:
            _KERNEL.CloseHandle(handle)

    def processes_of(program: str) -> list[int]:
        """Return the processes that run a program of this account, by its file."""
        wanted, found = _alike(program), []
        for pid in psutil.pids():
            with suppress(psutil.Error, OSError):
                if _alike(image_of(pid)) == wanted:
                    found.append(pid)
        return found

    def _alike(path: str) -> str:
        return path.replace("/", "\\").casefold().removeprefix("\\\\?\\")
