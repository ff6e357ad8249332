"""The application as a web server asks for it."""

from __future__ import annotations

from flask import Flask

from ..logs import set_up
from . import create_app


def app() -> Flask:
    """The application, its logs set up."""
    set_up()
    return create_app()
