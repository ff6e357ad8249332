"""The pipeline without a server: ``measure``, ``correct``, ``cost``, ``glass``,
``treatment``, ``lens``."""

from .commands import main

__all__ = ["main"]
