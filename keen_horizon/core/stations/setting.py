"""A setting, and everything that the house needs to know about it, in one place.

:func:`setting` declares a field of a station's settings. Its range and meaning hold in treatments
from anywhere; its label, unit, step and reach are what the page shows; whether it takes keyframes,
belongs to one recording, and what it affects is what copying, comparing and caches go by.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Literal, get_args

from pydantic import BaseModel, Field

Affects = Literal["tracks", "motion", "path", "map", "pixels", "report"]
WORK = get_args(Affects)
"""The work on a clip, in order. A setting *affects* the first part that has to be done again when
it changes; all that follows has to be, too.

``tracks``: what the tracks are seen through; ``motion``: the camera's motion out of them; ``path``:
the steadied path; ``map``: where pixels come from; ``pixels``: what becomes of them; ``report``:
nothing but what is said.
"""
Kind = Literal["flat", "sphere"]  # of clips
_KEY = "keen"  # under which facts lie in a field's JSON schema


@dataclass(frozen=True)
class Choice:
    """One of the values of a setting that has a few: what it is called, and what it does."""

    label: str
    hint: str = ""
    by_angle: bool = False  # cannot be without the camera's angle of view


@dataclass(frozen=True)
class SettingFacts:
    """What is known of a setting besides its type, range and description."""

    label: str
    affects: Affects
    unit: str = ""
    step: float = 1.0
    reach: tuple[float, float] | None = None  # of the slider, where it is narrower than the range
    keyed: bool = False
    of_clip: bool = False  # names frames or places of one recording: left out of copies
    group: str = ""  # settings that are found together, and replaced together
    needs: tuple[Mapping[str, tuple[Any, ...]], ...] = ()
    """When it has an effect: values of others, any of them; whenever it likes if there are none."""
    choices: Mapping[str, Choice] = field(default_factory=dict)
    serves: tuple[Kind, ...] = ()  # kinds of clip; all that its station serves if there are none


def setting(
    default: Any,
    low: float | None = None,
    high: float | None = None,
    *,
    label: str,
    affects: Affects,
    hint: str,
    unit: str = "",
    step: float = 1.0,
    reach: tuple[float, float] | None = None,
    keyed: bool = False,
    of_clip: bool = False,
    group: str = "",
    needs: Sequence[Mapping[str, tuple[Any, ...]]] = (),
    choices: Mapping[str, Choice] | None = None,
    serves: tuple[Kind, ...] = (),
    **rest: Any,
) -> Any:
    """Declare a setting from ``low`` to ``high``, both included. ``hint`` is its description, in
    the schema and on the page; ``rest`` are further constraints, as pydantic's Field takes them."""
    facts = SettingFacts(
        label, affects, unit, step, reach, keyed, of_clip, group, tuple(needs), choices or {},
        serves,
    )  # fmt: skip
    published = {k: v for k, v in vars(facts).items() if v not in (None, "", {}, (), False)}
    if choices:
        published["choices"] = {
            value: {k: v for k, v in vars(choice).items() if v is not False}
            for value, choice in choices.items()
        }
    return Field(
        default, ge=low, le=high, description=hint, title=label,
        json_schema_extra={_KEY: published}, **rest,
    )  # fmt: skip


@cache
def facts_of(settings: type[BaseModel], name: str) -> SettingFacts:
    """The facts of a declared setting. Raises KeyError if it was not declared by
    :func:`setting`."""
    extra = settings.model_fields[name].json_schema_extra
    if not isinstance(extra, dict) or _KEY not in extra:
        raise KeyError(f"{settings.__name__}.{name} is not declared by setting()")
    told: Any = extra[_KEY]
    choices = {value: Choice(**choice) for value, choice in told.get("choices", {}).items()}
    return SettingFacts(**{**told, "choices": choices})


def range_of(settings: type[BaseModel], name: str) -> tuple[float | None, float | None]:
    """The least and the greatest value of a setting."""
    metadata = settings.model_fields[name].metadata
    low = next((m.ge for m in metadata if hasattr(m, "ge")), None)
    high = next((m.le for m in metadata if hasattr(m, "le")), None)
    return low, high


def has_effect(settings: BaseModel, name: str) -> bool:
    """Whether a setting makes a difference, the others being what they are."""
    needs = facts_of(type(settings), name).needs
    return not needs or any(
        all(getattr(settings, other) in values for other, values in case.items()) for case in needs
    )
