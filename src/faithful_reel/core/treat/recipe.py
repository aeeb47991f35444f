"""Recipes: treatments in their order with their settings, as values and as JSON."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from importlib import resources
from pathlib import Path
from typing import Annotated, Any, Literal, get_args

from pydantic import ConfigDict, Field, TypeAdapter, ValidationError

from faithful_reel.core.errors import FileProblem
from faithful_reel.core.treat.tone import Bell

SCHEMA = 1
"""Of the JSON, in `faithful_reel_recipe`."""
VERSION = 1
"""Of what the treatments do: another one makes anew what was kept of them."""
MOST_BYTES, MOST_STEPS = 1 << 20, 40
Strength = Literal["light", "usual", "strong"]
Stretches = tuple[tuple[float, float], ...]
"""Half-open stretches of a recording in seconds."""
_STRICT = ConfigDict(extra="forbid", strict=False, allow_inf_nan=False)
Share = Annotated[float, Field(ge=0, le=1)]


@dataclass(frozen=True, slots=True)
class Common:
    """What every treatment has: how strongly it works in a word, whether it rests, and the places that it leaves alone."""

    __pydantic_config__ = _STRICT
    strength: Strength = "usual"
    rested: bool = False
    left_out: Stretches = ()

    def by_word(self, light: float, usual: float, strong: float, own: float | None = None) -> float:
        """A figure: its own where one is set, else that of the word."""
        return own if own is not None else {"light": light, "usual": usual, "strong": strong}[self.strength]


@dataclass(frozen=True, slots=True)
class Clicks(Common):
    """Clicks and mouth clicks redrawn; `sensitivity` is added to their score."""

    do: Literal["clicks"] = "clicks"
    sensitivity: Annotated[float, Field(ge=-10, le=10)] | None = None


@dataclass(frozen=True, slots=True)
class Crackle(Common):
    """Many small clicks: a pass of its own."""

    do: Literal["crackle"] = "crackle"
    sensitivity: Annotated[float, Field(ge=-10, le=10)] | None = None


@dataclass(frozen=True, slots=True)
class Clipping(Common):
    """What was cut off redrawn; then all of it made softer, where it would not fit under full scale."""

    do: Literal["clipping"] = "clipping"
    peak_db: Annotated[float, Field(ge=-24, le=0)] = -0.1
    most_over_db: Annotated[float, Field(ge=1, le=24)] | None = None


@dataclass(frozen=True, slots=True)
class Plosives(Common):
    """Bursts of air tamed; `sensitivity_db` lowers what counts as one."""

    do: Literal["plosives"] = "plosives"
    sensitivity_db: Annotated[float, Field(ge=-20, le=20)] | None = None


@dataclass(frozen=True, slots=True)
class Sibilance(Common):
    """Harsh s softened by a `share` of what stands over this reader's own; over `over_db` where that is set by hand."""

    do: Literal["sibilance"] = "sibilance"
    share: Share | None = None
    over_db: Annotated[float, Field(ge=-80, le=0)] | None = None


@dataclass(frozen=True, slots=True)
class Breaths(Common):
    """Breaths made softer by `by_db`, shorter, or room; all of them, or those between sentences or inside of them."""

    do: Literal["breaths"] = "breaths"
    how: Literal["softer", "shorter", "room"] = "softer"
    where: Literal["all", "between", "inside"] = "all"
    by_db: Annotated[float, Field(ge=0, le=40)] | None = None


@dataclass(frozen=True, slots=True)
class HumOut(Common):
    """The mains and its harmonics taken away, a `share` of them; `mains` in Hz, 0 for what is found."""

    do: Literal["hum"] = "hum"
    mains: Literal[0, 50, 60] = 0
    share: Share | None = None


@dataclass(frozen=True, slots=True)
class Noise(Common):
    """The room's noise lowered by `depth_db`, or to `to_db`; learnt from `stretches`, else from the pauses."""

    do: Literal["noise"] = "noise"
    depth_db: Annotated[float, Field(ge=0, le=30)] | None = None
    to_db: Annotated[float, Field(ge=-100, le=-20)] | None = None
    share: Share = 1.0
    passes: Literal[1, 2] = 1
    stretches: Stretches = ()


@dataclass(frozen=True, slots=True)
class Echo(Common):
    """The late answer of the room lowered by at most `floor_db`."""

    do: Literal["echo"] = "echo"
    floor_db: Annotated[float, Field(ge=0, le=30)] | None = None
    share: Share = 1.0


@dataclass(frozen=True, slots=True)
class Tone(Common):
    """Cuts, shelves, bells, a curve; DC removed; towards another balance (20 third octaves from 100 Hz, dB); peak set."""

    do: Literal["tone"] = "tone"
    low_cut_hz: Annotated[float, Field(ge=0, le=1000)] = 0.0
    high_cut_hz: Annotated[float, Field(ge=0, le=24_000)] = 0.0
    low_shelf_hz: Annotated[float, Field(gt=0, le=2000)] = 120.0
    low_shelf_db: Annotated[float, Field(ge=-18, le=18)] = 0.0
    high_shelf_hz: Annotated[float, Field(gt=0, le=24_000)] = 8000.0
    high_shelf_db: Annotated[float, Field(ge=-18, le=18)] = 0.0
    bells: Annotated[tuple[Bell, ...], Field(max_length=3)] = ()
    curve: Annotated[tuple[tuple[float, float], ...], Field(max_length=64)] = ()
    without_dc: bool = True
    towards: Annotated[tuple[float, ...], Field(max_length=20)] = ()
    peak_db: Annotated[float, Field(ge=-60, le=0)] | None = None


AnyStep = Clicks | Crackle | Clipping | Plosives | Sibilance | Breaths | HumOut | Noise | Echo | Tone
Step = Annotated[AnyStep, Field(discriminator="do")]
STEPS: dict[str, Callable[[], AnyStep]] = {kind.__dataclass_fields__["do"].default: kind for kind in get_args(AnyStep)}
"""The treatments by their names, in the order in which they do best."""


@dataclass(frozen=True, slots=True)
class Recipe:
    """An ordered list of treatments with a name."""

    __pydantic_config__ = _STRICT
    name: Annotated[str, Field(min_length=1, max_length=200)]
    steps: Annotated[tuple[Step, ...], Field(max_length=MOST_STEPS)] = field(default=())

    def awake(self) -> tuple[AnyStep, ...]:
        """The steps that do not rest."""
        return tuple(step for step in self.steps if not step.rested)

    def as_json(self) -> dict[str, Any]:
        """As documented in docs/recipes.md; what is as it was first is left out."""
        steps = [{"do": step.do, **_changed(step)} for step in self.steps]
        return {"faithful_reel_recipe": SCHEMA, "name": self.name, "steps": steps}

    @property
    def key(self) -> str:
        """A hash of all that decides what comes out: equal recipes have equal ones, whatever they are called."""
        told = json.dumps([VERSION, replace(self, steps=self.awake()).as_json()["steps"]], sort_keys=True)
        return hashlib.sha256(told.encode()).hexdigest()


_ADAPTER: TypeAdapter[Recipe] = TypeAdapter(Recipe)
_STEP: TypeAdapter[Any] = TypeAdapter(Step)


def _changed(step: AnyStep) -> dict[str, Any]:
    dumped: dict[str, Any] = _STEP.dump_python(step, mode="json", exclude_defaults=True)
    return dumped


def recipe_names() -> list[str]:
    """Names of the recipes that ship with the program."""
    folder = resources.files("faithful_reel") / "assets" / "recipes"
    return sorted(p.name.removesuffix(".json") for p in folder.iterdir() if p.name.endswith(".json"))


def recipe_of(text: str, name: str = "") -> Recipe:
    """A recipe from its JSON.

    Raises
    ------
    FileProblem
        It is no recipe, one of a newer schema, or one whose settings make no sense: which, and why.
    """
    shown = Path(name).name[:80] or "this text"
    try:
        fields = json.loads(text)
        if not isinstance(fields, dict) or "faithful_reel_recipe" not in fields:
            raise FileProblem(f"{shown} is no recipe: it has no field faithful_reel_recipe. See docs/recipes.md.")
        schema = fields.pop("faithful_reel_recipe")
        if schema != SCHEMA:
            raise FileProblem(f"{shown} is a recipe of schema {str(schema)[:20]}; this program knows {SCHEMA}. Use a newer one.")
        return _ADAPTER.validate_python(fields)
    except ValidationError as problem:
        first = problem.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise FileProblem(f"{shown} is no readable recipe: {where}: {first['msg']}. See docs/recipes.md.") from problem
    except (ValueError, RecursionError) as problem:
        raise FileProblem(f"{shown} is no readable recipe ({str(problem)[:80]}). See docs/recipes.md.") from problem


def load_recipe(name: str) -> Recipe:
    """A shipped recipe by name, or one from a JSON file.

    Raises
    ------
    FileProblem
        There is no such recipe or file, or it is not readable.
    """
    shipped = resources.files("faithful_reel") / "assets" / "recipes" / f"{name}.json"
    try:
        if "/" not in name and shipped.is_file():
            return recipe_of(shipped.read_text(encoding="utf-8"), name)
        path = Path(name)
        if not path.is_file():
            raise FileProblem(f"There is no recipe {name!r}. Use one of {', '.join(recipe_names())}, or a JSON file.")
        if path.stat().st_size > MOST_BYTES:
            raise FileProblem(f"{path.name[:80]} is too large for a recipe.")
        return recipe_of(path.read_text(encoding="utf-8"), name)
    except UnicodeDecodeError as problem:
        raise FileProblem(f"{Path(name).name[:80]} is no readable recipe: it is no text. See docs/recipes.md.") from problem
    except OSError as problem:
        raise FileProblem(f"The recipe {Path(name).name[:80]} can not be read ({problem.strerror}).") from problem


def recipe_doing(kinds: str) -> Recipe:
    """A recipe of treatments by their names, `clicks,noise`, in that order, each as it is first.

    Raises
    ------
    FileProblem
        One of them is not known.
    """
    names = [name.strip() for name in kinds.split(",") if name.strip()]
    unknown = [name for name in names if name not in STEPS]
    if unknown or not names:
        known = ", ".join(STEPS)
        raise FileProblem(f"There is no treatment {(unknown or [kinds])[0]!r}. The treatments are {known}.")
    return Recipe(", ".join(names), tuple(STEPS[name]() for name in names))
