"""What a recipe says apart for each platform: a path or a program, or one for all."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import (
    AfterValidator,
    Discriminator,
    Field,
    Tag,
    model_validator,
)

from widetrail.formats.documents import TAG, Model, text_or_map
from widetrail.machine.platforms import PLATFORMS, Platform
from widetrail.recipe.text_types import (
    PathText,
    ProgramText,
    check_program,
)

if TYPE_CHECKING:
    from widetrail.formats.document_schema import SchemaMaker


class PerPlatform(Model):
    """One text for each platform; ``else`` for those not named."""

    by_platform: dict[str, PathText] = Field(default_factory=dict)
    otherwise: PathText | None = Field(None, alias="else")

    @classmethod
    def known_keys(cls) -> frozenset[str]:
        """Return the names of the platforms, and ``else``."""
        return frozenset({*PLATFORMS, "else"})

    @model_validator(mode="before")
    @classmethod
    def _by_name(cls, data: object) -> object:
        if not isinstance(data, Mapping) or "by_platform" in data:
            return data
        named = {name: text for name, text in data.items() if name in PLATFORMS}
        return {"by_platform": named, **({"else": data["else"]} if "else" in data else {})}

    @classmethod
    def schema_with(cls, maker: "SchemaMaker") -> dict[str, Any]:
        """Return the JSON Schema: a text under the name of each platform, and ``else``."""
        text = maker.of(str)
        made = maker.mapping(cls, frozenset({"by_platform", "otherwise"}))
        return {**made, "properties": dict.fromkeys((*PLATFORMS, "else"), text)}

    def of(self, platform: Platform) -> str | None:
        """Return the text that names ``platform``, or ``None``."""
        return self.by_platform.get(platform)

    def on(self, platform: Platform) -> str | None:
        """Return the text for ``platform``, or ``None`` when the recipe has none for it."""
        own = self.of(platform)
        return self.otherwise if own is None else own

    def texts(self) -> Iterator[tuple[str, str]]:
        """Give every text with its key."""
        yield from self.by_platform.items()
        if self.otherwise is not None:
            yield "else", self.otherwise


PathChoice = Annotated[
    Annotated[PathText, Tag(f"{TAG}text")] | Annotated[PerPlatform, Tag(f"{TAG}map")],
    Discriminator(text_or_map),
]


class PerPlatformProgram(PerPlatform):
    """One program for each platform: a path, or a command."""

    by_platform: dict[str, ProgramText] = Field(default_factory=dict)
    otherwise: ProgramText | None = Field(None, alias="else")


ProgramChoice = Annotated[
    Annotated[str, AfterValidator(check_program), Tag(f"{TAG}text")]
    | Annotated[PerPlatformProgram, Tag(f"{TAG}map")],
    Discriminator(text_or_map),
]


def on_platform(choice: str | PerPlatform, platform: Platform) -> str | None:
    """Return what ``choice`` says for ``platform``, or ``None`` where it says nothing."""
    return choice if isinstance(choice, str) else choice.on(platform)
