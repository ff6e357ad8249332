"""The settings tree, made from the stations."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, Literal, Self, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError, create_model, model_validator
from pydantic_core import PydanticCustomError

from ..geometry.keyframes import Key, keyed
from ..stations import STATIONS, light_path
from ..stations.setting import Kind
from ..stations.station import Station, StationSettings
from ..types import Indices, Real
from ..values import Value

VERSION = 1  # of the format, as below: see .upgrade
KEYABLE = tuple(
    f"{station.name}.{name}"
    for station in STATIONS
    for name, facts in station.facts.items()
    if facts.keyed
)
"""The settings that may change over the clip."""
S = TypeVar("S", bound=StationSettings)


class SettingKey(Value):
    """A value of a setting at one frame."""

    frame: int = Field(ge=0, description="Frame of the recording.")
    value: float
    smooth: bool = Field(True, description="Whether it is reached and left without a kink.")


class TreatmentBase(BaseModel):
    """All settings of all stations for one clip, whatever the stations are.

    The settings of a station are an attribute of its name; typed, ``treatment.of(STATION)``.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)

    version: Literal[1] = Field(1, description="Version of this format.")
    keys: dict[Literal[KEYABLE], tuple[SettingKey, ...]] = Field(  # type: ignore[valid-type]
        default_factory=dict, description="Values that change over the clip, by setting."
    )

    def of(self, station: Station[S]) -> S:
        """The settings of a station."""
        settings = getattr(self, station.name)
        assert isinstance(settings, station.Settings)
        return settings

    def each(self, kind: Kind | None = None) -> Iterator[tuple[Station[Any], Any]]:
        """Every station with its settings, in the order of the light path; those of a ``kind`` of
        clip, or all."""
        for station in STATIONS if kind is None else light_path(kind):
            yield station, self.of(station)

    def changed(self, station: Station[S], **settings: Any) -> Self:
        """The treatment with some settings of a station changed, validated again."""
        own = self.of(station).model_copy(update=settings)
        return self.model_copy(update={station.name: type(own)(**dict(own))})

    def keys_of(self, station: Station[Any]) -> dict[str, list[Key]]:
        """The keyframes of a station's settings, by their own names."""
        return {
            name.split(".")[1]: [Key(k.frame, k.value, k.smooth) for k in keys]
            for name, keys in self.keys.items()
            if name.split(".")[0] == station.name
        }

    def values(self, name: str, frames: Indices) -> Real:
        """``(n,)`` a keyed setting at each of ``frames``, counted as in the recording."""
        station, key = name.split(".")
        keys = [Key(k.frame, k.value, k.smooth) for k in self.keys.get(name, ())]
        return keyed(keys, frames, getattr(getattr(self, station), key))

    def in_force(self) -> Self:
        """The treatment with everything that has no effect, things being what they are, set back to
        its default."""
        parts = {station.name: station.in_force(own) for station, own in self.each()}
        keyed = {station.name for station, own in self.each() if station.heeds_keys(own)}
        keys = {n: k for n, k in self.keys.items() if n.split(".")[0] in keyed}
        return self.model_copy(update={**parts, "keys": keys})

    def as_data(self) -> dict[str, Any]:
        """As JSON data."""
        return self.model_dump(mode="json")

    @model_validator(mode="after")
    def _keys_in_range(self) -> Self:
        for name, keys in self.keys.items():
            station, key = name.split(".")
            part = type(getattr(self, station))
            for one in keys:
                try:
                    part.model_validate({key: float(one.value)}, strict=True)
                except ValidationError as error:
                    raise PydanticCustomError(
                        "key_out_of_range", "{name} cannot be {value} at frame {frame}",
                        {"name": name, "value": one.value, "frame": one.frame},
                    ) from error  # fmt: skip
            if len({one.frame for one in keys}) < len(keys):
                raise PydanticCustomError(
                    "key_twice", "{name} has two values at the same frame", {"name": name}
                )
        return self

    @model_validator(mode="after")
    def _no_fault(self) -> Self:
        for station, own in self.each():
            if fault := station.fault(own):
                raise PydanticCustomError("station_fault", "{fault}", {"fault": fault})
        return self


def _made() -> type[TreatmentBase]:
    fields: dict[str, Any] = {
        station.name: (station.Settings, station.Settings()) for station in STATIONS
    }
    made = create_model(
        "Treatment", __base__=TreatmentBase, __doc__="All settings of all stations for one clip.",
        **fields,
    )  # fmt: skip
    # In a file the stations come between the version and the keys.
    order = ["version", *fields, "keys"]
    made.model_fields.update({name: made.model_fields.pop(name) for name in order})
    made.model_rebuild(force=True)
    return made


if TYPE_CHECKING:  # what it is made of is known at run time only

    class Treatment(TreatmentBase):
        """All settings of all stations for one clip."""

else:
    Treatment = _made()
