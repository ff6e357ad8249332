"""The treatment: every setting of every station, validated, versioned, with a JSON schema."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator
from pydantic_core import PydanticCustomError

from .errors import BadSetting
from .geometry.keyframes import Key, keyed
from .geometry.reshape import is_convex


class _Station(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


COMPONENTS = ("across", "updown", "roll", "size")  # of the camera's path


def _own_calm(component: str) -> Any:
    return Field(
        None, ge=0, le=100, description=f"Calm of the path's {component} alone; null: as calm."
    )


Share = Annotated[float, Field(ge=-0.5, le=1.5)]  # of the picture's width or height
Place = tuple[Share, Share]


class Lasso(_Station):
    """An area drawn around a subject at one frame; it travels with the marks inside."""

    kind: Literal["lasso"] = "lasso"
    frame: int = Field(ge=0, description="Frame of the recording at which it was drawn.")
    outline: tuple[Place, ...] = Field(
        min_length=3, max_length=400, description="Corners, as shares of the picture's size."
    )


class Group(_Station):
    """The marks that move together with the one nearest to a place."""

    kind: Literal["group"] = "group"
    frame: int = Field(ge=0, description="Frame of the recording at which it was pointed at.")
    at: Place = Field(description="The place, as shares of the picture's size.")


Subject = Annotated[Lasso | Group, Field(discriminator="kind")]


class Placing(_Station):
    """Where a held point is at a frame."""

    frame: int = Field(ge=0, description="Frame of the recording.")
    at: Place = Field(description="The place, as shares of the picture's size.")


class HeldPoint(Placing):
    """A point of the picture that is followed, to be held."""

    pattern: float = Field(
        0.08, ge=0.02, le=0.5, description="Side of the pattern box, as a share of the height."
    )
    search: float = Field(
        0.08, ge=0.01, le=0.5, description="How far around it is looked for, likewise."
    )
    again: tuple[Placing, ...] = Field(
        (), max_length=50, description="Frames at which it was placed again by hand."
    )


class StraightEdge(_Station):
    """Something that is straight in the world, traced in the picture of one frame."""

    frame: int = Field(ge=0, description="Frame of the recording at which it was traced.")
    points: tuple[Place, ...] = Field(
        min_length=2, max_length=200, description="Along it, as shares of the picture's size."
    )
    pins: tuple[Place, ...] = Field(
        (), max_length=12, description="Where it was clicked or dragged to, likewise."
    )
    runs: Literal["any", "level", "upright"] = Field(
        "any", description="How it runs in the world: level and upright edges also level."
    )


class LensSettings(_Station):
    """How the lens bends straight rays. Coefficients act on normalised image coordinates."""

    on: bool = Field(True, description="Whether the lens is corrected.")
    model: Literal["rectilinear", "brown", "fisheye", "division"] = Field(
        "rectilinear",
        description="rectilinear: bends nothing. brown: k1 k2 k3 p1 p2 (Brown-Conrady). fisheye: "
        "k1 k2 k3 k4 (Kannala-Brandt). division: k1 (one parameter).",
    )
    focal: float = Field(
        0.832, ge=0.05, le=20, description="Focal length over the picture's width."
    )
    k1: float = Field(0.0, ge=-10, le=10, description="First radial coefficient.")
    k2: float = Field(0.0, ge=-10, le=10, description="Second radial coefficient.")
    k3: float = Field(0.0, ge=-10, le=10, description="Third radial coefficient.")
    k4: float = Field(0.0, ge=-10, le=10, description="Fourth, of fisheye alone.")
    p1: float = Field(0.0, ge=-1, le=1, description="First tangential coefficient, of brown.")
    p2: float = Field(0.0, ge=-1, le=1, description="Second tangential coefficient, of brown.")
    centre_x: float = Field(
        0.0, ge=-25, le=25, description="Optical centre right of the picture's, in percent of "
        "its width.",
    )  # fmt: skip
    centre_y: float = Field(
        0.0, ge=-25, le=25, description="Optical centre below the picture's, in percent of its "
        "height.",
    )  # fmt: skip
    squeeze: float = Field(
        1.0, ge=0.5, le=2.5, description="How much an anamorphic lens squeezed the picture across."
    )
    amount: float = Field(100.0, ge=0, le=100, description="Percent of the correction applied.")
    found_by: Literal["nothing", "angle", "edges", "chart", "numbers", "profile"] = Field(
        "nothing", description="Where the numbers come from."
    )
    residual: float | None = Field(
        None, ge=0, le=1000, description="What was left when they were fitted, px."
    )
    profile: int | None = Field(
        None, ge=1, description="Its number in the lens cabinet, if it is from there."
    )
    edition: int | None = Field(None, ge=1, description="Which edition of that profile it is.")
    edges: tuple[StraightEdge, ...] = Field(
        (), max_length=60, description="Straight edges that the lens was fitted to."
    )


class ShutterSettings(_Station):
    """Rows that were read one after the other."""

    on: bool = Field(True, description="Whether the readout is corrected.")
    readout: float = Field(
        0.0, ge=0, le=60, description="From the first row to the last, in ms; 0: a global shutter."
    )
    strong: bool = Field(
        False, description="Also vibration faster than the frame rate, in bands of rows."
    )


class MotionSettings(_Station):
    """What the steadied camera should do."""

    on: bool = Field(True, description="Whether the shake is removed at all.")
    aim: Literal["follow", "lock_off", "hold"] = Field(
        "follow",
        description="follow: keep the move, lose the shake. lock_off: as from a tripod. hold: "
        "keep chosen points where they are.",
    )
    calm: float = Field(
        40.0,
        ge=0,
        le=100,
        description="How strongly shake is removed: how far the picture may be shifted for it.",
    )
    calm_across: float | None = _own_calm("across")
    calm_updown: float | None = _own_calm("updown")
    calm_roll: float | None = _own_calm("roll")
    calm_size: float | None = _own_calm("size")
    ease: float = Field(
        0.0, ge=0, le=100, description="Percent of the calm given up; meant to be keyed."
    )
    slack: float = Field(
        0.0, ge=0, le=100, description="How freely a locked-off picture may drift, slowly."
    )
    lock_frame: int | None = Field(
        None, ge=0, description="Frame whose view a lock-off gives; null: the one that costs least."
    )
    hold: tuple[HeldPoint, ...] = Field(
        (), max_length=4, description="Points to hold: one for position, two for roll and size "
        "too, four for perspective.",
    )  # fmt: skip
    hold_at: Place | None = Field(
        None,
        description="Where the first is held, as shares of the steadied picture before zoom; "
        "null: where it is.",
    )
    tightness: float = Field(
        100.0, ge=0, le=100, description="100: dead still; 0: gently brought back."
    )
    model: Literal["shift", "similarity", "perspective", "rotation", "mesh", "decide"] = Field(
        "similarity",
        description="shift: across and up-down. similarity: shift, roll and scale. perspective: "
        "keystone and shear too. rotation: what turning the camera does; needs angle_of_view. "
        "mesh: local warps, for parallax. decide: the simplest that explains the clip.",
    )
    stiffness: float = Field(50.0, ge=0, le=100, description="How little a mesh bends.")
    stretch_limit: float = Field(
        4.0, ge=0.5, le=20, description="Most that any region is stretched, in percent."
    )
    wobble_limit: float = Field(
        1.0, ge=0.05, le=10, description="Most wobble, in px, that decide lets a model leave."
    )
    angle_of_view: float | None = Field(
        None, ge=5, le=150, description="Across the picture, in degrees; null: not known."
    )
    aside: tuple[Subject, ...] = Field(
        (), max_length=50, description="Subjects whose marks must not steer."
    )
    steer_by: Subject | None = Field(
        None, description="The subject whose marks alone steer; null: all that are not set aside."
    )

    @property
    def calms(self) -> dict[str, float]:
        """The calm of each component, by name; those that have none of their own share ``calm``."""
        own = {name: getattr(self, f"calm_{name}") for name in COMPONENTS}
        return {name: self.calm if value is None else value for name, value in own.items()}


CORNERS = ("top_left", "top_right", "bottom_right", "bottom_left")  # clockwise
SIDES = ("left", "right", "top", "bottom")


def _corner(name: str, side: str, value: float) -> Any:
    return Field(
        float(value), ge=-100, le=200, description=f"Square up: its {name} corner, in percent of "
        f"the {side} of the steadied picture.",
    )  # fmt: skip


def _pull(side: str) -> Any:
    return Field(
        0.0, ge=0, le=25, description=f"Edge stretch: how far the {side} is pulled outwards, in "
        "percent of half the picture.",
    )  # fmt: skip


class FrameSettings(_Station):
    """What happens at the edges."""

    on: bool = Field(True, description="Off leaves bare edges as they come.")
    edge: Literal["leave", "trim", "fill", "borrow"] = Field(
        "fill",
        description="leave: bare edges stay. trim: smaller output. fill: zoom until covered. "
        "borrow: from neighbouring frames, and fill for what none covers.",
    )
    borrow_reach: int = Field(
        18, ge=1, le=60, description="Frames away that may lend to a bare edge."
    )
    borrow_width: float = Field(
        6.0, ge=0.5, le=25, description="Widest edge that is borrowed, in percent of the output."
    )
    zoom_ceiling: float = Field(
        1.25, ge=1, le=4, description="The most zoom that may be spent; calm gives way first."
    )
    zoom_speed: float = Field(
        0.0, ge=0, le=50, description="Drifting zoom: most change in percent a second; 0: none."
    )
    extra_zoom: float = Field(
        1.0, ge=0.1, le=4, description="Zoom on top of what the edges need; below 1, which shows "
        "more, only where bare edges stay.",
    )  # fmt: skip
    offset_x: float = Field(
        0.0, ge=-50, le=50, description="Moves the picture to the right, in percent of its width."
    )
    offset_y: float = Field(
        0.0, ge=-50, le=50, description="Moves the picture down, in percent of its height."
    )
    turn: float = Field(
        0.0, ge=-180, le=180, description="Turns the picture clockwise, in degrees."
    )
    square_up: bool = Field(False, description="Whether four corners are squared up.")
    top_left_x: float = _corner("top left", "width", 0)
    top_left_y: float = _corner("top left", "height", 0)
    top_right_x: float = _corner("top right", "width", 100)
    top_right_y: float = _corner("top right", "height", 0)
    bottom_right_x: float = _corner("bottom right", "width", 100)
    bottom_right_y: float = _corner("bottom right", "height", 100)
    bottom_left_x: float = _corner("bottom left", "width", 0)
    bottom_left_y: float = _corner("bottom left", "height", 100)
    pull_left: float = _pull("left")
    pull_right: float = _pull("right")
    pull_top: float = _pull("top")
    pull_bottom: float = _pull("bottom")
    swell: float = Field(
        1.0, ge=0.4, le=2.5, description="Magnification inside the disc; below 1 a pinch."
    )
    swell_x: float = Field(
        25.0, ge=-20, le=120, description="Centre of the disc, in percent of the width."
    )
    swell_y: float = Field(50.0, ge=-20, le=120, description="Likewise, of the height.")
    swell_radius: float = Field(
        30.0, ge=2, le=150, description="Radius of the disc, in percent of the height."
    )
    swell_rim: float = Field(
        80.0, ge=20, le=100, description="How much of the radius is a soft rim, in percent."
    )
    swell_twin: bool = Field(False, description="Another disc, across the picture's centre.")
    trim_shape: str = Field(
        "source",
        pattern=r"^(source|free|[1-9]\d{0,4}(\.\d{1,3})?:[1-9]\d{0,4}(\.\d{1,3})?)$",
        description="Shape of what trim leaves: source, free, or width:height as in 16:9.",
    )
    width: int | None = Field(
        None, ge=16, le=8192, description="Output width in px; null: as the source or the height."
    )
    height: int | None = Field(
        None, ge=16, le=8192, description="Output height in px; null: as the source or the width."
    )


KEYABLE = (
    "lens.amount", "lens.focal", "lens.centre_x", "lens.centre_y", "motion.ease",
    "frame.zoom_ceiling", "frame.zoom_speed", "frame.extra_zoom", "frame.offset_x",
    "frame.offset_y", "frame.turn",
    *(f"frame.{corner}_{axis}" for corner in CORNERS for axis in "xy"),
    *(f"frame.pull_{side}" for side in SIDES),
    "frame.swell", "frame.swell_x", "frame.swell_y", "frame.swell_radius",
)  # fmt: skip


STATIONS = ("lens", "shutter", "motion", "frame")  # of the light path, in the order of a treatment
# What names frames or places of one recording.
OF_A_CLIP = {
    "lens": ("edges",), "motion": ("aside", "steer_by", "lock_frame", "hold", "hold_at"),
}  # fmt: skip


class SettingKey(_Station):
    """A value of a setting at one frame."""

    frame: int = Field(ge=0, description="Frame of the recording.")
    value: float
    smooth: bool = Field(True, description="Whether it is reached and left without a kink.")


class Treatment(_Station):
    """All settings of all stations for one clip."""

    version: Literal[1] = Field(1, description="Version of this format.")
    lens: LensSettings = LensSettings()
    shutter: ShutterSettings = ShutterSettings()
    motion: MotionSettings = MotionSettings()
    frame: FrameSettings = FrameSettings()
    keys: dict[Literal[KEYABLE], tuple[SettingKey, ...]] = Field(  # type: ignore[valid-type]
        default_factory=dict, description="Values that change over the clip, by setting."
    )

    @model_validator(mode="after")
    def _keys_in_range(self) -> Treatment:
        for name, keys in self.keys.items():
            station, key = name.split(".")
            part = getattr(self, station)
            for one in keys:
                try:
                    type(part).model_validate({key: float(one.value)}, strict=True)
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
    def _corners_in_order(self) -> Treatment:
        if self.frame.square_up:
            places = [
                complex(getattr(self.frame, f"{c}_x"), getattr(self.frame, f"{c}_y"))
                for c in CORNERS
            ]
            if not is_convex(np.array(places)):
                raise PydanticCustomError(
                    "corners_cross", "the corners of square up cross, or one lies inside the others"
                )
        return self

    @property
    def edge(self) -> Literal["leave", "trim", "fill", "borrow"]:
        """The edge rule in force."""
        return self.frame.edge if self.frame.on else "leave"

    def values(self, name: str, frames: NDArray[np.intp]) -> NDArray[np.float64]:
        """``(n,)`` a keyable setting at each of ``frames``, counted as in the recording."""
        station, key = name.split(".")
        keys = [Key(k.frame, k.value, k.smooth) for k in self.keys.get(name, ())]
        return keyed(keys, frames, getattr(getattr(self, station), key))


def parse(data: Any) -> Treatment:
    """A treatment from JSON data. Raises BadSetting naming the key and what is allowed."""
    try:
        # Through JSON, so that 60 is accepted for 60.0 but "60" is not accepted for either.
        return Treatment.model_validate_json(json.dumps(data))
    except (ValidationError, TypeError, ValueError) as error:
        raise BadSetting(_explain(error)) from error


def read(path: Path) -> Treatment:
    """A treatment from a JSON file."""
    try:
        data = json.loads(path.read_text("utf-8"))
    except OSError as error:
        raise BadSetting(
            f"cannot be read ({error.strerror}).", file=path, remedy="Check the name."
        ) from error
    except ValueError as error:
        raise BadSetting(f"is not JSON ({error}).", file=path, remedy="Correct it.") from error
    try:
        return parse(data)
    except BadSetting as error:
        raise BadSetting(error.reason, file=path) from error


def with_settings(treatment: Treatment, settings: list[str]) -> Treatment:
    """Change single values, each given as ``station.key=value``. Raises BadSetting."""
    data = treatment.model_dump(mode="json")
    for setting in settings:
        name, equals, text = setting.partition("=")
        if not equals:
            raise BadSetting(f"'{setting}' is not a setting; write station.key=value.")
        try:
            value = json.loads(text)
        except ValueError:
            value = text
        *path, last = name.strip().split(".")
        place: Any = data
        for part in path:
            place = place.get(part) if isinstance(place, dict) else None
        if not isinstance(place, dict) or last not in place:
            raise BadSetting(f"there is no setting '{name}'. {_known(data)}")
        place[last] = value
    return parse(data)


def with_stations(treatment: Treatment, source: Treatment, stations: list[str]) -> Treatment:
    """``treatment`` with the settings of some stations of another clip's.

    What names frames of a recording, keys among it, stays with the clip it belongs to.
    """
    parts = {}
    for name in stations:
        own, other = getattr(treatment, name), getattr(source, name)
        stays = {key: getattr(own, key) for key in OF_A_CLIP.get(name, ())}
        parts[name] = other.model_copy(update=stays)
    return treatment.model_copy(update=parts)


def schema() -> dict[str, Any]:
    """JSON schema of a treatment."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Keen Horizon treatment",
        **{k: v for k, v in Treatment.model_json_schema().items() if k != "title"},
    }


def _known(data: dict[str, Any]) -> str:
    names = [
        f"{station}.{key}"
        for station, values in data.items()
        if isinstance(values, dict)
        for key in values
    ]
    return "Known: " + ", ".join(names) + "."


def _explain(error: Exception) -> str:
    if not isinstance(error, ValidationError):
        return f"the treatment cannot be read ({error})."
    said = []
    for fault in error.errors():
        key = ".".join(str(p) for p in fault["loc"]) or "treatment"
        if fault["type"] == "extra_forbidden":
            said.append(f"there is no setting '{key}'.")
        elif fault["type"] == "corners_cross":
            said.append(
                f"{fault['msg']}; keep them in their order: top left, top right, bottom right, "
                "bottom left."
            )
        elif fault["type"].startswith("key_"):
            said.append(f"{fault['msg']}; allowed: {allowed(fault['ctx']['name'])}.")
        elif fault["loc"][:1] == ("keys",) and fault["loc"][-1:] == ("[key]",):
            said.append(f"{fault['loc'][1]} cannot be keyed; allowed: {', '.join(KEYABLE)}.")
        else:
            said.append(f"{key} cannot be {json.dumps(fault['input'])}; allowed: {allowed(key)}.")
    if any(f["type"] == "extra_forbidden" for f in error.errors()):
        said.append(_known(Treatment().model_dump(mode="json")))
    return " ".join(said)


def allowed(key: str) -> str:
    """The range of a setting in words: ``0 to 100``, ``follow or lock_off``."""
    schema = Treatment.model_json_schema()
    definitions = schema.get("$defs", {})
    node: Any = schema
    for part in key.split("."):
        node = _described(node, definitions)
        if part.isdigit():  # a member of a list
            node = node.get("items", {})
        elif part in ("lasso", "group"):
            node = definitions[part.capitalize()]
        else:
            node = node.get("properties", {}).get(part, {})
    node = _described(node, definitions)
    nullable = ""
    if "anyOf" in node:  # something, or null
        nullable = ", or null"
        node = _described(node["anyOf"][0], definitions)
    return _in_words(node) + nullable


def _described(node: Any, definitions: dict[str, Any]) -> Any:
    return definitions[node["$ref"].rsplit("/", 1)[1]] if "$ref" in node else node


def _in_words(node: dict[str, Any]) -> str:
    if "enum" in node:
        return " or ".join(str(v) for v in node["enum"])
    if "const" in node:
        return str(node["const"])
    if "minimum" in node and "maximum" in node:
        kind = "a whole number" if node.get("type") == "integer" else "a number"
        return f"{kind} from {node['minimum']:g} to {node['maximum']:g}"
    if "minimum" in node:
        return f"a whole number of {node['minimum']:g} or more"
    if node.get("type") == "array":
        low, high = node.get("minItems", 0), node.get("maxItems")
        return f"a list of {low} to {high}" if high else "a list"
    if "pattern" in node:
        return "source, free, or width:height as in 16:9"
    return {"boolean": "true or false"}.get(node.get("type", ""), "an object of settings")
