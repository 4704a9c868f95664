"""Where each value of a recipe stands in it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cache

from widetrail.formats.documents import Model, Where
from widetrail.recipe.routes import StepRule


def below(value: object, where: Where = ()) -> Iterator[tuple[Where, Model]]:
    """Give every model that was written at and below ``value``, with where it stands."""
    waiting = [(where, value)]
    while waiting:
        where, value = waiting.pop()
        if isinstance(value, str):  # as most are
            continue
        if isinstance(value, StepRule):
            waiting.append((where, value.rule))
        elif isinstance(value, Model):
            yield where, value
            written = value.model_fields_set
            inner = [
                ((*where, *own), getattr(value, name))
                for name, own in _fields(type(value))
                if name in written
            ]
            waiting += reversed(inner)
        elif isinstance(value, Mapping):
            waiting += reversed([((*where, str(key)), one) for key, one in value.items()])
        elif isinstance(value, tuple):
            waiting += reversed([((*where, number), one) for number, one in enumerate(value)])


@cache
def _fields(model: type[Model]) -> list[tuple[str, Where]]:
    """Return the fields of a model, with the key that each stands under, if any."""
    fields = model.model_fields.items()
    return [(n, () if n in model.no_keys else (info.alias or n,)) for n, info in fields]
