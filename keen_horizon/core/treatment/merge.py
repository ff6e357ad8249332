"""Changes that two people made to the same treatment, put together setting by setting."""

from __future__ import annotations

from typing import Any

from .files import parse
from .model import Treatment


def merged(base: Treatment, mine: Treatment, theirs: Treatment) -> tuple[Treatment, list[str]]:
    """What both made of ``base``; and the labels of settings that both changed, each otherwise, of
    which ``theirs`` stay.

    >>> from ..stations.motion import MOTION
    >>> base = Treatment()
    >>> mine, theirs = base.changed(MOTION, calm=50.0), base.changed(MOTION, ease=10.0)
    >>> both, against = merged(base, mine, theirs)
    >>> both.of(MOTION).calm, both.of(MOTION).ease, against
    (50.0, 10.0, [])
    >>> merged(base, mine, base.changed(MOTION, calm=60.0))[1]
    ['Calm']
    """
    own, was, other = (_flat(one) for one in (mine, base, theirs))
    found, against = dict(other), []
    for name in own.keys() | was.keys():
        changed = own.get(name)
        if changed == was.get(name) or changed == other.get(name):
            continue
        if other.get(name) != was.get(name):
            against.append(_label(name))
        elif name in own:
            found[name] = changed
        else:
            found.pop(name, None)
    return parse(_nested(found, theirs)), sorted(set(against))


def changed_labels(before: Treatment, after: Treatment) -> list[str]:
    """The labels of settings that differ."""
    one, other = _flat(before), _flat(after)
    names = one.keys() | other.keys()
    return sorted({_label(name) for name in names if one.get(name) != other.get(name)})


def _flat(treatment: Treatment) -> dict[tuple[str, str], Any]:
    """Values by station and setting, and keyframes by the name of what they are of."""
    return {
        (part, name): value
        for part, values in treatment.as_data().items()
        if isinstance(values, dict)
        for name, value in values.items()
    }


def _nested(flat: dict[tuple[str, str], Any], like: Treatment) -> dict[str, Any]:
    data = {
        part: {} if isinstance(values, dict) else values for part, values in like.as_data().items()
    }
    for (part, name), value in flat.items():
        data[part][name] = value
    return data


def _label(name: tuple[str, str]) -> str:
    part, setting = name[1].split(".") if name[0] == "keys" else name
    return str(type(getattr(Treatment(), part)).model_fields[setting].title or setting)
