"""Logs: a JSON object a line, with what it is about: the number of the work, or the request."""

from __future__ import annotations

import logging
from contextlib import AbstractContextManager

import structlog
from structlog.typing import Processor

OWN = __name__.partition(".")[0]  # packages of which all that is said is kept, not warnings alone


def set_up() -> None:
    """Write what this process logs to its standard error. Whatever uses ``logging`` takes part:
    what is given as ``extra`` becomes fields."""
    every: list[Processor] = [
        structlog.contextvars.merge_contextvars,
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.stdlib.ExtraAdder(),
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.processors.format_exc_info,
    ]
    form = structlog.stdlib.ProcessorFormatter(
        foreign_pre_chain=every,
        processors=[
            structlog.stdlib.ProcessorFormatter.remove_processors_meta,
            structlog.processors.EventRenamer("said"),
            structlog.processors.JSONRenderer(ensure_ascii=False),
        ],
    )
    handler = logging.StreamHandler()
    handler.setFormatter(form)
    logging.getLogger().handlers = [handler]
    server = logging.getLogger("gunicorn.error")  # which has handlers of its own
    server.handlers, server.propagate = [handler], False
    logging.getLogger().setLevel(logging.WARNING)
    logging.getLogger(OWN).setLevel(logging.INFO)


def about(**what: object) -> AbstractContextManager[None]:
    """Add fields, as ``work=12``, to all that is logged within."""
    return structlog.contextvars.bound_contextvars(**what)
