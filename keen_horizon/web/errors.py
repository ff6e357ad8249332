"""Errors as pages for people and as JSON for scripts."""

from __future__ import annotations

import errno
import logging

from flask import Flask, jsonify, render_template, request
from flask.typing import ResponseReturnValue
from flask_wtf.csrf import CSRFError
from psycopg.errors import DiskFull
from sqlalchemy.exc import DataError, DBAPIError, InterfaceError, OperationalError
from werkzeug.exceptions import HTTPException

from ..core.errors import FULL, KeenError, NoRoom, disk_errors
from ..store.library import NotFound
from ..store.media_store import TooLarge
from ..store.treatments import Overtaken
from . import services

log = logging.getLogger(__name__)
SHUT = (errno.EROFS, errno.EIO, errno.EACCES, errno.EPERM)
_TITLES = {
    400: "That could not be understood",
    404: "There is nothing here",
    405: "That cannot be done here",
    409: "Somebody was quicker",
    413: "Too large",
    503: "One moment",
    507: "The disk is full",
}


def register(app: Flask) -> None:
    app.register_error_handler(KeenError, _keen)
    app.register_error_handler(CSRFError, _expired)
    app.register_error_handler(HTTPException, _http)
    app.register_error_handler(DBAPIError, _database)
    app.register_error_handler(OSError, _disk)
    app.register_error_handler(Exception, _unexpected)


def _status(error: KeenError) -> int:
    for kind, status in ((NotFound, 404), (Overtaken, 409), (TooLarge, 413), (NoRoom, 507)):
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


def _database(error: DBAPIError) -> ResponseReturnValue:
    """What the database says: that it is full, that a value is none for it, or nothing at all."""
    if isinstance(error.orig, DiskFull):
        return _answer(507, "The disk is full, so it could not be kept. Make room and try again.")
    if isinstance(error, DataError):
        return _answer(400, "There is a value in the request that cannot be kept.")
    if isinstance(error, OperationalError | InterfaceError):
        log.warning("the database is away: %s", error, extra=_request())
        return _answer(503, "The database is away; it is being started again. Try in a moment.")
    return _unexpected(error)


def _disk(error: OSError) -> ResponseReturnValue:
    """What a store says that is full, or cannot be written."""
    if error.errno not in (*FULL, *SHUT):
        return _unexpected(error)
    try:
        with disk_errors(services().store.root, about="The media store"):
            raise error
    except KeenError as told:
        return _keen(told)
    except OSError:
        return _unexpected(error)


def _unexpected(error: Exception) -> ResponseReturnValue:
    log.exception("a request failed", extra=_request())
    return _answer(500, "Something went wrong that should not have. The log says more; try again.")


def _request() -> dict[str, str]:
    """Which one it is, for the log."""
    return {"method": request.method, "path": request.path}


def _answer(status: int, message: str) -> ResponseReturnValue:
    if request.accept_mimetypes.best_match(["application/json", "text/html"]) == "text/html":
        title = _TITLES.get(status, "That did not work")
        text = message[:1].upper() + message[1:]
        return render_template("error.html", title=title, message=text, status=status), status
    return jsonify(error=message), status
