"""Being another account, and handing to it what was made; and which scripts a process runs."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from widetrail.errors import InputUnusable
from widetrail.formats.outside import give_tree

if TYPE_CHECKING:
    import psutil
if sys.platform == "win32":
    pass


def script_run(process: psutil.Process, wanted: set[str]) -> bool:
    """Return whether a process is a program: by its file, or as a script that another runs.

    A process that has ended and is not taken note of yet runs nothing any more.
    """
    if process.status() == "zombie":
        return False
    if process.exe() in wanted:
        return True
    words = [w for w in process.cmdline()[:_SCRIPT_WITHIN] if "/" in w and not w.startswith("-")]
    return any(os.path.realpath(Path(process.cwd()) / word) in wanted for word in words)


_SCRIPT_WITHIN = 4
"""Words of a command, at most, until the script that its first one runs."""


def as_root() -> bool:
    """Return whether this process runs as the administrator of a system with numbered accounts."""
    if sys.platform == "win32":
        return False
    return os.geteuid() == 0


def hand_over(folder: Path, account: str) -> None:
    """Give a parcel's folder with all in it to ``account``, where an administrator acts for it.

    Nobody else may look into a parcel that is not sealed, and the station before was another
    account. What is not a folder or file, or has other names elsewhere, stays whose it is.
    """
    if sys.platform == "win32" or not account or os.geteuid() != 0 or not folder.is_dir():
        return
    import pwd

    try:
        entry = pwd.getpwnam(account)
    except KeyError:  # that is told where the account is taken
        return
    give_tree(os.path.realpath(folder), entry.pw_uid, entry.pw_gid)


def become(account: str) -> None:
    """Have this process act with the rights of ``account`` from here on, where it is an
    administrator's that acts for somebody else.

    Whatever is made belongs to that account then, and nothing of the account's leads anywhere that
    it may not go itself. There is no way back.

    Raises:
        InputUnusable: There is no such account, or it may not read the program itself.
    """
    if sys.platform == "win32" or not account or os.geteuid() != 0:
        return
    import pwd

    try:
        entry = pwd.getpwnam(account)
    except KeyError as error:
        raise InputUnusable("account not found", where=account) from error
    if entry.pw_uid == 0:
        return
    os.initgroups(entry.pw_name, entry.pw_gid)
    os.setgid(entry.pw_gid)
    os.setuid(entry.pw_uid)
    for name in [n for n in os.environ if n.startswith(("XDG_", "SUDO_"))]:
        del os.environ[name]
    os.environ |= {"HOME": entry.pw_dir, "USER": entry.pw_name, "LOGNAME": entry.pw_name}
    if not (os.access(sys.executable, os.X_OK) and os.access(__file__, os.R_OK)):
        raise InputUnusable(
            f"the account {account} may not do this",
            where=sys.executable,
            why="that account may not read the Python that Wide Trail is installed in",
            todo=f"Install it where every account may read it, or run it as {account}.",
        )
