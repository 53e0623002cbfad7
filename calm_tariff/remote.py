"""What the command line asks of a running installation, over its API, with a service token."""

from __future__ import annotations

import json
import os
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx

from calm_tariff.core.sentences.listing import so_many
from calm_tariff.settings import settings_now

_PAUSE_SECONDS = 0.2


def tariff(what: str, file: str | None, publish: str | None, on: str | None) -> int:
    """`./calm tariff`: the exit status. `diff` exits with 1 where there are differences, as diff does."""
    if what == "schema":
        from calm_tariff.formats.tariff import schema

        print(json.dumps(schema(), indent=1))
        return 0
    if what != "export" and file is None:
        return _fail(f"Say which file: ./calm tariff {what} FILE")

    def ask(client: httpx.Client) -> int:
        if what == "export":
            sys.stdout.write(_asked(client.get("/tariff")).text)
            return 0
        text = sys.stdin.read() if file == "-" else Path(str(file)).read_text(encoding="utf-8")
        if what == "diff":
            return _told(_asked(client.post("/tariff/diff", json={"text": text})).json())
        body = {"text": text, "publish": publish, "on": on}
        applied = _asked(client.post("/tariff/apply", json=body)).json()
        _told(applied["differences"])
        for plan in applied["unpublished"]:
            print(f"{plan}: its new terms are a draft, not published")
        return 0

    return _asking(file, "product manager", ask)


def usage(file: str, source: str, leaving_out: bool) -> int:
    """`./calm usage import`: bring calls in that another gateway counted; the exit status. 1 where rows cannot be used
    and may not be left out: then nothing is recorded."""

    def ask(client: httpx.Client) -> int:
        with Path(file).open("rb") as text:
            named = {"name": Path(file).name, "source": source}
            taken = _asked(client.post("/usage/files", params=named, content=text)).json()
        place = f"/usage/files/{taken['id']}"
        checked = _until(client, place, "checking")
        if checked["stage"] == "refused":
            client.delete(place)
            raise _Refused(checked["why"])
        for row in _every(client, f"{place}/unusable"):
            print(f"line {row['line']}: {row['why']}", file=sys.stderr)
        if checked["unusable"] and not leaving_out:
            client.delete(place)
            return _fail(f"{file}: nothing is recorded. --leave-out records the other {checked['usable']:,}.", 1)
        if not checked["usable"] and not checked["known"]:
            client.delete(place)
            raise _Refused("has nothing that could be recorded")
        _asked(client.put(f"{place}/recording", json={"leaving_out": leaving_out}))
        done = _until(client, place, "recording")
        print(f"{so_many(done['recorded'], 'call')} recorded, {done['known']:,} recorded already")
        if done["differing"]:
            print(f"{so_many(done['differing'], 'call')} set aside, for saying something else than before")
        if done["unusable"]:
            print(f"{so_many(done['unusable'], 'row')} left out as unusable")
        return 0

    return _asking(file, "finance", ask)


def _asking(file: str | None, role: str, ask: Callable[[httpx.Client], int]) -> int:
    """What asking the installation comes to: the exit status, with whatever goes wrong said in a line."""
    token = os.environ.get("CALM_TOKEN", "")
    if not token:
        return _fail(f"Set CALM_TOKEN to a service token; ./calm token LABEL '{role}' makes one.")
    address = os.environ.get("CALM_ADDRESS", f"http://127.0.0.1:{settings_now().web_port}")
    headers = {"Authorization": f"Bearer {token}"}
    try:
        with httpx.Client(base_url=f"{address}/api/v1", headers=headers, timeout=60) as client:
            return ask(client)
    except httpx.TransportError as error:
        return _fail(f"{address} does not answer: {error}")
    except (OSError, UnicodeDecodeError) as error:
        return _fail(f"{file}: cannot be read: {error}")
    except _Refused as refused:
        return _fail(f"{file or address}: {refused}")


def _until(client: httpx.Client, place: str, stage: str) -> dict[str, Any]:
    """A file of usage once it is at that stage no more."""
    said = -1
    while True:
        found: dict[str, Any] = _asked(client.get(place)).json()
        if found["stage"] != stage:
            return found
        if found["done"] != said and found["parts"] > 1:
            said = found["done"]
            print(f"{stage}: {said} of {found['parts']} parts", file=sys.stderr)
        time.sleep(_PAUSE_SECONDS)


def _every(client: httpx.Client, place: str) -> Iterator[dict[str, Any]]:
    cursor: dict[str, str] = {}
    while True:
        page = _asked(client.get(place, params={"rows": 1000, **cursor})).json()
        yield from page["rows"]
        if page["next"] is None:
            return
        cursor = {"cursor": page["next"]}


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


def _fail(words: str, status: int = 2) -> int:
    print(words, file=sys.stderr)
    return status
