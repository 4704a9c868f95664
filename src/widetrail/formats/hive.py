"""Registry hive files (``regf``), read only.

regipy walks the cells; names and data are taken raw and decoded here, since compressed names are
Latin-1 and every value type must keep its bytes.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from widetrail.formats.interface import NotThere, Unreadable
from widetrail.formats.registry import Key, RegistryValue, type_name

MOST = 100_000
"""Keys or values in one list, at most; a damaged list can claim any number."""


def hive_key(data: bytes, path: str) -> Key:
    """Return the key at ``path`` (below the hive's root, ``\\``-separated) with its values.

    Raises:
        Unreadable: The hive is damaged.
        NotThere: It has no such key.
    """
    import logging  # which only what reads a hive needs

    logging.getLogger("regipy").setLevel(logging.CRITICAL)
    try:
        node = _node(data, path)
        return Key(path, {v.name.casefold(): v for v in _values(node)})
    except (NotThere, MemoryError):
        raise
    except Exception as error:  # the parser raises whatever a damaged cell leads it to
        raise Unreadable(f"is not a valid registry hive: {type(error).__name__}") from error


def hive_tree(data: bytes, path: str) -> tuple[Key, ...]:
    """Return the key at ``path`` and all keys below it, each with its path in the hive.

    Raises:
        Unreadable: The hive is damaged, or holds more than ``MOST`` keys there.
        NotThere: It has no such key.
    """
    found = [hive_key(data, path.strip("\\"))]
    try:
        _gather(_node(data, path), path.strip("\\"), found)
    except (NotThere, Unreadable, MemoryError, RecursionError):
        raise
    except Exception as error:
        raise Unreadable(f"is not a valid registry hive: {type(error).__name__}") from error
    return tuple(found)


def _gather(node: Any, path: str, found: list[Key]) -> None:
    for inner in _below(node):
        below = f"{path}\\{_name(inner)}".lstrip("\\")
        found.append(Key(below, {v.name.casefold(): v for v in _values(inner)}))
        if len(found) > MOST:
            raise Unreadable(f"holds more than {MOST} keys")
        _gather(inner, below, found)


def _node(data: bytes, path: str) -> Any:
    node = _root(data)
    for name in filter(None, path.split("\\")):
        node = next((n for n in _below(node) if _name(n).casefold() == name.casefold()), None)
        if node is None:
            raise NotThere(f"has no key {path}")
    return node


@lru_cache(maxsize=2)
def _root(data: bytes) -> Any:
    from regipy.registry import RegistryHive

    with tempfile.TemporaryDirectory(prefix="widetrail-") as folder:
        copy = Path(folder) / "hive"
        copy.write_bytes(data)
        return RegistryHive(str(copy), hive_type="ntuser").root  # type: ignore[no-untyped-call]


def _name(node: Any) -> str:
    raw: bytes = node.header.key_name_string
    compressed = node.header.flags.KEY_COMP_NAME
    return raw.decode("latin-1" if compressed else "utf-16-le", "replace")


def _below(node: Any) -> Iterator[Any]:
    for number, inner in enumerate(node.iter_subkeys()):
        if number > MOST:
            raise Unreadable(f"claims more than {MOST} keys in one")
        yield inner


def _values(node: Any) -> Iterator[RegistryValue]:
    from regipy.structs import REGF_HEADER_SIZE, VALUE_KEY

    stream = node._stream
    if node.values_count > MOST:
        raise Unreadable(f"claims more than {MOST} values in one key")
    base = REGF_HEADER_SIZE + 4
    for number in range(node.values_count):
        stream.seek(base + node.header.values_list_offset + 4 * number)
        stream.seek(base + int.from_bytes(stream.read(4), "little"))
        cell = VALUE_KEY.parse_stream(stream)
        name = cell.name.decode("latin-1" if cell.flags.VALUE_COMP_NAME else "utf-16-le", "replace")
        yield RegistryValue(name, type_name(int(cell.data_type)), _data(node, cell, stream))


def _data(node: Any, cell: Any, stream: Any) -> bytes:
    inline = 0x80000000
    if cell.data_size >= inline:
        return bytes(cell.data_offset.to_bytes(4, "little")[: cell.data_size - inline])
    value = node.read_value(cell, stream)
    if cell.data_size > 0x3FD8 and value.value[:2] == b"db":
        return bytes(node._parse_indirect_block(stream, value))
    return bytes(value.value[: cell.data_size])
