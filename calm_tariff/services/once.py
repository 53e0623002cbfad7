"""Idempotency: the same key from the same actor gets the same answer, once done."""

from __future__ import annotations

import hashlib
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict
from calm_tariff.services.context import Context
from calm_tariff.store.record import Answered


def answered(session: Session, ctx: Context, key: str | None, request: str) -> dict[str, Any] | None:
    """The answer given before to this key, if any. Raises `Conflict` where the request was another."""
    if not key:
        return None
    found = session.get(Answered, (ctx.actor.name, key), with_for_update=True)
    if found is None:
        return None
    if found.request != _digest(request):
        raise Conflict("this idempotency key was used for another request", "Idempotency-Key")
    return found.answer


def remember(session: Session, ctx: Context, key: str | None, request: str, answer: dict[str, Any]) -> None:
    """Keep the answer in the transaction that did the work."""
    if key:
        session.add(Answered(actor=ctx.actor.name, key=key, request=_digest(request), answer=answer, at=ctx.now))


def _digest(request: str) -> str:
    return hashlib.sha256(request.encode()).hexdigest()
