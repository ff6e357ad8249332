"""What was worked out once, kept in the vault under a name made of what it depends on."""

from __future__ import annotations

import hashlib
import json
from typing import TypeVar

from ..core import stored
from ..store.media_store import MediaStore

EDITION = 16  # to be raised when anything comes out differently: all that is kept is then made anew
MEGABYTE = 1_000_000
Kept = TypeVar("Kept")


def vault_key(kind: str, *known: object) -> str:
    """Where something of a ``kind`` is kept that depends on what is ``known``: JSON data."""
    name = hashlib.sha256(json.dumps([EDITION, *known]).encode()).hexdigest()
    return f"{kind}/{name[:2]}/{name}.npz"


def kept_in(store: MediaStore, key: str, kind: type[Kept]) -> Kept | None:
    """What lies in the vault; None if nothing does, or what an earlier version could read."""
    return stored.known(store.path(key), kind)


def keep(store: MediaStore, key: str, value: object) -> None:
    """Keep a value of stored classes, whole or not at all."""
    with store.keeping(key) as part:
        stored.save(value, part)
