"""The computation on the command line, without a server or a database."""

from .commands import main

__all__ = ["main"]
