"""The texts of a recipe, each checked as it is read: names, templates, keys, ranges."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any

from pydantic import (
    AfterValidator,
)

from widetrail.formats.flaws import flaw
from widetrail.recipe.globs import check_glob
from widetrail.recipe.releases import check_releases
from widetrail.recipe.templates import check_path, parse_template

_NAME = re.compile(r"[a-z][a-z0-9_]*")


_HIVE = re.compile(r"(HKEY_[A-Z_]+|HK(LM|CU|CR|U|CC))(\\.+)?", re.DOTALL)


_COMMAND = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.+-]*")


_SETTINGS = re.compile(r"(/[A-Za-z0-9_:.-]+)+/?")


_ID = re.compile(r"[a-z][a-z0-9]*(-[a-z0-9]+)*")


def _check_name(text: str) -> str:
    if not _NAME.fullmatch(text):
        raise flaw("name", f'"{text}" is not a name', "Names are small letters, digits and _")
    return text


def _check_id(text: str) -> str:
    if not _ID.fullmatch(text):
        hint = "An id is small letters and digits in groups joined by -"
        raise flaw("id", f'"{text}" is not an id', hint)
    return text


def _check_template(text: str) -> str:
    parse_template(text)
    return text


def _check_said(text: str) -> str:
    if not text.strip():
        raise flaw("empty", "the value is empty")
    return text


def _check_key(text: str) -> str:
    if not _HIVE.fullmatch(text):
        hint = r"Write it like 'HKEY_CURRENT_USER\Software\Maker\Program', in single quotes"
        raise flaw("registry-key", f'"{text}" is not a registry key', hint)
    return text


def check_program(text: str) -> str:
    return text if _COMMAND.fullmatch(text) else check_path(text)


def _check_settings_path(text: str) -> str:
    if not _SETTINGS.fullmatch(text):
        raise flaw("dconf", f'"{text}" is not a path of settings', "Write it like /org/example/app")
    return text


Name = Annotated[str, AfterValidator(_check_name)]


Said = Annotated[str, AfterValidator(_check_said)]


PathText = Annotated[str, AfterValidator(check_path)]


ArgumentText = Annotated[str, AfterValidator(_check_template)]


AppId = Annotated[str, AfterValidator(_check_id)]


KeyText = Annotated[str, AfterValidator(_check_key)]


SettingsPath = Annotated[str, AfterValidator(_check_settings_path)]


Glob = Annotated[str, AfterValidator(check_glob)]


Range = Annotated[str, AfterValidator(check_releases)]


ProgramText = Annotated[str, AfterValidator(check_program)]


PATTERNS: Mapping[Callable[..., Any], str] = {
    _check_name: f"^{_NAME.pattern}$",
    _check_id: f"^{_ID.pattern}$",
    _check_said: r"\S",
    _check_key: f"^{_HIVE.pattern}$",
    _check_settings_path: f"^{_SETTINGS.pattern}$",
    check_path: r"^\{[a-z][a-z0-9_.]*\}(/(?!\.{1,2}(/|$))[^/\\]+)*$",
}
"""What texts look like that a check accepts, as expressions of JSON Schema (ECMA 262)."""


def is_command(text: str) -> bool:
    """Return whether a program is given as a command and not as a path."""
    return bool(_COMMAND.fullmatch(text))
