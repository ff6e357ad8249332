"""What a worker found out, as JSON in the vault, by what it was asked."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from ..store.media_store import MediaStore


def result_of(store: MediaStore, kind: str, details: dict[str, Any]) -> dict[str, Any] | None:
    """What was found, None if nobody has looked."""
    path = store.path(_key(kind, details))
    if not path.exists():
        return None
    found: dict[str, Any] = json.loads(path.read_text("utf-8"))
    return found


def keep_result(
    store: MediaStore, kind: str, details: dict[str, Any], result: dict[str, Any]
) -> None:
    """Keep what was found, whole or not at all."""
    with store.keeping(_key(kind, details)) as part:
        part.write_text(json.dumps(result), "utf-8")


def _key(kind: str, details: dict[str, Any]) -> str:
    name = hashlib.sha256(json.dumps(details, sort_keys=True).encode()).hexdigest()
    return f"{kind}/{name[:2]}/{name}.json"
