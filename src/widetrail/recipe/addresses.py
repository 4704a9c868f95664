"""Where each value of a recipe stands in it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from widetrail.formats.documents import Model, Where
from widetrail.recipe.routes import StepRule


def below(value: object, where: Where = ()) -> Iterator[tuple[Where, Model]]:
    """Give every model that was written at and below ``value``, with where it stands."""
    if isinstance(value, StepRule):
        yield from below(value.rule, where)
    elif isinstance(value, Model):
        yield where, value
        for name, info in type(value).model_fields.items():
            if name in value.model_fields_set:
                own = () if name in value.no_keys else (info.alias or name,)
                yield from below(getattr(value, name), (*where, *own))
    elif isinstance(value, Mapping):
        for key, inner in value.items():
            yield from below(inner, (*where, str(key)))
    elif isinstance(value, tuple):
        for number, inner in enumerate(value):
            yield from below(inner, (*where, number))
