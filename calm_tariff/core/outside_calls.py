"""Calls that another gateway counted: what has to be known of one before it can be metered and charged as our own.

Source: docs/arithmetic.md, section 6.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Literal, NamedTuple

from calm_tariff.core.errors import Invalid
from calm_tariff.core.periods import HOUR

LONGEST_SOURCE, LONGEST_ID, LONGEST_PATH, LONGEST_REPORTED = 60, 200, 400, 100
MOST_REPORTED = 20
# A size in bytes that any response could have.
MOST_BYTES = 10**15
# Clocks of other machines may be ahead by so much.
AHEAD = HOUR
_METHODS = frozenset({"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE"})
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_MICROSECOND = timedelta(microseconds=1)
NONE_REPORTED: Mapping[str, str] = {}

# How far a file of such calls is. See `services.serve.elsewhere`.
Stage = Literal["checking", "checked", "recording", "stopped", "done", "refused"]


class Said(NamedTuple):
    """A call as its source says it, each part as text; empty for what it does not say. A tuple, because files have a
    million of them.

    Whose it is is said by `credential` (the visible beginning of a key, or a client id with its secret) or by
    `application` (its client id). What it was for is said by `operation`, a method and a path, which may hold the
    document's `{parameters}`, or by `method` and `path`; by `api`, too, where several versions have the same paths.
    """

    source: str
    id: str
    time: str
    credential: str = ""
    application: str = ""
    operation: str = ""
    method: str = ""
    path: str = ""
    api: str = ""
    status: str = ""
    verdict: str = ""
    bytes_in: str = ""
    bytes_out: str = ""


class OutsideCall(NamedTuple):
    """A call that another gateway let through or refused, at an instant in µs since the epoch. `reported` are numbers
    that its back end reported, by header in small letters, as they came."""

    source: str
    id: str
    at_us: int
    credential: str
    application: str
    method: str
    path: str
    api: str
    status: int
    refused: bool
    bytes_in: int
    bytes_out: int
    reported: Mapping[str, str]


def read(said: Sequence[str], reported: Mapping[str, str] = NONE_REPORTED) -> OutsideCall:
    """A call from what is said of it: a `Said`, or its parts in their order. Raises `Invalid`, naming the part that is
    missing or wrong."""
    source, identifier, time, credential, application, operation, method, path, api, status, verdict, sent, got = said
    if not source or not identifier or len(source) > LONGEST_SOURCE or len(identifier) > LONGEST_ID:
        raise _wrong_name(Said(*said))
    if not (source.isprintable() and identifier.isprintable()):
        raise Invalid("holds a character that cannot be seen", "id" if source.isprintable() else "source")
    if not credential and not application:
        raise Invalid("say whose call it was: a credential, or an application by its client id", "application")
    if operation:
        method, _, path = operation.partition(" ")
    if "?" in path:  # a query may hold a credential, and leads nowhere else
        path = path.partition("?")[0]
    if method not in _METHODS or not path.startswith("/") or len(path) > LONGEST_PATH or not path.isprintable():
        raise _wrong_path(method, path, "operation" if operation else "")
    if len(status) != 3 or not status.isdecimal() or not "1" <= status[0] <= "5":
        raise Invalid("must be an HTTP status code, from 100 to 599", "status")
    if verdict not in ("", "served", "refused"):
        raise Invalid("must be served or refused; without it, the call was served", "verdict")
    return OutsideCall(
        source,
        identifier,
        instant(time),
        credential,
        application,
        method,
        path,
        api,
        int(status),
        verdict == "refused",
        _size(sent, "bytes_in") if sent else 0,
        _size(got, "bytes_out") if got else 0,
        _checked(reported) if reported else NONE_REPORTED,
    )


def instant(text: str, field: str = "time") -> int:
    """An instant in µs since the epoch from a date and time with its offset (RFC 3339). Raises `Invalid`."""
    try:
        moment = datetime.fromisoformat(text)
        return (moment - _EPOCH) // _MICROSECOND
    except TypeError:
        raise Invalid("has no offset from UTC: write it as 2026-09-30T23:59:59+01:00", field) from None
    except (ValueError, OverflowError):
        raise Invalid("is no time as 2026-09-30T23:59:59Z (RFC 3339)" if text else "is missing", field) from None


def must_be_told_apart(call: OutsideCall, kept_from_us: int, now_us: int) -> None:
    """Raise `Invalid` for a call of which nobody can say whether it was counted already, because calls of then are not
    kept any more, and for one that is yet to come."""
    if call.at_us > now_us + AHEAD:
        raise Invalid("is yet to come", "time")
    if call.at_us < kept_from_us:
        what = "is from when calls are not kept any more, and nobody could tell whether it was counted already"
        raise Invalid(what, "time")


def _wrong_name(said: Said) -> Invalid:
    for name, text, most in (("source", said.source, LONGEST_SOURCE), ("id", said.id, LONGEST_ID)):
        if not text:
            return Invalid("is missing", name)
        if len(text) > most:
            return Invalid(f"must be at most {most} characters long", name)
    raise AssertionError("one of them is wrong")


def _wrong_path(method: str, path: str, field: str) -> Invalid:
    if method not in _METHODS:
        wrong = "is missing" if not method else f"{method[:20]!r} is no method such as GET"
        return Invalid(wrong, field or "method")
    if len(path) > LONGEST_PATH:
        return Invalid(f"must be at most {LONGEST_PATH} characters long", field or "path")
    return Invalid("must be a path as it was called, such as /tides/v1/stations", field or "path")


def _size(text: str, field: str) -> int:
    if not (text.isascii() and text.isdecimal()) or len(text) > 16 or int(text) > MOST_BYTES:
        raise Invalid("must be a whole number of bytes", field)
    return int(text)


def _checked(reported: Mapping[str, str]) -> Mapping[str, str]:
    if len(reported) > MOST_REPORTED:
        raise Invalid(f"at most {MOST_REPORTED} reported numbers fit", "reported")
    for name, text in reported.items():
        if len(name) > LONGEST_REPORTED or len(text) > LONGEST_REPORTED or not (name + text).isprintable():
            raise Invalid(f"must be at most {LONGEST_REPORTED} printable characters", f"reported:{name[:40]}")
    return {name.lower(): text for name, text in reported.items() if text}
