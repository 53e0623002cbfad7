"""What the command line asks of a running installation, over its API, with a service token."""

from __future__ import annotations

import json
import os
import sys
from pathlib import Path
from typing import Any

import httpx

from calm_tariff.settings import settings_now


def tariff(what: str, file: str | None, publish: str | None, on: str | None) -> int:
    """`./calm tariff`: the exit status. `diff` exits with 1 where there are differences, as diff does."""
    if what == "schema":
        from calm_tariff.formats.tariff import schema

        print(json.dumps(schema(), indent=1))
        return 0
    token = os.environ.get("CALM_TOKEN", "")
    if not token:
        return _fail("Set CALM_TOKEN to a service token; ./calm token LABEL 'product manager' makes one.")
    address = os.environ.get("CALM_ADDRESS", f"http://127.0.0.1:{settings_now().web_port}")
    if what != "export" and file is None:
        return _fail(f"Say which file: ./calm tariff {what} FILE")
    headers = {"Authorization": f"Bearer {token}"}
    try:
        with httpx.Client(base_url=f"{address}/api/v1", headers=headers, timeout=60) as client:
            if what == "export":
                sys.stdout.write(_asked(client.get("/tariff")).text)
                return 0
            text = sys.stdin.read() if file == "-" else Path(str(file)).read_text(encoding="utf-8")
            if what == "diff":
                return _told(_asked(client.post("/tariff/diff", json={"text": text})).json())
            body = {"text": text, "publish": publish, "on": on}
            applied = _asked(client.post("/tariff/apply", json=body)).json()
    except httpx.TransportError as error:
        return _fail(f"{address} does not answer: {error}")
    except (OSError, UnicodeDecodeError) as error:
        return _fail(f"{file}: cannot be read: {error}")
    except _Refused as refused:
        return _fail(f"{file or address}: {refused}")
    _told(applied["differences"])
    for plan in applied["unpublished"]:
        print(f"{plan}: its new terms are a draft, not published")
    return 0


class _Refused(Exception):
    """The installation said no, and why."""


def _asked(answer: httpx.Response) -> httpx.Response:
    if answer.is_success:
        return answer
    try:
        problem = answer.json()
    except ValueError:
        raise _Refused(f"answered {answer.status_code}") from None
    where = f"{problem['where']}: " if problem.get("where") else ""
    raise _Refused(f"{where}{problem.get('detail', answer.status_code)}")


def _told(differences: list[dict[str, Any]]) -> int:
    for difference in differences:
        print(f"{difference['where']}: {difference['what']}")
    return 1 if differences else 0


def _fail(words: str) -> int:
    print(words, file=sys.stderr)
    return 2
