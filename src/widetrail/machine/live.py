"""This machine: the one Wide Trail runs on, through the operating system's own interfaces."""

from __future__ import annotations

import os
import platform as system_platform
import shutil
import sys
import tempfile
from abc import abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path

from widetrail.errors import InputUnusable, MachineUnusable, WentWrong
from widetrail.formats import Unreadable, digest
from widetrail.formats.dconf import write_dconf
from widetrail.formats.interface import Platform
from widetrail.formats.outside import SafePath, leads_on
from widetrail.formats.texts import decode
from widetrail.lazily import environment
from widetrail.machine import paths
from widetrail.machine.accounts import as_root, script_run
from widetrail.machine.effects import Effects
from widetrail.machine.host import HostMachine, copy_plain
from widetrail.machine.interface import Channels, Machine, Room
from widetrail.machine.platforms.linux import LINUX
from widetrail.machine.platforms.macos import MACOS
from widetrail.machine.roots import redirected_by_user_dirs, redirected_by_xdg, standard_roots

NETWORK_FORMATS = frozenset({"nfs", "nfs4", "cifs", "smb3", "smbfs", "afpfs", "9p", "ceph"})
"""Formats of volumes that other machines see too, as the systems name them."""


def _is_systems(link: Path) -> bool:
    """Return whether only the system can have made a link, such as /var/run: it and all the
    folders above it are root's, and nobody else may write to them."""
    folders = [above.lstat() for above in link.parents if not above.is_symlink()]
    return link.lstat().st_uid == 0 and all(
        status.st_uid == 0 and not status.st_mode & 0o022 for status in folders
    )


class LiveMachine(HostMachine):
    """What the adapters of all systems share; see ``Machine`` for the contract."""

    def __init__(
        self, platform: Platform, system: str, user: str, home: str, effects: Effects | None
    ) -> None:
        self.platform, self.system, self.user = platform, system, user
        self.name = system_platform.node() or "this machine"
        self.identity = digest(f"{self._hardware()}:{user}".encode())[:16]
        self.effects = effects or Effects()
        self._home = home
        self._at_home_here = os.path.realpath(home)
        self.network = _has_network()

    @abstractmethod
    def _hardware(self) -> str:
        """Return a text that only this machine has; it is never shown."""

    @property
    def _mine(self) -> bool:
        """Whether the account is the one this process runs under, so that its variables count."""
        return Path(self._home) == Path.home()

    @cached_property
    def _roots(self) -> dict[str, str]:
        return standard_roots(self.platform, self.system, self._home)

    def root(self, name: str) -> str:
        return self._roots[name]

    def host(self, path: str) -> SafePath:
        at = Path(path)
        if ".." in at.parts:
            raise MachineUnusable("a path must not contain `..`", where=path)
        if not at.is_absolute():
            raise MachineUnusable("is not an absolute path of this machine", where=path)
        home = paths.is_within(path, self._home, self.platform)
        systems = False
        for above in at.parents:
            if home and above == Path(self._home):
                break
            if leads_on(above):
                if home or not _is_systems(above):
                    why = f"{above} is one"
                    raise MachineUnusable("leads through a link", where=path, why=why)
                systems = True
        if home:
            below = at.parts[len(Path(self._home).parts) :]
            return SafePath(self._at_home_here).joinpath(*below)
        return SafePath(os.path.realpath(at.parent)) / at.name if systems else SafePath(at)

    def variables(self) -> Mapping[str, str]:
        own = environment() if self._mine else {}
        return {**own, "HOME": self._home, "USER": self.user}

    def command(self, name: str) -> str | None:
        found = shutil.which(name)
        return Path(found).as_posix() if found is not None else None

    def shares(self) -> tuple[tuple[str, str], ...]:
        import psutil

        mounts = [m for m in psutil.disk_partitions(all=True) if m.fstype in NETWORK_FORMATS]
        return tuple(
            (paths.written_by_machine(m.mountpoint, self.platform), m.device.replace("\\", "/"))
            for m in mounts
        )

    def room(self, path: str) -> Room:
        at = self.host(path)
        there = next(folder for folder in (at, *at.parents) if folder.exists())
        volume = there.drive or str(there.stat().st_dev)
        return Room(volume, shutil.disk_usage(there).free)

    def disks(self) -> tuple[str, ...]:
        import psutil

        mounts = (
            paths.written_by_machine(p.mountpoint, self.platform) for p in psutil.disk_partitions()
        )
        return tuple(sorted(set(mounts)))

    def running(self, program: str) -> list[str]:
        import psutil

        lines, wanted = [], {program, os.path.realpath(program)}
        for process in psutil.process_iter():
            try:
                if process.username().endswith(self.user) and script_run(process, wanted):
                    lines.append(f"process {process.pid}")
            except (psutil.Error, OSError):
                continue
        return lines

    def _command(self, program: str) -> tuple[list[str], dict[str, str], str]:
        if not self._mine and not self._is_scratch:
            raise MachineUnusable(
                "programs are not started for another account",
                where=program,
                why=f"this is not the account of {self.user}",
                todo=f"Run this as {self.user}.",
            )
        if not Path(program).is_absolute() or not os.access(program, os.X_OK):
            raise MachineUnusable("is not installed", where=program)
        given = {**environment(), "HOME": self._home}
        if self._is_scratch:
            given |= self._scratch_environment()
        return [program], given, self._home

    _is_scratch = False

    def _scratch_environment(self) -> dict[str, str]:
        return {}

    @contextmanager
    def scratch(self, copies: Sequence[str]) -> Iterator[Machine]:
        with tempfile.TemporaryDirectory(prefix="widetrail-scratch-") as folder:
            home = Path(folder) / "home"
            home.mkdir()
            for path in copies:
                if not paths.is_within(path, self._home, self.platform):
                    raise MachineUnusable(
                        "cannot be copied and read", where=path, why="it lies outside the home"
                    )
                copy_plain(self.host(path), home / Path(path).relative_to(self._home))
            twin = self._at_home(home.as_posix())
            twin._is_scratch = True
            yield twin

    @abstractmethod
    def _at_home(self, home: str) -> LiveMachine:
        """Return this machine as an account whose home is elsewhere sees it."""


class LinuxMachine(LiveMachine):
    """This machine under Linux: XDG folders, ``user-dirs.dirs`` and the settings database."""

    def __init__(self, user: str, home: str, effects: Effects | None = None) -> None:
        super().__init__(LINUX.name, _linux_release(), user, home, effects)
        self.administrator = as_root()

    def _hardware(self) -> str:
        for path in ("/etc/machine-id", "/var/lib/dbus/machine-id"):
            try:
                return Path(path).read_text().strip()
            except OSError:
                continue
        return system_platform.node()

    @cached_property
    def _roots(self) -> dict[str, str]:
        roots = standard_roots(LINUX.name, self.system, self._home)
        if self._mine:
            roots |= redirected_by_xdg(os.environ)
        try:
            path = paths.join(roots["config"], "user-dirs.dirs")
            there = self.look(path) is not None
            text = decode(self.read(path))[0] if there else ""
        except MachineUnusable:
            text = ""
        return {**roots, **redirected_by_user_dirs(text, self._home)}

    def desktop_settings(self) -> bytes:
        command = self.command("dconf")
        if command is None or not self._mine:
            raise Unreadable("there is no settings database of the desktop that can be asked")
        done = self.start(command, ["dump", "/"], seconds=20)
        if done.status != 0:
            raise Unreadable(f"the settings database does not answer: {done.errors.strip()}")
        return done.output.encode()

    def edit_desktop(self, changes: Mapping[str, str | None]) -> None:
        put = {n.strip("/"): text for n, text in changes.items() if text is not None}
        if put:
            self._tell_desktop(["load", "/"], write_dconf(put))
        for name in (n for n, text in changes.items() if text is None):
            self._tell_desktop(["reset", f"/{name.strip('/')}"])

    def _tell_desktop(self, arguments: list[str], stdin: bytes = b"") -> None:
        command = self.command("dconf")
        if command is None or not self._mine:
            raise Unreadable("there is no settings database of the desktop that can be changed")
        done = self.start(command, arguments, 20, Channels(stdin))
        if done.status != 0:
            raise WentWrong(
                "the settings database refuses",
                where=" ".join(["dconf", *arguments]),
                why=done.errors.strip()[:200],
            )

    def _scratch_environment(self) -> dict[str, str]:
        return {
            "XDG_CONFIG_HOME": f"{self._home}/.config",
            "XDG_DATA_HOME": f"{self._home}/.local/share",
            "XDG_CACHE_HOME": f"{self._home}/.cache",
            "XDG_STATE_HOME": f"{self._home}/.local/state",
        }

    def _at_home(self, home: str) -> LiveMachine:
        return LinuxMachine(self.user, home, self.effects)


class MacMachine(LiveMachine):
    """This machine under macOS: the folders of ``Library``."""

    def __init__(self, user: str, home: str, effects: Effects | None = None) -> None:
        super().__init__(MACOS.name, system_platform.mac_ver()[0], user, home, effects)
        self.administrator = as_root()

    def _hardware(self) -> str:
        import uuid

        from widetrail.formats.outside.macos import computer_number

        return computer_number() or f"{uuid.getnode():x}"

    def command(self, name: str) -> str | None:
        for folder in ("/Applications", f"{self._home}/Applications"):
            application = f"{folder}/{name}.app/Contents/MacOS/{name}"
            if Path(application).exists():
                return application
        return super().command(name)

    def _at_home(self, home: str) -> LiveMachine:
        return MacMachine(self.user, home, self.effects)


if sys.platform == "win32":
    from widetrail.machine.live_windows import WindowsMachine


def _has_network() -> bool:
    """Return whether an interface other than the machine's own loop is up."""
    import psutil

    return any(s.isup and not name.startswith("lo") for name, s in psutil.net_if_stats().items())


def _linux_release() -> str:
    try:
        return system_platform.freedesktop_os_release().get("VERSION_ID", system_platform.release())
    except OSError:
        return system_platform.release()


def this_machine(account: str = "", effects: Effects | None = None) -> LiveMachine:
    """Return the machine Wide Trail runs on, for one account.

    Without ``account`` it is the one this process runs under. An administrator acting for
    somebody (``sudo``) must say whose account is meant.

    Raises:
        InputUnusable: Nobody said whose account is meant, or there is none of that name.
    """
    if sys.platform == "win32":
        return WindowsMachine(account, effects)
    import pwd

    acting_for = os.environ.get("SUDO_USER", "")
    if not account and os.geteuid() == 0 and acting_for not in ("", "root"):
        raise InputUnusable(
            "specify the account with --account",
            why=f"this runs as the administrator for {acting_for}",
            todo=f"Use --account {acting_for} or --account root.",
        )
    try:
        entry = pwd.getpwnam(account) if account else pwd.getpwuid(os.geteuid())
    except KeyError as error:
        raise InputUnusable("account not found", where=account) from error
    mine = entry.pw_uid == os.geteuid()
    home = str(Path.home()) if mine else entry.pw_dir
    kind = MacMachine if sys.platform == "darwin" else LinuxMachine
    return kind(entry.pw_name, home, effects)
