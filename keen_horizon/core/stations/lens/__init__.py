"""Lens: straight rays that a lens bent, made straight again.

``settings`` and ``optics`` say which lens; ``station`` what it adds and says; ``trace``,
``propose`` and ``edges`` find it from straight edges, ``chart`` from chessboards (``printed``
draws one); ``profile`` keeps it for other clips.
"""

from .settings import LensSettings, StraightEdge
from .station import LENS

__all__ = ["LENS", "LensSettings", "StraightEdge"]
