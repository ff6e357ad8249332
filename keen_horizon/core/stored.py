"""Dataclasses to named arrays and back, so that what was worked out once can be kept in a file.

A class says that it may be stored by the decorator :func:`stored`; nothing lists fields by hand.
Values are arrays, numbers, text, None, tuples, dictionaries of JSON data, and stored dataclasses.
No pickle: a file from elsewhere can hold data only.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any, TypeVar
from zipfile import BadZipFile

import numpy as np

from .types import AnyArray

_CLASSES: dict[str, type] = {}
_KIND, _COUNT, _BITS, _JSON = "@", "#", "?", "{}"
Class = TypeVar("Class", bound=type)
Value = TypeVar("Value")


def stored(cls: Class) -> Class:
    """Let instances of a dataclass be stored, under the class's name."""
    if _CLASSES.setdefault(cls.__name__, cls).__qualname__ != cls.__qualname__:
        raise TypeError(f"two stored classes are called {cls.__name__}")
    _CLASSES[cls.__name__] = cls
    return cls


def to_arrays(value: Any, name: str = "") -> dict[str, AnyArray]:
    """Named arrays that :func:`from_arrays` turns into an equal value."""
    if value is None:
        return {}
    if is_dataclass(value) and not isinstance(value, type):
        if type(value).__name__ not in _CLASSES:
            raise TypeError(f"{type(value).__name__} is not a stored class")
        out: dict[str, AnyArray] = {f"{name}{_KIND}": np.array(type(value).__name__)}
        for field in fields(value):
            if field.init:
                out |= to_arrays(getattr(value, field.name), f"{name}.{field.name}")
        return out
    if isinstance(value, tuple | list):
        out = {f"{name}{_COUNT}": np.array(len(value))}
        for k, item in enumerate(value):
            out |= to_arrays(item, f"{name}.{k}")
        return out
    if isinstance(value, dict):
        return {f"{name}{_JSON}": np.array(json.dumps(value))}
    array = np.asarray(value)
    if array.dtype == bool and array.ndim == 1:
        return {f"{name}{_BITS}": np.packbits(array), f"{name}{_COUNT}": np.array(len(array))}
    return {name: array}


def from_arrays(arrays: Mapping[str, AnyArray], name: str = "") -> Any:
    """The value of :func:`to_arrays`; None where there is nothing. Raises KeyError for a class that
    is not (or no longer) known."""
    if f"{name}{_KIND}" in arrays:
        cls = _CLASSES[str(arrays[f"{name}{_KIND}"])]
        return cls(
            **{
                field.name: from_arrays(arrays, f"{name}.{field.name}")
                for field in fields(cls)
                if field.init
            }
        )
    if f"{name}{_BITS}" in arrays:
        count = int(arrays[f"{name}{_COUNT}"])
        return np.unpackbits(arrays[f"{name}{_BITS}"], count=count).astype(bool)
    if f"{name}{_COUNT}" in arrays:
        return tuple(
            from_arrays(arrays, f"{name}.{k}") for k in range(int(arrays[f"{name}{_COUNT}"]))
        )
    if f"{name}{_JSON}" in arrays:
        return json.loads(str(arrays[f"{name}{_JSON}"]))
    value = arrays.get(name)
    return value.item() if value is not None and value.ndim == 0 else value


def size_of(value: Any) -> int:
    """About how many bytes a value takes in memory: those of its arrays. What is mapped from a file
    is not counted; it makes room by itself."""
    if isinstance(value, np.memmap):
        return 0
    if isinstance(value, np.ndarray):
        return int(value.nbytes)
    if is_dataclass(value) and not isinstance(value, type):
        return 64 + sum(size_of(getattr(value, field.name, None)) for field in fields(value))
    if isinstance(value, tuple | list):
        return 64 + sum(size_of(item) for item in value)
    if isinstance(value, dict):
        return 64 + sum(size_of(item) for item in value.values())
    return 64


def save(value: Any, path: Path) -> None:
    """Write a value as an ``.npz`` file."""
    with path.open("wb") as out:
        np.savez(out, allow_pickle=False, **{f"v{k}": v for k, v in to_arrays(value).items()})


def load(path: Path, kind: type[Value]) -> Value:
    """The value that :func:`save` wrote. Raises ValueError if it is not of that ``kind``."""
    with np.load(path, allow_pickle=False) as kept:
        value = from_arrays({name[1:]: kept[name] for name in kept.files})
    if not isinstance(value, kind):
        raise ValueError(f"{path.name} holds no {kind.__name__}")
    return value


def known(path: Path, kind: type[Value]) -> Value | None:
    """As :func:`load`; None if nothing is there, or only what was broken off, or what an earlier
    version could read."""
    try:
        return load(path, kind)
    except (FileNotFoundError, BadZipFile, EOFError, KeyError, TypeError, ValueError):
        return None
