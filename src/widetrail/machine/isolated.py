"""Whether the programs of a folder machine are started in isolation."""

from __future__ import annotations

from widetrail.machine.machine_file import FILE, MachineFile
from widetrail.machine.platforms.linux import LINUX


def why_not_isolated(file: MachineFile) -> str:
    """Return why programs of a machine are not started in isolation; an empty text where they
    are."""
    if not file.isolated:
        return f"{FILE} does not say isolated: yes"
    if file.platform != LINUX.name:
        return f"it is a machine of {file.platform}"
    from widetrail.machine.isolation import why_not  # few machines are isolated

    return why_not()
