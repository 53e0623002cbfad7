"""Calls as an HTTP archive (HAR 1.2), which many HTTP clients read: each as it can be sent, and as it is answered for
instance."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import datetime
from http import HTTPStatus
from typing import Any
from urllib.parse import quote, urlencode

from calm_tariff.formats.openapi_reference import Body, Reference


@dataclass(frozen=True, slots=True, kw_only=True)
class Sample:
    """A call to begin with: where it goes (`path` below `base`, with its parameters in braces), what its document says
    of it, and the headers that go with every call."""

    method: str
    base: str
    path: str
    summary: str
    described: Reference | None
    headers: dict[str, str] = field(default_factory=dict)


def archive(name: str, samples: Iterable[Sample], at: datetime) -> dict[str, Any]:
    """The archive of calls called `name`. Nothing of it was sent: durations are none, and `at` is when it was made."""
    return {
        "log": {
            "version": "1.2",
            "creator": {"name": "Calm Tariff", "version": "1"},
            "comment": name,
            "entries": [_entry(sample, at) for sample in samples],
        }
    }


def _entry(sample: Sample, at: datetime) -> dict[str, Any]:
    return {
        "startedDateTime": at.isoformat(),
        "time": 0,
        "request": _request(sample),
        "response": _response(sample),
        "cache": {},
        "timings": {"send": 0, "wait": 0, "receive": 0},
        "comment": sample.summary,
    }


def _request(sample: Sample) -> dict[str, Any]:
    said = sample.described
    path, query, headers = sample.path, [], dict(sample.headers)
    for parameter in said.parameters if said else ():
        name = parameter.value.name
        if parameter.place == "path":
            path = path.replace(f"{{{name}}}", quote(parameter.sample, safe=""))
        elif parameter.value.required and parameter.place == "query":
            values = parameter.sample.split(",") if parameter.repeats else [parameter.sample]
            query += [(name, value) for value in values]
        elif parameter.value.required and parameter.place == "header":
            headers[name] = parameter.sample
    body = _chosen(said.bodies) if said else None
    made: dict[str, Any] = {
        "method": sample.method,
        "url": f"{sample.base}{path}{'?' if query else ''}{urlencode(query)}",
        "httpVersion": "HTTP/1.1",
        "cookies": [],
        "queryString": [{"name": name, "value": value} for name, value in query],
        "headersSize": -1,
        "bodySize": -1,
    }
    if body is not None and body.sample is not None:
        headers["Content-Type"] = body.media_type
        made["postData"] = {"mimeType": body.media_type, "text": body.sample}
    made["headers"] = [{"name": name, "value": value} for name, value in headers.items()]
    return made


def _response(sample: Sample) -> dict[str, Any]:
    answers = [a for a in sample.described.answers if a.status.isdigit()] if sample.described else []
    answer = next((a for a in answers if a.status.startswith("2")), None)
    status = int(answer.status) if answer else 0
    body = _chosen(answer.bodies) if answer else None
    text = body.example if body else None
    return {
        "status": status,
        "statusText": HTTPStatus(status).phrase if status in HTTPStatus._value2member_map_ else "",
        "httpVersion": "HTTP/1.1",
        "cookies": [],
        "headers": [],
        "content": {
            "size": len((text or "").encode()),
            "mimeType": body.media_type if body else "",
            **({"text": text} if text is not None else {}),
        },
        "redirectURL": "",
        "headersSize": -1,
        "bodySize": -1,
    }


def _chosen(bodies: list[Body]) -> Body | None:
    """JSON, if it is among them."""
    return next((b for b in bodies if "json" in b.media_type), bodies[0] if bodies else None)
