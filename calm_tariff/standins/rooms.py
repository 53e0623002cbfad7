"""Two who are told things: a chat room that can be read, and a listener that keeps the webhooks it gets.

The listener answers as it is told to; what it refuses it keeps apart.
"""

from __future__ import annotations

import html
import json
from collections import deque
from datetime import UTC, datetime
from typing import Any

from fastapi import APIRouter, HTTPException, Request
from fastapi.responses import HTMLResponse
from pydantic import BaseModel, Field

KEPT = 1000
_STYLE = (
    "body{background:#F6F3EC;color:#1E2B2A;font:15px/1.5 system-ui,sans-serif;max-width:760px;margin:40px auto;"
    "padding:0 16px}article{border-top:1px solid #DDD6C8;padding:10px 0}.at{color:#5C6865;margin:0;font-size:13px}"
    "p{margin:2px 0}pre{white-space:pre-wrap;overflow-wrap:anywhere;font-size:12.5px;margin:4px 0}"
)


class Message(BaseModel):
    """A message for a chat room."""

    text: str = Field(min_length=1, max_length=10_000)


class Mood(BaseModel):
    """How the listener answers: with this status, as long as it is not told otherwise."""

    status: int = Field(default=204, ge=200, le=599)


def router() -> APIRouter:
    """The chat's rooms under /chat, and the listener under /listener."""
    made = APIRouter()
    rooms: dict[str, deque[dict[str, str]]] = {}
    heard: deque[dict[str, Any]] = deque(maxlen=KEPT)
    mood = Mood()

    @made.post("/chat/rooms/{room}", status_code=204)
    async def say(room: str, message: Message) -> None:
        kept = rooms.setdefault(room, deque(maxlen=KEPT))
        kept.append({"at": _now(), "text": message.text})

    @made.get("/chat/rooms/{room}.json")
    async def read(room: str) -> Any:
        return list(rooms.get(room, ()))

    @made.get("/chat/rooms/{room}", response_class=HTMLResponse)
    async def room_page(room: str) -> str:
        said = [(one["at"], f"<p>{html.escape(one['text'])}</p>") for one in rooms.get(room, ())]
        return _page(f"Chat room {room}", said, "Nobody has said anything yet.")

    @made.put("/listener/mood")
    async def set_mood(wanted: Mood) -> Mood:
        mood.status = wanted.status
        return mood

    @made.post("/listener")
    async def listen(request: Request) -> Any:
        body = (await request.body()).decode("utf-8", "replace")
        fields = {name: value for name, value in request.headers.items() if name.startswith("webhook-")}
        taken = mood.status < 300
        heard.append({"at": _now(), "taken": taken, "fields": fields, "body": body})
        if not taken:
            raise HTTPException(mood.status, "not now")
        return {"taken": fields.get("webhook-id")}

    @made.get("/listener.json")
    async def all_heard() -> Any:
        return list(heard)

    @made.get("/listener", response_class=HTMLResponse)
    async def page() -> str:
        said = [(one["at"], _heard(one)) for one in heard]
        return _page("Listener", said, "No webhook has come yet.")

    return made


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _heard(one: dict[str, Any]) -> str:
    try:
        shown = json.dumps(json.loads(one["body"]), indent=1, ensure_ascii=False)
    except ValueError:
        shown = one["body"]
    what = "taken" if one["taken"] else "not taken"
    return (
        f"<p>{html.escape(one['fields'].get('webhook-id', 'without an id'))}: {what}</p><pre>{html.escape(shown)}</pre>"
    )


def _page(title: str, said: list[tuple[str, str]], empty: str) -> str:
    rows = "".join(f"<article><p class=at>{at}</p>{words}</article>" for at, words in reversed(said))
    title = html.escape(title)
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><title>{title}</title><style>{_STYLE}</style>"
        f"<main><h1>{title}</h1>{rows or f'<p>{empty}</p>'}</main></html>"
    )
