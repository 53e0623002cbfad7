"""Logs as one JSON object a line, with nothing in them that could be used as a credential."""

from __future__ import annotations

import faulthandler
import logging
import os
import re
import sys
from collections.abc import MutableMapping
from pathlib import Path
from typing import Any, BinaryIO

import structlog

# Keys and tokens of ours by their prefixes, signed tokens by their shape, and what follows an authorization scheme.
_SECRET = re.compile(
    r"\b(calm(?:key|secret)-(?:live|sandbox)-|l[ts]_(?:live|sand)_|ct[sp]_)[\w-]{6,}|\beyJ[\w-]+\.[\w-]+\.[\w-]*|\b((?:basic|bearer)\s+)[\w.~+/=-]{8,}"
    r"|(://[^:/@\s]+:)[^@/\s]+(?=@)",
    re.IGNORECASE,
)


def without_secrets(text: str) -> str:
    """The text with every credential in it cut short to what tells its kind."""
    return _SECRET.sub(lambda found: f"{found[1] or found[2] or found[3] or ''}…", text)


def opened(path: Path) -> BinaryIO:
    """A log to add to, which nobody but its owner reads."""
    descriptor = os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
    os.fchmod(descriptor, 0o600)  # one that was there before
    return os.fdopen(descriptor, "ab")


def begin(process: str) -> None:
    """Have everything this process logs written to its standard error as JSON; and, should it die of a fault, where
    each of its threads was."""
    faulthandler.enable()
    shared: list[Any] = [
        structlog.stdlib.add_log_level,
        structlog.stdlib.add_logger_name,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        structlog.processors.format_exc_info,
        structlog.processors.EventRenamer("message"),
        lambda _, __, event: {"process": process, **event},
        _redact,
    ]
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=shared,
            processors=[
                structlog.stdlib.ProcessorFormatter.remove_processors_meta,
                structlog.processors.JSONRenderer(),
            ],
        )
    )
    root = logging.getLogger()
    root.handlers = [handler]
    root.setLevel(logging.INFO)
    for noisy in ("httpx", "uvicorn", "uvicorn.error", "uvicorn.access", "aiosmtpd", "mail.log", "alembic"):
        logging.getLogger(noisy).handlers = []
        logging.getLogger(noisy).setLevel(logging.WARNING)
        logging.getLogger(noisy).propagate = True


def _redact(_: Any, __: str, event: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    for name, value in event.items():
        if isinstance(value, str):
            event[name] = without_secrets(value)
    return event
