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

from pydantic import BeforeValidator
from pydantic.fields import FieldInfo

from widetrail.formats.documents import Model, YesNo

Schema = dict[str, Any]

DIALECT = "https://json-schema.org/draft/2020-12/schema"

TEXT: Schema = {"type": ["string", "number", "boolean"]}
_WHOLE: Schema = {"type": ["integer", "string"], "pattern": "^-?[0-9]+$"}
_NUMBER: Schema = {"type": ["number", "string"]}
_YES_NO: Schema = {"enum": ["yes", "no", True, False]}


class SchemaMaker:
    """Makes the schema of one document; each model that it has becomes a definition.

    ``several`` are validators that take one value for a list of it, ``added`` what some models
    have beside their own: the kinds of steps, say, by their model.
    """

    def __init__(
        self, several: Callable[..., Any], added: Mapping[type[Model], Mapping[str, Any]]
    ) -> None:
        self._several, self.added = several, added
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
        if annotation == YesNo:
            return _YES_NO
        origin, inner = get_origin(annotation), get_args(annotation)
        if origin is Annotated:
            return self.of(inner[0], (*inner[1:], *metadata))
        before = [m.func for m in metadata if isinstance(m, BeforeValidator)]
        if self._several in before and origin is tuple:
            one = self.of(inner[0])
            return {"anyOf": [one, {"type": "array", "items": one, **_bounds(metadata)}]}
        if before:
            return {}  # what it takes, only it knows
        if origin in (Union, types.UnionType):
            return _any_of([self.of(one) for one in inner if one is not type(None)])
        if origin is Literal:
            return {"enum": [*inner, *(one for word in inner for one in _as_read(word))]}
        if origin in (tuple, list):
            return {"type": "array", "items": self.of(inner[0]), **_bounds(metadata)}
        if origin in (dict, Mapping) or (inspect.isclass(origin) and issubclass(origin, Mapping)):
            values = self.of(inner[1])
            return {"type": "object", "additionalProperties": values}
        return self._of_plain(annotation)

    def _of_plain(self, annotation: Any) -> Schema:
        if inspect.isclass(annotation) and issubclass(annotation, Model):
            return self._named(annotation)
        known: dict[Any, Schema] = {str: TEXT, int: _WHOLE, float: _NUMBER, bool: _YES_NO}
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
                keys[key] = self.of(field.annotation, _metadata(field))
                if field.is_required():
                    needed.append(key)
        made: Schema = {"type": "object", "properties": keys, "additionalProperties": False}
        if needed:
            made["required"] = needed
        return {"description": inspect.cleandoc(model.__doc__ or "").replace("``", "`"), **made}


def _as_read(word: str) -> Iterator[object]:
    """Give what a reader of YAML takes a word for that is none to it."""
    if word.isdecimal():
        yield int(word)
    elif word in ("yes", "no"):
        yield word == "yes"


def _metadata(field: FieldInfo) -> tuple[Any, ...]:
    return tuple(field.metadata)


def _bounds(metadata: tuple[Any, ...]) -> Schema:
    found: Schema = {}
    for one in metadata:
        for part in getattr(one, "metadata", [one]):
            if (least := getattr(part, "min_length", None)) is not None:
                found["minItems"] = least
    return found


def _any_of(schemas: list[Schema]) -> Schema:
    once = [one for number, one in enumerate(schemas) if one not in schemas[:number]]
    return once[0] if len(once) == 1 else {"anyOf": once}
