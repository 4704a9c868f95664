"""Ways to carry an item: routes with their legs and steps, checks, losses and paths in files."""

import inspect
from collections.abc import Collection, Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal, Self

from pydantic import (
    BeforeValidator,
    Discriminator,
    Field,
    ModelWrapValidatorHandler,
    Tag,
    ValidationInfo,
    model_validator,
)

from widetrail.findings import Finding
from widetrail.formats.documents import (
    TAG,
    Model,
    Unknown,
    YesNo,
    text_or_map,
)
from widetrail.formats.flaws import expected_one_of, flaw
from widetrail.formats.forms import FORMS
from widetrail.formats.record import Duplicates
from widetrail.formats.yaml_positions import Map, Mark, Text
from widetrail.old_words import SPELLINGS
from widetrail.recipe.conditions import Condition, Limit, Needs, one_or_many
from widetrail.recipe.readings import For, InForm
from widetrail.recipe.settings import Settings
from widetrail.recipe.text_types import (
    Name,
    Said,
)

if TYPE_CHECKING:
    from widetrail.formats.document_schema import SchemaMaker

Station = Literal["old", "new", "between"]


STATIONS: tuple[Station, ...] = ("old", "new", "between")


Existing = Literal["back up", "replace", "alongside", "skip", "refuse"]


ALL = "all"
"""What a check is said to be of that counts a whole item."""


class Check(Model):
    """A reading compared between old and new; ``of`` says which values of parts it counts.

    ``all`` has it compared only where the whole item goes, and the name of a part only where some
    of its values were chosen.
    """

    compare: Literal["same", "at_least"] = "same"
    of: Annotated[
        Annotated[Name, Tag(f"{TAG}text")] | Annotated[dict[Name, Said], Tag(f"{TAG}map")],
        Discriminator(text_or_map),
    ] = Field(default_factory=dict)

    def looked_at(self, parts: Mapping[str, tuple[str, ...]], left: Collection[str]) -> bool:
        """Return whether what the check counts was chosen.

        ``parts`` are the values chosen, ``left`` the parts of which some were not.
        """
        if not isinstance(self.of, dict):
            return not left if self.of == ALL else self.of in left
        return all(value in parts.get(part, (value,)) for part, value in self.of.items())


class Loss(Model):
    """Something that is not carried, and what to do about it.

    ``before`` is what to do on old beforehand. ``when`` are readings of old without which there is
    no loss; ``proof`` are readings of new that show the remedy was done.
    """

    what: Said
    remedy: Said
    before: str = ""
    when: dict[Name, Condition] = Field(default_factory=dict)
    proof: dict[Name, Condition] = Field(default_factory=dict)


class StepRule(Model):
    """One step as the recipe states it: its kind and that kind's own settings."""

    kind: str
    rule: Settings

    @model_validator(mode="wrap")
    @classmethod
    def _by_kind(
        cls, data: object, handler: ModelWrapValidatorHandler[Self], info: ValidationInfo
    ) -> Self:
        kinds = info.context.kinds if isinstance(info.context, Notation) else {}
        keys = [data] if isinstance(data, str) else list(data) if isinstance(data, dict) else []
        kind = next((str(k) for k in keys if k in kinds), None)
        if kind is None:
            raise expected_one_of("step-kind", str(keys[0]) if keys else "", sorted(kinds))
        settings = {kind: ""} if isinstance(data, str) else data
        rule = kinds[kind].model_validate(settings, context=info.context)
        return handler({"kind": kind, "rule": rule})

    @classmethod
    def schema_with(cls, maker: "SchemaMaker") -> dict[str, Any]:
        """Return the JSON Schema: the name of a kind of step, or a mapping with it and more."""
        kinds: Mapping[str, type[Settings]] = maker.added[StepRule]
        every = [maker.of(settings) for settings in kinds.values()]
        return {
            "description": inspect.cleandoc(cls.__doc__ or ""),
            "anyOf": [{"enum": sorted(kinds)}, *every],
        }


class Notation(Unknown):
    """The context of loading a recipe: the known step kinds and the unknown keys met."""

    def __init__(self, kinds: Mapping[str, type[Settings]]) -> None:
        super().__init__()
        self.kinds = kinds

    def respell(self, tree: Map, file: str) -> tuple[Finding, ...]:
        """Take American spellings as ours, with one warning at most."""
        found: list[tuple[Mark, str]] = []
        for key in [key for key in tree if key in SPELLINGS and SPELLINGS[key] not in tree]:
            found.append((tree.keys_at[key], key))
            tree.keys_at[SPELLINGS[key]] = tree.keys_at.pop(key)
            tree[SPELLINGS[key]] = tree.pop(key)
        items = tree.get("items")
        for item in items.values() if isinstance(items, Map) else ():
            kind = item.get("kind") if isinstance(item, Map) else None
            if isinstance(kind, Text) and kind in SPELLINGS:
                found.append((kind.mark, kind))
                item["kind"] = kind.respelled(SPELLINGS[kind])
        for mark, word in sorted(found, key=lambda one: (one[0].line, one[0].column))[:1]:
            message = f'"{word}" is read as "{SPELLINGS[word]}", as everywhere in this file'
            hint = f'Write "{SPELLINGS[word]}"'
            place = (file, mark.line, mark.column)
            return (Finding(*place, "spelling", "", message, hint, "warning"),)
        return ()


class Leg(Model):
    """The steps done at one station without walking away."""

    old: tuple[StepRule, ...] | None = None
    new: tuple[StepRule, ...] | None = None
    between: tuple[StepRule, ...] | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        if sum(getattr(self, station) is not None for station in STATIONS) != 1:
            raise flaw("leg", 'expected one station: "old", "new" or "between"')
        return self

    @classmethod
    def schema_with(cls, maker: "SchemaMaker") -> dict[str, Any]:
        """Return the JSON Schema: the steps of one station."""
        return {**maker.mapping(cls), "minProperties": 1, "maxProperties": 1}

    @property
    def station(self) -> Station:
        """Where the leg is done."""
        return next(station for station in STATIONS if getattr(self, station) is not None)

    @property
    def steps(self) -> tuple[StepRule, ...]:
        """The steps of the leg, in order."""
        steps: tuple[StepRule, ...] = getattr(self, self.station)
        return steps


Outside = Literal["ask", "carry", "leave"]


class WrittenPaths(InForm):
    """Where paths of the machine stand in an item: a file by its form, and the values in it.

    ``at`` is what a reading of that form takes, where ``*`` stands for any member, section or name;
    ``table.column`` of a database, a key and a name of registry text. ``outside`` says what becomes
    of files that they name and that do not move, ``missing`` what becomes of paths that are not
    there on new yet; one of ``prefix`` may stand before a path.
    """

    role = "paths"
    code = "paths-form"
    what = "paths"

    for_: For | None = Field(None, alias="for")
    at: Said
    outside: Outside = "leave"
    missing: Literal["keep", "map"] = "keep"
    prefix: Annotated[tuple[Said, ...], BeforeValidator(one_or_many)] = ()

    @model_validator(mode="after")
    def _address(self) -> Self:
        check = FORMS[self.form].check_paths_at
        if check is not None:
            check(self.at)
        return self


class Route(Model):
    """One way to move an item; one ``by_choice`` is taken only where the person chose it.

    ``duplicates`` is what its program does with records that are there already, in the program's
    own words: the first unless the person chooses. Steps name it as ``{duplicates}``. Where one of
    several comes ``beside`` what is there, it is paired with none of those on new. ``checks`` are
    compared instead of the item's where a route carries less than all of it.
    """

    name: Said
    by_choice: YesNo = False
    for_: For | None = Field(None, alias="for")
    needs: Needs = Field(default_factory=Needs)
    limit: Limit = Field(default_factory=Limit)
    only: dict[Name, dict[Name, Condition]] = Field(default_factory=dict)
    rest: Said | Loss | None = None
    wait: dict[Name, Condition] = Field(default_factory=dict)
    existing: Existing = "back up"
    duplicates: dict[Duplicates, Said] = Field(default_factory=dict)
    beside: YesNo = False
    checks: dict[Name, Check] | None = None
    legs: tuple[Leg, ...] = Field(min_length=1)
    losses: tuple[Loss, ...] = ()

    @property
    def rules(self) -> tuple[Settings, ...]:
        """What is said of each of its steps, in order: the first of them is number 1 of a plan."""
        return tuple(step.rule for leg in self.legs for step in leg.steps)

    @property
    def treats(self) -> tuple[Duplicates, ...]:
        """What may become of what is there already, where that is a choice."""
        found = [*self.duplicates, *(word for rule in self.rules for word in rule.treats)]
        return tuple(dict.fromkeys(found))

    @property
    def parts_asked_for(self) -> frozenset[str]:
        """The parts for each of whose values some step is done, so that they must be known."""
        return frozenset(step.rule.part for leg in self.legs for step in leg.steps)

    def existing_in(self, *, store: bool) -> Existing:
        """Return what happens to what is there: the values of a store are merged where the recipe
        does not say."""
        return "replace" if store and "existing" not in self.model_fields_set else self.existing

    def chooses(self, part: str) -> bool:
        """Return whether it can carry some values of a part alone."""
        return any(step.rule.chooses(part) for leg in self.legs for step in leg.steps)

    @property
    def fills_parcel(self) -> bool:
        """Whether anything of the item travels in the parcel."""
        return any(step.rule.fills_parcel for leg in self.legs for step in leg.steps)

    @model_validator(mode="after")
    def _rest_of_what(self) -> Self:
        if self.rest is not None and not self.only:
            raise flaw("rest", '"rest" belongs to "only"')
        return self
