"""Idempotency: the same key from the same actor gets the same answer, once done."""

from __future__ import annotations

import hashlib
from typing import Any

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.record import IdempotentAnswer


def answered(session: Session, ctx: Context, key: str | None, request: str) -> dict[str, Any] | None:
    """The answer given before to this key, if any; otherwise the key is held until the transaction ends, and whoever
    asks with it meanwhile waits and gets the same answer. Raises `Conflict` where the request was another."""
    if not key:
        return None
    who = ctx.actor.identity
    held = insert(IdempotentAnswer).values(actor=who, key=key, request=_digest(request), answer={}, at=ctx.now)
    session.execute(held.on_duplicate_key_update(actor=held.inserted.actor))
    found = session.get_one(IdempotentAnswer, (who, key), populate_existing=True)
    if found.request != _digest(request):
        raise Conflict("this idempotency key was used for another request", "Idempotency-Key")
    return found.answer or None


def remember(session: Session, ctx: Context, key: str | None, answer: dict[str, Any]) -> None:
    """Keep the answer in the transaction that did the work and holds the key."""
    if key:
        session.get_one(IdempotentAnswer, (ctx.actor.identity, key)).answer = answer


def _digest(request: str) -> str:
    return hashlib.sha256(request.encode()).hexdigest()
