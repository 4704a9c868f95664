"""From a marked tree to a frozen model: every finding at once, in our own words.

pydantic judges; this module turns what it says into findings with positions. A model's unknown
keys are collected through the validation context, since pydantic's own error does not carry the
keys that would have been right.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from functools import cache
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Self, TypeVar

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    ModelWrapValidatorHandler,
    PrivateAttr,
    ValidationError,
    ValidationInfo,
    model_validator,
)
from pydantic_core import ErrorDetails

from widetrail.errors import DocumentUnusable, InputUnusable
from widetrail.findings import MOST, Finding, capped, did_you_mean, errors_of
from widetrail.formats.flaws import either, expected_one_of, flaw
from widetrail.formats.outside import DOCUMENT_MOST, read_outside
from widetrail.formats.yaml_positions import Map, Mark, Seq, Text, read_marked

if TYPE_CHECKING:
    from widetrail.formats.document_schema import SchemaMaker

TAG = "·"
"""Discriminator tags begin with this, so that they are never taken for a key."""

Where = tuple[str | int, ...]
M = TypeVar("M", bound="Model")


class Model(BaseModel):
    """A frozen value of a document; unknown keys are findings, defaults are never mutable."""

    model_config = ConfigDict(frozen=True, extra="ignore", validate_default=False, defer_build=True)

    @model_validator(mode="wrap")
    @classmethod
    def _collect_unknown(
        cls, data: Any, handler: ModelWrapValidatorHandler[Self], info: ValidationInfo
    ) -> Self:
        if isinstance(data, dict):
            known = cls.known_keys()
            unknown = [key for key in data if key not in known and not cls.knows(key)]
            if unknown and isinstance(info.context, Unknown):
                info.context.keys.extend((data, key, known) for key in unknown)
            elif unknown:
                raise flaw("unknown-key", f'unknown key "{unknown[0]}"')
        elif not isinstance(data, cls):
            raise flaw("mapping", f"expected a mapping with {either(sorted(cls.known_keys()))}")
        return handler(data)

    _stands_at: Where | None = PrivateAttr(default=None)

    @property
    def stands_at(self) -> Where | None:
        """Where it stands in its document: the keys and numbers (from 0) that lead to it. ``None``
        where it was not read from one, or that was not told."""
        return self._stands_at

    def tell_where(self, where: Where) -> None:
        """Say where it stands in its document; the first time counts."""
        if self._stands_at is None:
            self._stands_at = where

    def __eq__(self, other: object) -> bool:
        """Return whether the values are the same, wherever they stand."""
        if type(self) is not type(other):
            return NotImplemented
        return all(getattr(self, n) == getattr(other, n) for n in type(self).model_fields)

    no_keys: ClassVar[frozenset[str]] = frozenset()
    """The names of fields that are no keys of a document: what they hold stands under its own."""

    @classmethod
    def knows(cls, key: str) -> bool:
        """Return whether a key that is none of ``known_keys`` is known all the same."""
        return False

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        """Return the keys that a document may use for this model."""
        return _known_keys(cls)

    @classmethod
    def schema_with(cls, maker: SchemaMaker) -> dict[str, Any]:
        """Return the JSON Schema of what a document has for it."""
        return maker.mapping(cls)


def text_or_map(value: object) -> str:
    """Return the tag of a value of which the document may give a text or a mapping."""
    return f"{TAG}map" if isinstance(value, Mapping | Model) else f"{TAG}text"


@cache
def _known_keys(model: type[Model]) -> frozenset[str]:
    return frozenset(f.alias or name for name, f in model.model_fields.items())


class Unknown:
    """The context of validating a document: collects unknown keys."""

    def __init__(self) -> None:
        self.keys: list[tuple[dict[str, Any], str, frozenset[str]]] = []

    def respell(self, tree: Map, file: str) -> tuple[Finding, ...]:
        """Bring other spellings in ``tree`` into ours; return the warnings about them."""
        return ()


def _yes_no(value: Any) -> Any:
    if value not in ("yes", "no"):
        raise expected_one_of("yes-no", str(value), ("yes", "no"))
    return value == "yes"


YesNo = Annotated[bool, BeforeValidator(_yes_no)]


def read_text(path: Path) -> str:
    """Read a document as UTF-8.

    Raises:
        InputUnusable: It is not there, cannot be read, or is not UTF-8.
    """
    return text_of(read_document(path), str(path))


def read_document(path: Path, *, most: int = DOCUMENT_MOST, named: bool = True) -> bytes:
    """Return the bytes of a document of at most ``most`` bytes; ``named`` as for ``read_outside``.

    Raises:
        InputUnusable: It is not there, or cannot be read.
    """
    try:
        return read_outside(path, most, named=named)
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) else ""
        raise InputUnusable("cannot be read", where=str(path), why=reason or str(error)) from error


def text_of(data: bytes, file: str) -> str:
    """Return the text of a document that was read from ``file``.

    Raises:
        InputUnusable: It is not UTF-8.
    """
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputUnusable(
            "is not UTF-8 text",
            where=file,
            why=f"byte {error.start} is 0x{error.object[error.start]:02x}",
            todo="Save it as UTF-8.",
        ) from error


def check(
    model: type[M], text: str, file: str, context: Unknown | None = None
) -> tuple[M | None, Map, tuple[Finding, ...]]:
    """Read ``text`` as ``model``; return the value, its marked tree and all findings.

    The value is ``None`` when there is an error among the findings. ``context`` is what the
    model's validators are given.
    """
    tree, findings = read_marked(text, file)
    if not isinstance(tree, Map):
        if not findings:
            findings = (Finding(file, 1, 1, "mapping", "", "expected a mapping of keys"),)
        return None, _empty(), findings
    value, more = check_tree(model, tree, file, context)
    result = capped([*findings, *more])
    return (None if errors_of(result) else value), tree, result


def check_tree(
    model: type[M], tree: Any, file: str, context: Unknown | None = None
) -> tuple[M | None, tuple[Finding, ...]]:
    """Return a marked tree as ``model`` and all findings; ``None`` where one is an error."""
    if not isinstance(tree, Map):
        return None, (Finding(file, 1, 1, "mapping", "", "expected a mapping of keys"),)
    context = context or Unknown()
    value: M | None = None
    found = list(context.respell(tree, file))
    try:
        value = model.model_validate(tree, context=context)
    except ValidationError as error:
        found.extend(_finding(tree, file, e) for e in islice(_own_errors(error), MOST + 1))
    found.extend(islice(_unknown(tree, file, context), MOST + 1))
    result = capped(found)
    return (None if errors_of(result) else value), result


def errors_at(model: type[M], tree: Map, context: Unknown) -> tuple[M | None, tuple[Where, ...]]:
    """Return a marked tree as ``model``, or where its errors are: keys and numbers, among them some
    that the model alone knows."""
    try:
        return model.model_validate(tree, context=context), ()
    except ValidationError as error:
        return None, tuple(one["loc"] for one in islice(_own_errors(error), MOST))


def load(model: type[M], path: Path) -> M:
    """Read the document at ``path`` as ``model``.

    Raises:
        InputUnusable: The file cannot be read.
        DocumentUnusable: It has findings that are errors.
    """
    value, _, findings = check(model, read_text(path), str(path))
    if value is None:
        raise DocumentUnusable(str(path), errors_of(findings))
    return value


def mark_at(tree: Any, where: Iterable[str | int]) -> tuple[Mark, list[str]]:
    """Return the nearest position to ``where`` in a marked tree, and the keys really walked."""
    node, mark, walked = tree, tree.mark, []
    for part in where:
        if isinstance(node, Map) and isinstance(part, str) and part in node.keys_at:
            mark, node = node.keys_at[part], node.get(part)
        elif isinstance(node, Seq) and isinstance(part, int) and part < len(node):
            node = node[part]
            mark = node.mark
        else:
            continue
        walked.append(str(part))
    if isinstance(node, Text):
        mark = node.mark
    return mark, walked


def _own_errors(error: ValidationError) -> Iterable[ErrorDetails]:
    """Give the errors but those that only say that what holds another error is too short."""
    errors = error.errors(include_url=False)
    held = Counter(e["loc"][:depth] for e in errors for depth in range(len(e["loc"]) + 1))
    for one in errors:
        if one["type"] != "too_short" or held[one["loc"]] == 1:
            yield one


def _finding(tree: Map, file: str, error: ErrorDetails) -> Finding:
    where = [p for p in error["loc"] if not (isinstance(p, str) and p.startswith(TAG))]
    mark, walked = mark_at(tree, where)
    rule, message, hint = _words(error)
    return Finding(file, mark.line, mark.column, rule, ".".join(walked), message, hint)


def _words(error: ErrorDetails) -> tuple[str, str, str]:
    kind, context, found = error["type"], error.get("ctx", {}), error["input"]
    if kind.startswith("wt:"):
        return kind[3:], str(context["message"]), str(context["hint"])
    if kind == "missing":
        return "missing-key", f'the key "{error["loc"][-1]}" is missing', ""
    shown = f'"{found}"' if isinstance(found, str) else _shape(found)
    if kind == "literal_error":
        words = [w.strip("'\"") for w in str(context["expected"]).replace(" or ", ", ").split(", ")]
        return "word", f"expected {either(words)}; found {shown}", did_you_mean(str(found), words)
    if kind in ("string_type", "string_sub_type"):
        hint = "Put quotes around a text that holds , or { }" if not isinstance(found, str) else ""
        return "text", f"expected a text; found {shown}", hint
    if kind in ("dict_type", "mapping_type", "model_type"):
        return "mapping", f"expected a mapping; found {shown}", ""
    if kind in ("list_type", "tuple_type"):
        return "list", f"expected a list; found {shown}", ""
    if kind == "too_short":
        return "empty", "expected at least one", ""
    if kind == "too_long":
        return "too-many", f"expected at most {context['max_length']}", ""
    if kind == "greater_than_equal":
        return "number", f"expected {context['ge']} or more; found {shown}", ""
    if kind.startswith("int_"):
        return "number", f"expected a whole number; found {shown}", ""
    return kind.replace("_", "-"), f"{error['msg']}; found {shown}", ""


def _unknown(tree: Map, file: str, context: Unknown) -> Iterable[Finding]:
    paths = {id(node): where for node, where in _nodes(tree, [])} if context.keys else {}
    for node, key, known in context.keys:
        mark = node.keys_at.get(key, node.mark) if isinstance(node, Map) else tree.mark
        where = ".".join(paths.get(id(node), []))
        hint = did_you_mean(key, known) or f"Known here: {', '.join(sorted(known))}"
        yield Finding(
            file, mark.line, mark.column, "unknown-key", where, f'unknown key "{key}"', hint
        )


def _nodes(node: Any, where: list[str]) -> Iterable[tuple[Any, list[str]]]:
    yield node, where
    pairs = node.items() if isinstance(node, Map) else enumerate(node)
    for key, value in pairs:
        if isinstance(value, Map | Seq):
            yield from _nodes(value, [*where, str(key)])


def _shape(value: object) -> str:
    if isinstance(value, dict):
        return "a mapping"
    return "a list" if isinstance(value, list | tuple) else str(value)


def _empty() -> Map:
    empty = Map()
    empty.mark, empty.keys_at = Mark(1, 1), {}
    return empty
