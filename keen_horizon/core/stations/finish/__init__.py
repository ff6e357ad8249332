"""Finish: the delivered picture, made no sharper than it was.

``settings`` say how much; ``sharpen`` is what scaling takes, and the stage that puts it back;
``grain`` puts back noise that drawing smoothed away;
``station`` says what it does.
"""

from .settings import FinishSettings
from .station import FINISH

__all__ = ["FINISH", "FinishSettings"]
