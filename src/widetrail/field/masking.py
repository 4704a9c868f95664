"""What becomes of each value of a field report, by the key that it stands at."""

from __future__ import annotations

import json
from typing import Any

from widetrail.field.made_up_names import MadeUpNames

_TYPED = frozenset(
    {
        "after",
        "asked",
        "case",
        "code",
        "codes",
        "event",
        "existing",
        "facts",
        "id",
        "item",
        "kind",
        "leg",
        "place",
        "platform",
        "purpose",
        "readings",
        "recipe",
        "release_after",
        "repeat",
        "route",
        "routes",
        "says",
        "source_kind",
        "stage",
        "state",
        "station",
        "step",
        "steps",
        "store",
        "system",
        "verdict",
    }
)
"""Keys at which codes and ids stand, which are told by their own words: of the recipe, or ours."""

_CONTENTS = frozenset({"value", "told", "by", "real", "parts", "parts_left", "choose", "instance"})
"""Keys at which something of a person's stands: no word of it is ours."""

_BELOW = frozenset({"path", "carved", "dangling", "some"})
"""Keys at which paths stand that may be relative."""

_JSON = frozenset({"renames", "outside"})
"""Keys of a text that is JSON itself: paths by paths."""

_NOTHING = frozenset[str]()


class Masking:
    """Replaces every name in plain JSON values, and leaves the shape of these as it is."""

    def __init__(self, names: MadeUpNames, words: frozenset[str]) -> None:
        """``words`` are those that the tool itself writes, without capitals."""
        self._names, self._words = names, words

    def values(self, value: Any, key: str = "") -> Any:
        """Return values with another name for each of the person's; ``key`` is what they are of."""
        if isinstance(value, dict):
            at = {k: k if k in _KNOWN else key if key in _INHERITED else "" for k in value}
            return {self._key(k): self.values(v, at[k]) for k, v in value.items()}
        if isinstance(value, list | tuple):
            return [self.values(one, key) for one in value]
        return self._text(value, key) if isinstance(value, str) else value

    def _key(self, key: str) -> str:
        """Return a key: a name of a field or an id stays where its words are known."""
        return key if self._is_ours(key) else self._names.value(key, self._words)

    def _text(self, text: str, key: str) -> str:
        if key in _JSON and text.startswith("{"):
            told = json.loads(text)
            made = {self._names.path(k): self._names.path(str(v)) for k, v in told.items()}
            return json.dumps(made, ensure_ascii=True, sort_keys=True)
        if key in _TYPED and self._is_ours(text):
            return text
        if key in _BELOW:
            return self._names.path(text)
        return self._names.value(text, _NOTHING if key in _CONTENTS else self._words)

    def _is_ours(self, text: str) -> bool:
        return self._names.is_of(text, self._words)


_INHERITED = _CONTENTS | {"routes"}
"""Keys whose values are by names that are no keys of ours."""

_KNOWN = _TYPED | _CONTENTS | _BELOW | _JSON | {"reason", "todo", "words", "why", "what", "notices"}
