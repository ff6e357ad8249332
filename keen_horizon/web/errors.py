"""Errors as pages for people and as JSON for scripts."""

from __future__ import annotations

import logging

from flask import Flask, jsonify, render_template, request
from flask.typing import ResponseReturnValue
from flask_wtf.csrf import CSRFError
from werkzeug.exceptions import HTTPException

from ..core.errors import KeenError, NoRoom
from ..store.library import NotFound
from ..store.media_store import TooLarge

log = logging.getLogger(__name__)
_TITLES = {
    400: "That could not be understood",
    404: "There is nothing here",
    405: "That cannot be done here",
    413: "Too large",
    507: "The disk is full",
}


def register(app: Flask) -> None:
    app.register_error_handler(KeenError, _keen)
    app.register_error_handler(CSRFError, _expired)
    app.register_error_handler(HTTPException, _http)
    app.register_error_handler(Exception, _unexpected)


def _status(error: KeenError) -> int:
    for kind, status in ((NotFound, 404), (TooLarge, 413), (NoRoom, 507)):
        if isinstance(error, kind):
            return status
    return 400


def _keen(error: KeenError) -> ResponseReturnValue:
    return _answer(_status(error), error.message)


def _expired(error: CSRFError) -> ResponseReturnValue:
    return _answer(400, "This page is out of date. Load it again.")


def _http(error: HTTPException) -> ResponseReturnValue:
    status = error.code or 500
    text = "The address may be old." if status == 404 else (error.description or "")
    return _answer(status, text)


def _unexpected(error: Exception) -> ResponseReturnValue:
    log.exception("request failed: %s", request.path)
    return _answer(500, "Something went wrong that should not have. The log says more; try again.")


def _answer(status: int, message: str) -> ResponseReturnValue:
    if request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html":
        title = _TITLES.get(status, "That did not work")
        text = message[:1].upper() + message[1:]
        return render_template("error.html", title=title, message=text, status=status), status
    return jsonify(error=message), status
