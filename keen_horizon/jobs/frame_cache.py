"""Single pictures of a recording, looked at closely: kept in the vault by a worker, because the web
process decodes nothing."""

from __future__ import annotations

import hashlib
import json

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.errors import KeenError
from ..core.lens.propose import proposals
from ..core.lens.trace import gradients
from ..core.media.decode import eight_bits, frames
from ..core.media.probe import Scan
from ..store.media_store import MediaStore
from ..store.models import Recording
from .lru_cache import Recent

Slopes = tuple[NDArray[np.float32], NDArray[np.float32]]


class FrameCache:
    """Finds single frames' luma, its gradients, and the edges proposed in it. Thread-safe."""

    def __init__(self, vault: MediaStore) -> None:
        self._vault = vault
        self._slopes: Recent[Slopes] = Recent(4)

    def is_there(self, recording: Recording, frame: int) -> bool:
        return self._vault.path(_key(recording, frame, "json")).exists()

    def take(self, recording: Recording, scan: Scan, frame: int) -> None:
        """Decode a frame and find edges in it: a worker's part."""
        source = self._vault.path(recording.source_key)
        picture = next(iter(frames(source, scan, frame, frame, luma_only=True)))
        luma = eight_bits(picture.planes[0])
        size = np.array([luma.shape[1], luma.shape[0]])
        done, data = cv2.imencode(".png", luma, [cv2.IMWRITE_PNG_COMPRESSION, 2])
        if not done:
            raise KeenError("a picture could not be kept.")
        with self._vault.keeping(_key(recording, frame, "png")) as part:
            part.write_bytes(data.tobytes())
        found = [((t.points + 0.5) / size).round(6).tolist() for t in proposals(luma)]
        with self._vault.keeping(_key(recording, frame, "json")) as part:
            part.write_text(json.dumps(found), "utf-8")

    def proposed(self, recording: Recording, frame: int) -> list[list[list[float]]]:
        """The edges found in a frame, as shares of the picture's size."""
        path = self._vault.path(_key(recording, frame, "json"))
        found: list[list[list[float]]] = json.loads(path.read_text("utf-8"))
        return found

    def slopes(self, recording: Recording, frame: int) -> Slopes:
        """As :func:`.gradients`, of a frame that has been taken."""
        key = _key(recording, frame, "png")
        found = self._slopes.get(key)
        if found is None:
            luma = cv2.imread(str(self._vault.path(key)), cv2.IMREAD_GRAYSCALE)
            if luma is None:
                raise KeenError(f"the picture of frame {frame} is gone.", remedy="Try again.")
            found = gradients(np.asarray(luma, np.uint8))
            self._slopes.put(key, found)
        return found


def _key(recording: Recording, frame: int, kind: str) -> str:
    digest = hashlib.sha256(f"{recording.source_key} {frame}".encode()).hexdigest()
    return f"looks/{digest[:2]}/{digest}.{kind}"
