"""The clip screen: where the clip stands, its range, its frames' times, what it is copied to."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, get_args

import numpy as np
from flask import Blueprint, Response, jsonify, render_template
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.media.fields import ORDERS, WAYS, Fields
from ..core.media.probe import Probe
from ..core.path.least_zoom import LARGEST
from ..core.picture.working_space import curve_words
from ..core.pipeline.sphere_source import first_eye, whole_probe
from ..core.stations import STATIONS, light_path
from ..core.stations.setting import Kind
from ..core.tracking.features import CLOSER_COST
from ..core.treatment import Treatment, with_stations
from ..jobs.ingest import INGEST
from ..jobs.measuring import MEASURE
from ..store import library, treatments
from ..store.models import Clip
from ..store.scans import file_probe, probe_of, stored_scan, twin_of
from . import captions, services
from .arrays import packed
from .fields import fields_of, for_scripts
from .jobs import asked_once, describe, latest, under_way
from .lens import WIDEST
from .media import file_address, proxy_address
from .requests import asker, body, texts, whole
from .treatment import SMALLEST


@dataclass(frozen=True)
class Page:
    """What the page has for a kind of clip besides its stations: ``lines`` of the path that the
    strip can show, ``aids`` over and beside the picture."""

    lines: tuple[tuple[str, str], ...]
    aids: frozenset[str]


PAGES: dict[Kind, Page] = {
    "flat": Page(
        (("across", "across, px"), ("updown", "up-down, px"), ("roll", "roll, °"),
         ("size", "size, %")),
        frozenset({"exact", "scopes", "edges", "marks", "room"}),
    ),
    "sphere": Page(
        (("yaw", "yaw, °"), ("pitch", "pitch, °"), ("roll", "roll, °"),
         ("tilt", "off level, °")),
        frozenset({"around"}),
    ),
}  # fmt: skip
blueprint = Blueprint("clip", __name__, url_prefix="/clips/<int:clip_id>")


@blueprint.get("")
def screen(clip_id: int) -> str:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        kind = kind_of(clip)
        stations = light_path(kind)
        return render_template(
            "clip.html", clip=clip, shoot=clip.recording.shoot, stations=stations,
            tools={station.name: station.tools_for(kind) for station in stations}, page=PAGES[kind],
            station_names=[(station.name, station.title) for station in stations],
            fields=fields_of(kind), settings=for_scripts(kind),
            ways=WAYS, orders=ORDERS,
            limits={"dial": WIDEST, "canvas": (SMALLEST, LARGEST)},
        )  # fmt: skip


def kind_of(clip: Clip) -> Kind:
    """The kind of clip that a recording is worked on as."""
    return "sphere" if clip.recording.kind == "sphere" else "flat"


@blueprint.post("/kind")
def set_kind(clip_id: int) -> Response:
    """Work on the recording as another kind of clip; it is taken in anew where its pictures are
    laid out otherwise then, and measured as that, if it has not been."""
    kind = body().get("kind")
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        recording = clip.recording
        if kind not in get_args(Kind) or not recording.kind_words:
            raise KeenError("this recording cannot be worked on as that.")
        probe = file_probe(recording)
        whole = whole_probe(probe, twin_of(recording))
        if kind == "sphere":
            first_eye(whole)  # says what is wrong with one that is none
        anew = kind != recording.kind and whole != probe
        recording.kind = str(kind)
        if anew:
            recording.probe = None
            details: dict[str, object] = {"kind": kind}
            services().queue.ask(
                session, INGEST.name, recording.id, clip_id=clip.id, details=details
            )
        session.commit()
    return jsonify(kind=kind)


@blueprint.post("/fields")
def set_fields(clip_id: int) -> Response:
    """Take the recording in once more as another clip, whose frames are made of fields as told:
    frames have other numbers then, so this clip stays as it is."""
    fields = Fields.from_json(body())
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        if not file_probe(clip.recording).interlaced:
            raise KeenError("this recording is not interlaced.")
        _, other = library.add_again(session, clip, fields)
        services().queue.ask(session, INGEST.name, other.recording_id, clip_id=other.id)
        session.commit()
        return jsonify(clip=other.id, name=other.name)


@blueprint.post("/open")
def open_clip(clip_id: int) -> Response:
    """Where the clip stands. One that has not been measured begins to be."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return jsonify(_opened(session, clip))


def _opened(session: Session, clip: Clip) -> dict[str, Any]:
    recording = clip.recording
    answer: dict[str, Any] = {
        "id": clip.id,
        "name": clip.name,
        "first": clip.first_frame,
        "last": clip.last_frame,
        "phase": "refused" if recording.refusal else "taking in",
        "refusal": recording.refusal,
        "work": None,
    }
    if recording.probe is None:
        job = latest(session, clip.recording_id)
        answer["work"] = describe(job) if job else None
        answer["file"] = file_address(recording)
        return answer
    probe, shown = recording.probe, probe_of(recording)
    answer |= {
        "width": shown.width,
        "height": shown.height,
        "pixel_aspect": shown.pixel_aspect,
        "frame_count": probe["frame_count"],
        "rate": probe["rate"],
        "proxy": proxy_address(recording),
        "source_words": _source_words(probe),
        "light_words": curve_words(probe["colour"]),
        "kind": kind_of(clip),
        "kind_words": recording.kind_words,
        "sound": probe["sound"] is not None,
        "fields": _fields(shown),
    }
    measured = treatments.measure_of(session, clip) is not None
    at_it = None
    if not measured or clip.revision is None:  # which is what these end with
        at_it = under_way(session, recording.id, library.MEASURING)
    if measured and at_it is not None:
        return answer | {"phase": "choosing", "work": describe(at_it)}
    if not measured:
        if at_it is not None and at_it.kind != MEASURE.name:
            return answer | {"phase": "measuring", "work": describe(at_it)}
        range_: dict[str, object] = {"first": clip.first_frame, "last": clip.last_frame}
        job = asked_once(session, clip, MEASURE.name, range_)
        return answer | {"phase": "measuring", "work": describe(job)}
    if clip.revision is None:
        # Unless the measure came just now, and with it a first treatment, the range was measured
        # for another clip before; this one begins with the default.
        treatments.begin(session, clip, Treatment())
        session.commit()
    return answer | {"phase": "ready", "closer": _closer(session, clip)}


def _fields(probe: Probe) -> dict[str, Any] | None:
    """What is made of the fields of an interlaced recording; None for another."""
    if not probe.interlaced:
        return None
    return {
        "each": probe.each,
        "first": probe.first_field,
        "words": WAYS[probe.each].words,
        "hints": {each: way.hint for each, way in WAYS.items()},
    }


def _closer(session: Session, clip: Clip) -> dict[str, Any]:
    """Whether the closer measure is wanted, there, or under way, and about how long it takes."""
    usual = treatments.usual_or_closer(session, clip, closer=False)
    there = treatments.usual_or_closer(session, clip, closer=True)
    job = None
    if clip.closer and there is None and kind_of(clip) == "flat":
        details: dict[str, object] = {
            "first": clip.first_frame, "last": clip.last_frame, "closer": True,
        }  # fmt: skip
        job = describe(asked_once(session, clip, MEASURE.name, details))
    seconds = CLOSER_COST * usual.seconds if usual is not None else None
    return {"wanted": clip.closer, "there": there is not None, "seconds": seconds, "work": job}


def _source_words(probe: dict[str, Any]) -> str:
    """Size and rate; a line ends between them, if it has to."""
    size, rate = f"{probe['width']} × {probe['height']}", captions.rate(probe)
    return " · ".join(words.replace(" ", "\u00a0") for words in (size, rate))


@blueprint.post("/closer")
def closer(clip_id: int) -> Response:
    """Want the closer measure, or the usual one; the other stays, and stays in use until then."""
    data = body()
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.measured_flat(session, clip)
        if "wanted" in data:
            clip.closer = bool(data["wanted"])
        session.commit()
        return jsonify(_closer(session, clip))


@blueprint.get("/timing")
def timing(clip_id: int) -> Response:
    """Presentation times of all frames of the recording, seconds."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        times = stored_scan(clip.recording, services().store).times
    return jsonify(times=packed(times, np.float64))


@blueprint.post("/range")
def set_range(clip_id: int) -> Response:
    """Use another range of the recording; it is measured unless it has been already."""
    data, words = body(), "a range is given as two frame numbers."
    first, last = whole(data, "first", words), whole(data, "last", words)
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.set_range(clip, first, last)
        session.commit()
        return jsonify(_opened(session, clip))


@blueprint.get("/others")
def others(clip_id: int) -> Response:
    """The other clips of the shoot, to which a treatment can be copied."""
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return jsonify(clips=[{"id": c.id, "name": c.name} for c in library.beside(session, clip)])


@blueprint.post("/copy")
def copy(clip_id: int) -> Response:
    """Copy stations of this clip's treatment to other clips of the shoot, a new revision each."""
    data = body()
    wanted = data.get("to")
    if not isinstance(wanted, list) or not wanted or not all(type(i) is int for i in wanted):
        raise KeenError("no clip was chosen to copy to.")
    names = texts(data, "stations", "no station was chosen to copy.")
    if not set(names) <= {station.name for station in STATIONS}:
        raise KeenError("no station was chosen to copy.")
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        own = treatments.current(clip)
        # In one order, whatever the request's: two that copy to the same clips must not wait for
        # each other.
        targets = [other for other in library.beside(session, clip) if other.id in wanted]
        for target in sorted(targets, key=lambda other: other.id):
            changed = with_stations(treatments.current(target), own, names)
            treatments.change(session, target, changed, asker())
        return jsonify(names=[target.name for target in targets])
