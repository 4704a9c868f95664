"""JSON Schemas of documents, made from their models (JSON Schema, draft 2020-12).

A document is text until its model gives it a type, while an editor's reader of YAML gives types by
itself: so a text may be a number or yes or no to the schema. What only a whole document can tell,
such as a name that is not there, no schema knows.
"""

from __future__ import annotations

import inspect
import types
from collections.abc import Callable, Iterator, Mapping
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import AfterValidator, BeforeValidator
from pydantic.fields import FieldInfo

from widetrail.formats.documents import Model, YesNo

Schema = dict[str, Any]

DIALECT = "https://json-schema.org/draft/2020-12/schema"

TEXT: Schema = {"type": ["string", "number", "boolean"]}
_WHOLE: Schema = {"type": ["integer", "string"], "pattern": "^-?[0-9]+$"}
_NUMBER: Schema = {"type": ["number", "string"]}
_YES_NO: Schema = {"enum": ["yes", "no", True, False]}
_SAYS_YES_NO = get_args(YesNo)[1].func


class SchemaMaker:
    """Makes the schema of one document; each model that it has becomes a definition.

    ``several`` is the validator that takes one value for a list of it, ``added`` what some models
    have beside their own: the kinds of steps, say, by their model. ``texts`` say what each key is
    for, by the names of models; ``patterns`` what texts look like that a validator accepts.
    """

    def __init__(
        self,
        several: Callable[..., Any],
        added: Mapping[type[Model], Mapping[str, Any]],
        texts: Mapping[str, Mapping[str, str]],
        patterns: Mapping[Callable[..., Any], str],
    ) -> None:
        self._several, self.added = several, added
        self._texts, self._patterns = texts, patterns
        self._made: dict[str, Schema] = {}

    def document(self, model: type[Model], title: str) -> Schema:
        """Return the whole schema of a document."""
        top = self.of(model)
        return {
            "$schema": DIALECT,
            "title": title,
            **top,
            "$defs": dict(sorted(self._made.items())),
        }

    def of(self, annotation: Any, metadata: tuple[Any, ...] = ()) -> Schema:
        """Return the schema of an annotated value."""
        origin, inner = get_origin(annotation), get_args(annotation)
        if origin is Annotated:
            return self.of(inner[0], (*inner[1:], *metadata))
        before = [m.func for m in metadata if isinstance(m, BeforeValidator)]
        if self._several in before and origin is tuple:
            one = self.of(inner[0])
            return {"anyOf": [one, {"type": "array", "items": one, **_bounds(metadata)}]}
        if _SAYS_YES_NO in before:
            return _YES_NO
        if before:
            return {}  # what it takes, only it knows
        if origin in (Union, types.UnionType):
            return _any_of([self.of(one) for one in inner if one is not type(None)])
        if origin is Literal:
            return {"enum": [*inner, *(one for word in inner for one in _as_read(word))]}
        if origin in (tuple, list):
            return {"type": "array", "items": self.of(inner[0]), **_bounds(metadata)}
        if origin in (dict, Mapping) or (inspect.isclass(origin) and issubclass(origin, Mapping)):
            made = {"type": "object", "additionalProperties": self.of(inner[1])}
            if pattern := self.of(inner[0]).get("pattern"):
                made["propertyNames"] = {"pattern": pattern}
            return {**made, **_bounds(metadata, "Properties")}
        return self._of_plain(annotation, metadata)

    def _of_plain(self, annotation: Any, metadata: tuple[Any, ...]) -> Schema:
        if inspect.isclass(annotation) and issubclass(annotation, Model):
            return self._named(annotation)
        known: dict[Any, Schema] = {str: TEXT, int: _WHOLE, float: _NUMBER, bool: _YES_NO}
        checks = [one.func for one in metadata if isinstance(one, AfterValidator)]
        pattern = next((self._patterns[one] for one in checks if one in self._patterns), None)
        if annotation is str and pattern is not None:
            return {**TEXT, "pattern": pattern}
        return known.get(annotation, {})

    def _named(self, model: type[Model]) -> Schema:
        name = model.__name__
        if name not in self._made:
            self._made[name] = {}  # one that holds itself
            self._made[name] = model.schema_with(self)
        return {"$ref": f"#/$defs/{name}"}

    def mapping(self, model: type[Model], without: frozenset[str] = frozenset()) -> Schema:
        """Return the schema of a mapping with the keys of a model."""
        keys: dict[str, Schema] = {}
        needed = []
        for name, field in model.model_fields.items():
            key = field.alias or name
            if name not in without | model.no_keys:
                made = self.of(field.annotation, _metadata(field))
                keys[key] = self.described(model, key, made)
                if field.is_required():
                    needed.append(key)
        whole: Schema = {"type": "object", "properties": keys, "additionalProperties": False}
        if needed:
            whole["required"] = needed
        return {"description": inspect.cleandoc(model.__doc__ or "").replace("``", "`"), **whole}

    def described(self, model: type[Model], key: str, made: Schema) -> Schema:
        """Return the schema of a key of a model with what the key is for, where that is known."""
        told = (self._texts.get(one.__name__, {}).get(key) for one in model.__mro__)
        text = next((one for one in told if one), "")
        return {"description": text, **made} if text else made


def _as_read(word: str) -> Iterator[object]:
    """Give what a reader of YAML takes a word for that is none to it."""
    if word.isdecimal():
        yield int(word)
    elif word in ("yes", "no"):
        yield word == "yes"


def _metadata(field: FieldInfo) -> tuple[Any, ...]:
    return tuple(field.metadata)


def _bounds(metadata: tuple[Any, ...], of: str = "Items") -> Schema:
    found: Schema = {}
    for one in metadata:
        for part in getattr(one, "metadata", [one]):
            if (least := getattr(part, "min_length", None)) is not None:
                found[f"min{of}"] = least
    return found


def _any_of(schemas: list[Schema]) -> Schema:
    once = [one for number, one in enumerate(schemas) if one not in schemas[:number]]
    return once[0] if len(once) == 1 else {"anyOf": once}
