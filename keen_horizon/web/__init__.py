"""The web application: one blueprint a screen. Nothing here decodes video."""

from __future__ import annotations

import hashlib
import os
import secrets
from dataclasses import dataclass
from pathlib import Path
from threading import BoundedSemaphore
from typing import cast

from flask import Flask, Response, current_app, request
from flask_wtf.csrf import CSRFProtect

from ..jobs.costs import CostCurves
from ..jobs.frame_cache import FrameCache
from ..jobs.queue import Queue
from ..jobs.solutions import Solver
from ..store.database import Database
from ..store.media_store import MediaStore

UPLOAD_LIMIT = 20 * 10**9  # bytes
STATIC = Path(__file__).parent / "static"
YEAR = 365 * 86400  # seconds
SOLVING = 2  # requests at once
POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data: blob:",
        "font-src 'self'",
        "media-src 'self'",
        "connect-src 'self'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)


@dataclass(frozen=True)
class Services:
    """What the screens stand on."""

    database: Database
    store: MediaStore
    queue: Queue
    solver: Solver
    costs: CostCurves
    frames: FrameCache
    # Whoever solves waits for a turn: many at once, who take the interpreter from each other at
    # every step, take more than twice as long as a few at a time.
    turns: BoundedSemaphore


def services() -> Services:
    """The services of the application that answers the present request."""
    return cast(Services, current_app.extensions["keen"])


def create_app(url: str | None = None, data: Path | None = None) -> Flask:
    """The application on a database (default ``KEEN_DATABASE_URL``) and a data folder
    (default ``KEEN_DATA``)."""
    from . import (
        charts,
        clip,
        cost_curve,
        errors,
        exact,
        export,
        glass,
        house,
        jobs,
        lens,
        lens_profiles,
        library,
        media,
        rolling_shutter,
        scopes,
        tracks,
        treatment,
        uploads,
    )

    url = url or os.environ["KEEN_DATABASE_URL"]
    data = data or Path(os.environ["KEEN_DATA"])
    app = Flask(__name__, static_url_path=f"/static/{edition(STATIC)}")
    app.config.update(
        SECRET_KEY=_secret(data),
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        WTF_CSRF_TIME_LIMIT=None,
        MAX_CONTENT_LENGTH=None,  # uploads are streamed and held to UPLOAD_LIMIT themselves
        MAX_FORM_MEMORY_SIZE=1_000_000,
        UPLOAD_LIMIT=int(os.environ.get("KEEN_UPLOAD_LIMIT", UPLOAD_LIMIT)),
        # A page on another site must not reach us by renaming itself to our address.
        TRUSTED_HOSTS=["127.0.0.1", "localhost", *_listed("KEEN_TRUSTED_HOSTS")],
    )
    store = MediaStore(data / "vault")
    solver = Solver(store)
    app.extensions["keen"] = Services(
        Database(url), store, Queue(url), solver, CostCurves(store, solver), FrameCache(store),
        BoundedSemaphore(SOLVING),
    )  # fmt: skip
    CSRFProtect(app)
    for part in (
        library, clip, treatment, lens, lens_profiles, charts, exact, glass, rolling_shutter,
        scopes, tracks, cost_curve, export, jobs, media,
        house, uploads,
    ):  # fmt: skip
        app.register_blueprint(part.blueprint)
    errors.register(app)
    app.after_request(_guarded)
    app.after_request(_kept)
    return app


def edition(folder: Path) -> str:
    """What stands in a folder, in a few letters: files whose address begins with it never change,
    so that a browser that has them need not ask for them again."""
    told = hashlib.sha256()
    for path in sorted(path for path in folder.rglob("*") if path.is_file()):
        told.update(str(path.relative_to(folder)).encode() + path.read_bytes())
    return told.hexdigest()[:12]


def _kept(response: Response) -> Response:
    if request.endpoint == "static" and response.status_code in (200, 206, 304):
        response.cache_control.no_cache = None
        response.cache_control.public = response.cache_control.immutable = True
        response.cache_control.max_age = YEAR
    return response


def _guarded(response: Response) -> Response:
    response.headers["Content-Security-Policy"] = POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
    response.headers["Cross-Origin-Resource-Policy"] = "same-origin"
    return response


def _listed(name: str) -> list[str]:
    return [host for host in os.environ.get(name, "").split(",") if host]


def _secret(data: Path) -> str:
    """The key that signs sessions, made once and readable by the owner alone."""
    path = data / "secret"
    data.mkdir(parents=True, exist_ok=True)
    if not path.exists():
        with os.fdopen(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC, 0o600), "w") as out:
            out.write(secrets.token_hex(32))
    return path.read_text()
