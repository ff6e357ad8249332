"""Single pictures of a recording, looked at closely: kept in the vault by a worker, because the web
process decodes nothing."""

from __future__ import annotations

import hashlib
import json

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.errors import KeenError
from ..core.media.decode import eight_bits, frame_at
from ..core.media.probe import Scan
from ..core.stations.lens.propose import proposals
from ..core.stations.lens.trace import gradients
from ..store.media_store import MediaStore
from ..store.models import Recording
from .cache import BoundedCache
from .kind import QUICK, JobKind, Task
from .vault import MEGABYTE

Slopes = tuple[NDArray[np.float32], NDArray[np.float32]]


class FrameCache:
    """Finds single frames' luma, its gradients, and the edges proposed in it. Thread-safe."""

    def __init__(self, store: MediaStore) -> None:
        self._store = store
        self._slopes: BoundedCache[Slopes] = BoundedCache(64 * MEGABYTE)

    def is_there(self, recording: Recording, frame: int) -> bool:
        return self._store.path(_key(recording, frame, "json")).exists()

    def take(self, recording: Recording, scan: Scan, frame: int) -> None:
        """Decode a frame and find edges in it: a worker's part."""
        source = self._store.path(recording.source_key)
        picture = frame_at(source, scan, frame, luma_only=True)
        luma = eight_bits(picture.planes[0])
        size = np.array([luma.shape[1], luma.shape[0]])
        done, data = cv2.imencode(".png", luma, [cv2.IMWRITE_PNG_COMPRESSION, 2])
        if not done:
            raise KeenError("a picture could not be kept.")
        with self._store.keeping(_key(recording, frame, "png")) as part:
            part.write_bytes(data.tobytes())
        found = [((t.points + 0.5) / size).round(6).tolist() for t in proposals(luma)]
        with self._store.keeping(_key(recording, frame, "json")) as part:
            part.write_text(json.dumps(found), "utf-8")

    def proposed(self, recording: Recording, frame: int) -> list[list[list[float]]]:
        """The edges found in a frame, as shares of the picture's size."""
        path = self._store.path(_key(recording, frame, "json"))
        found: list[list[list[float]]] = json.loads(path.read_text("utf-8"))
        return found

    def slopes(self, recording: Recording, frame: int) -> Slopes:
        """As :func:`.gradients`, of a frame that has been taken."""
        path = self._store.path(_key(recording, frame, "png"))

        def read() -> Slopes:
            luma = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE)
            if luma is None:
                raise KeenError(f"the picture of frame {frame} is gone.", remedy="Try again.")
            return gradients(np.asarray(luma, np.uint8))

        return self._slopes.find(str(path), read)


def _key(recording: Recording, frame: int, kind: str) -> str:
    digest = hashlib.sha256(f"{recording.source_key} {frame}".encode()).hexdigest()
    return f"looks/{digest[:2]}/{digest}.{kind}"


def look(task: Task) -> None:
    FrameCache(task.store).take(task.recording, task.scan, int(task.details["frame"]))


LOOK = JobKind("look", QUICK, "Looking at", look, replaceable=True, passing=True)
