"""Programs of a Linux folder machine in namespaces of their own, made by bubblewrap.

Its disks are mounted where they belong, so that absolute paths are right; of this computer a
program sees the system's ``/usr`` and what belongs to it, read only. It has its own processes,
network, host name and account, may not gain rights, and what it leaves running ends with it.
"""

from __future__ import annotations

import os
import select
import shutil
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from functools import cache
from pathlib import Path

from widetrail.errors import MachineUnusable
from widetrail.formats.outside import link_target, names_in
from widetrail.lazily import dataclass
from widetrail.machine.loopback import reached
from widetrail.machine.platforms.linux import LINUX
from widetrail.machine.process_start import Limits, Start

PROGRAM = "bwrap"
"""The command of bubblewrap, 0.8 or newer."""

ACCOUNT = 1000
"""The number of the machine's account and of its group."""

OWN = "/run/widetrail"
"""Where a program finds what is none of the machine's: its first folder, and Python's libraries."""

_NAMESPACES = (
    *("--unshare-user", "--uid", str(ACCOUNT), "--gid", str(ACCOUNT), "--disable-userns"),
    *("--unshare-pid", "--unshare-ipc", "--unshare-uts", "--unshare-cgroup-try"),
    *("--cap-drop", "ALL"),
)

_SYSTEM = ("bin", "lib", "lib32", "lib64", "libx32", "sbin")
_NOT_THE_MACHINES = frozenset((*_SYSTEM, "usr", "etc", "proc", "sys", "dev", "run"))
_IN_ETC = (
    "alternatives",
    "ca-certificates",
    "dictionaries-common",
    "fonts",
    "ld.so.cache",
    "ld.so.conf",
    "ld.so.conf.d",
    "localtime",
    "magic",
    "mime.types",
    "nsswitch.conf",
    "perl",
    "protocols",
    "services",
    "ssl/certs",
    "ssl/openssl.cnf",
    "terminfo",
    "timezone",
    "xdg",
)
"""What of ``/etc`` belongs to ``/usr``: no name of an account, a host or a key is in it."""

_COVERED = frozenset({"bus", "irq", "sysvipc", "tty"})
"""Folders of ``/proc`` that bubblewrap itself covers, or in which nothing can be changed."""

_MEDIA = ("media", "mnt")
"""Folders of the system's in which disks are mounted."""

TEMPORARY = 1024 * 1024 * 1024
"""Bytes that ``/tmp`` may hold where the machine has none of its own."""

ONE_FILE = 16 * 1024 * 1024 * 1024
"""Bytes that one file may grow to."""

LIMITS = Limits(processes=512, memory=4 * 1024 * 1024 * 1024)
"""What a program may use with all that it starts."""

_SEARCHED = "/usr/local/bin:/usr/bin:/bin:/usr/local/games:/usr/games"

_LEFT_MOST = 64 * 1024

_NAME_MOST = 64
"""Bytes of a host name, at most (Linux, sethostname)."""

_INSIDE = """
left=$1
ulimit -c 0
ulimit -f "$2"
shift 2
"$@"
status=$?
tries=0
while :; do
  found=
  for process in /proc/[0-9]*; do
    case ${process#/proc/} in
      1|$$) ;;
      *) read -r name 2>/dev/null <"$process/comm" && found="$found$name
" ;;
    esac
  done
  tries=$((tries + 1))
  if [ -z "$found" ] || [ $tries -gt 10 ]; then break; fi
  sleep .05
done
printf %s "$found" >"/proc/self/fd/$left"
exit $status
"""
"""What runs a program inside: it tells what that left running, which ends with it."""


def environment(home: str, user: str, redirected: Mapping[str, str]) -> dict[str, str]:
    """Return the variables that any program finds, with those of roots that are ``redirected``."""
    moved = {
        name: redirected[root] for name, root in LINUX.own_variables.items() if root in redirected
    }
    return {
        "PATH": _SEARCHED,
        "LANG": "C.UTF-8",
        "PYTHONUTF8": "1",
        "HOME": home,
        "USER": user,
        "LOGNAME": user,
        "SHELL": "/bin/sh",
        "XDG_RUNTIME_DIR": f"/run/user/{ACCOUNT}",
        **moved,
    }


@cache
def why_not() -> str:
    """Return why programs cannot be isolated here; an empty text where they can."""
    if not sys.platform.startswith(LINUX.host):
        return "this system is not Linux"
    found = shutil.which(PROGRAM)
    if found is None:
        return "bubblewrap is not installed"
    command = [found, *_NAMESPACES, "--unshare-net", *_system(), "--", "/usr/bin/env", "true"]
    done = subprocess.run(command, capture_output=True, text=True, timeout=20, check=False)
    return "" if done.returncode == 0 else f"bubblewrap does not work here: {done.stderr.strip()}"


@dataclass(frozen=True)
class Cell:
    """A machine as its programs find it: its disks by where they are mounted, and its account.

    ``read_only`` tells that nothing of it may be changed. Of the network, programs reach the
    ``ports`` of this computer's loopback address, or all there is where that is ``outside``.
    """

    name: str
    user: str
    home: str
    disks: Mapping[str, str]
    read_only: bool = False
    ports: tuple[int, ...] = ()
    outside: bool = False

    @contextmanager
    def enclosing(self, start: Start, *, stays: bool) -> Iterator[Start]:
        """Lend what starts a program inside; what ``stays`` goes on after this process.

        Raises:
            MachineUnusable: The program lies where nothing inside sees it.
        """
        with ExitStack() as held:
            command, seen, variables = self._command(start.command)
            files, handles = self._files(held)
            ports = () if self.outside or stays else self.ports
            network, gates = held.enter_context(reached(ports))
            reads, writes = os.pipe()
            held.callback(os.close, writes)
            held.callback(os.close, reads)

            def left() -> tuple[str, ...]:
                told = os.read(reads, _LEFT_MOST) if select.select([reads], [], [], 0)[0] else b""
                names = told.decode("utf-8", "replace").splitlines()
                return tuple(f"a process ({name})" for name in names)

            enclosed = [
                shutil.which(PROGRAM) or PROGRAM,
                *_NAMESPACES,
                *(() if self.outside else ("--unshare-net",)),
                *network,
                *(() if stays else ("--die-with-parent",)),
                *("--hostname", self.name.encode()[:_NAME_MOST].decode("utf-8", "ignore")),
                *self._mounts(),
                *files,
                *seen,
                *("--chdir", self.home if stays else OWN),
                *("--remount-ro", "/"),
                "--",
                *("/bin/sh", "-c", _INSIDE, "sh", str(writes), str(ONE_FILE // 512)),
                *command,
            ]
            yield replace(
                start,
                command=enclosed,
                env={**start.env, **variables},
                handles=(*handles, *gates, writes),
                left=left,
                limits=LIMITS,
            )

    def _files(self, held: ExitStack) -> tuple[list[str], list[int]]:
        """Return the arguments that say who and where the account is, and their open files."""
        account = f"{self.user}:x:{ACCOUNT}:{ACCOUNT}::{self.home}:/bin/sh"
        given = {
            "/etc/passwd": f"root:x:0:0:root:/root:/bin/sh\n{account}\n"
            "nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin\n",
            "/etc/group": f"root:x:0:\n{self.user}:x:{ACCOUNT}:\nnogroup:x:65534:\n",
            "/etc/hosts": f"127.0.0.1 localhost\n::1 localhost\n127.0.1.1 {self.name}\n",
            "/etc/hostname": f"{self.name}\n",
        }
        arguments, handles = [], []
        for path, text in given.items():
            handles.append(_held(text))
            held.callback(os.close, handles[-1])
            arguments += ["--perms", "0644", "--ro-bind-data", str(handles[-1]), path]
        return arguments, handles

    def _command(self, command: Sequence[str]) -> tuple[Sequence[str], list[str], dict[str, str]]:
        """Return a command as it is inside, the arguments that have its program seen there, and
        the variables that it needs.

        Raises:
            MachineUnusable: Its program lies where nothing inside sees it.
        """
        if command[0] == sys.executable:
            return _python(command[1:])
        if self._sees(command[0]):
            return command, [], {}
        raise MachineUnusable(
            "cannot be started in isolation",
            where=command[0],
            why="of this computer only /usr is seen there",
            todo="Name a program below /usr or on a disk of the machine, or say isolated: no.",
        )

    def _sees(self, program: str) -> bool:
        """Return whether a program of that path is seen inside."""
        if program.startswith(("/usr/", *(f"/{name}/" for name in _SYSTEM))):
            return True
        mounts = [m for m in self.disks if program.startswith(f"{m}/")]
        mount = max(mounts, key=len, default=None)
        if mount is None or program.split("/")[1] in _NOT_THE_MACHINES:
            return False
        return os.path.isfile(self.disks[mount] + program[len(mount) :])  # noqa: PTH113

    def _mounts(self) -> Iterator[str]:
        """Give the arguments that mount the system's ``/usr`` and the machine's disks."""
        yield from _system()
        bind = "--ro-bind" if self.read_only else "--bind"
        root = self.disks.get("", "")
        names = sorted(names_in(root)) if root else []
        for name in names:
            at = os.path.join(root, name)  # noqa: PTH118
            if name in _NOT_THE_MACHINES:
                continue
            if os.path.islink(at):  # noqa: PTH114
                yield from ("--symlink", link_target(Path(at)), f"/{name}")
            elif name not in _MEDIA:
                yield from (bind, at, f"/{name}")
        for above, temporary in (("tmp", "/tmp"), ("var", "/var/tmp")):
            if above not in names:
                yield from ("--perms", "1777", "--size", str(TEMPORARY), "--tmpfs", temporary)
        if "etc" in names and not os.path.islink(os.path.join(root, "etc")):  # noqa: PTH114, PTH118
            system = tuple(f"/etc/{name}" for name in _IN_ETC)
            for path in _leaves(os.path.join(root, "etc")):  # noqa: PTH118
                at = path[len(root) :]
                if not any(at == one or at.startswith(f"{one}/") for one in system):
                    yield from ("--ro-bind", path, at)
        for media in _MEDIA:
            below = os.path.join(root, media)  # noqa: PTH118
            if root and os.path.isdir(below) and not os.path.islink(below):  # noqa: PTH112, PTH114
                for name in sorted(names_in(below)):
                    yield from (bind, f"{below}/{name}", f"/{media}/{name}")
        for mount, folder in sorted(self.disks.items()):
            if mount:
                yield from (bind, folder, mount)


@cache
def _system() -> tuple[str, ...]:
    """Return the arguments for what is the system's: ``/usr``, what belongs to it, no device."""
    return tuple(_of_the_system())


def _of_the_system() -> Iterator[str]:
    """Give them, in order."""
    yield from ("--ro-bind", "/usr", "/usr")
    for name in _SYSTEM:
        at = f"/{name}"
        if os.path.islink(at):  # noqa: PTH114
            yield from ("--symlink", link_target(Path(at)), at)
        elif os.path.isdir(at):  # noqa: PTH112
            yield from ("--ro-bind", at, at)
    for name in _IN_ETC:
        at = f"/etc/{name}"
        if os.path.exists(at):  # noqa: PTH110
            yield from ("--ro-bind", os.path.realpath(at), at)
    yield from ("--proc", "/proc", "--dev", "/dev")
    if sys.platform != "win32" and os.geteuid() == 0:  # root's files are the account's inside
        yield from _of_the_kernel()
    for own in (OWN, f"/run/user/{ACCOUNT}"):
        yield from ("--size", str(TEMPORARY), "--tmpfs", own)


def _of_the_kernel() -> Iterator[str]:
    """Give the arguments that have nothing of the kernel's settings changed by their owner."""
    for name in sorted(names_in("/proc")):
        at = f"/proc/{name}"
        if name.isdecimal() or name in _COVERED or os.path.islink(at):  # noqa: PTH114
            continue
        if os.path.isdir(at):  # noqa: PTH112
            yield from ("--ro-bind", at, at)
        elif Path(at).stat().st_mode & 0o200:
            yield from ("--ro-bind", "/dev/null", at)


def _leaves(folder: str) -> Iterator[str]:
    """Give the files below a folder of the machine's; links are the system's to make."""
    for name in sorted(names_in(folder)):
        at = os.path.join(folder, name)  # noqa: PTH118
        if os.path.islink(at):  # noqa: PTH114
            continue
        if os.path.isdir(at):  # noqa: PTH112
            yield from _leaves(at)
        else:
            yield at


def _held(text: str) -> int:
    """Return an open file from which a text is read: a pipe, which holds 64 KiB."""
    reads, writes = os.pipe()
    os.write(writes, text.encode("utf-8", "surrogateescape"))
    os.close(writes)
    return reads


def _python(arguments: Sequence[str]) -> tuple[Sequence[str], list[str], dict[str, str]]:
    """Return how the Python that runs this is started inside, with all that it can import."""
    base = Path(os.path.realpath(sys.executable))
    prefix = Path(os.path.realpath(sys.base_prefix))
    seen: list[str] = []
    variables = {}
    if not prefix.is_relative_to("/usr"):
        seen += ["--ro-bind", str(prefix), f"{OWN}/python"]
        base = Path(OWN) / "python" / base.relative_to(prefix)
        variables["LD_LIBRARY_PATH"] = f"{OWN}/python/lib"
    places = []
    for number, path in enumerate(dict.fromkeys(filter(os.path.isdir, sys.path))):
        if not Path(path).is_relative_to(prefix) and not Path(path).is_relative_to("/usr"):
            places.append(f"{OWN}/{number}")
            seen += ["--ro-bind", os.path.realpath(path), places[-1]]
    variables["PYTHONPATH"] = os.pathsep.join(places)
    return [str(base), *arguments], seen, variables
