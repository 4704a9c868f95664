"""What the tool works out of files and keeps between runs: values by the digests of those files.

It is the tool's own, made anew where anything about it does not match, and never needed.
"""

from __future__ import annotations

import json
import os
from collections.abc import Collection, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from widetrail.errors import WideTrailError
from widetrail.formats import digest
from widetrail.machine.effects import Effects

OTHERS = 5_000
"""Values of other files that are kept beside those at hand, at most."""


def read_kept(path: Path, maker: str) -> dict[str, Any]:
    """Return the values that are kept at ``path``, by the digests of their files; none where
    anything about them is not as it was written, or another ``maker`` made them."""
    try:
        told, _, body = path.read_bytes().partition(b"\n")
        if told.decode("ascii") != digest(body):
            return {}
        kept = json.loads(body)
    except (OSError, ValueError):
        return {}
    values: dict[str, Any] = kept["values"] if kept.get("maker") == maker else {}
    return values


def keep(path: Path, maker: str, made: Mapping[str, Any], mine: Collection[str]) -> None:
    """Keep values beside those that are kept by now, in one file that appears whole; nothing where
    that cannot be done.

    Of those that are not of the files at hand (``mine``) the ones that were made last stay.
    """
    with suppress(WideTrailError, OSError):  # they are only made again the next time
        _keep(path, maker, made, mine)


def _keep(path: Path, maker: str, made: Mapping[str, Any], mine: Collection[str]) -> None:
    effects = Effects()
    effects.make_folders(path.parent, named=True)
    kept = {**read_kept(path, maker), **made}
    at_hand = set(mine)
    others = [name for name in kept if name not in at_hand]
    for name in others[: max(0, len(others) - OTHERS)]:
        del kept[name]
    body = json.dumps({"maker": maker, "values": kept}, ensure_ascii=True).encode()
    part = path.with_name(f"{path.name}.{os.getpid()}.{os.urandom(4).hex()}")
    try:
        with effects.create(part, 0o600) as file:
            file.write(digest(body).encode() + b"\n" + body)
        effects.replace(part, path)
    except BaseException:
        with suppress(WideTrailError):
            effects.remove_file(part)
        raise
