"""The health of back ends: which to ask, and what they answered."""

from __future__ import annotations

import base64
import logging
from dataclasses import dataclass, field

from sqlalchemy import select

from calm_tariff.core.errors import Conflict
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.sealing import Sealed, seal, unseal
from calm_tariff.store.compose.apis import ApiVersion, BackEndHealth

log = logging.getLogger("calm_tariff.back_ends")


@dataclass(frozen=True, slots=True)
class Question:
    """An address to ask whether a back end is there."""

    version_id: int
    environment: str
    url: str
    headers: dict[str, str] = field(default_factory=dict, repr=False)


@dataclass(frozen=True, slots=True)
class Answer:
    """What came back: well or not, in words, and after how many milliseconds."""

    well: bool
    words: str
    took_ms: int


def to_ask(ctx: Context) -> list[Question]:
    """Every back end of a version that answers calls."""
    with ctx.transaction() as session:
        asked = []
        for version in session.scalars(select(ApiVersion).where(ApiVersion.state.in_(ANSWERING))):
            for environment, url, sealed in (
                ("live", version.back_end_url, version.back_end_login),
                ("sandbox", version.sandbox_url, version.sandbox_login),
            ):
                if url:
                    login = opened(ctx, sealed)
                    headers = {"Authorization": login} if login else {}
                    asked.append(Question(version.id, environment, url.rstrip("/") + version.health_path, headers))
        return asked


def sealed_login(ctx: Context, login: str) -> str:
    """A name and password, as in `name:password`, as they may be kept. Raises `Conflict` where there is no secret to
    seal them with."""
    if not ctx.sealing_secret:
        raise Conflict("this installation keeps no passwords of back ends: it has no CALM_VALUE_SECRET")
    return seal(ctx.sealing_secret, login)


def opened(ctx: Context, sealed: str) -> str:
    """The Authorization field (HTTP Basic, RFC 7617) that a back end is asked with; empty where there is none, or it
    cannot be opened here."""
    if not sealed:
        return ""
    try:
        login = unseal(ctx.sealing_secret, sealed)
    except Sealed:
        log.error("what a back end is asked with cannot be opened: it was sealed with another CALM_VALUE_SECRET")
        return ""
    return "Basic " + base64.b64encode(login.encode()).decode()


def keep(ctx: Context, answers: list[tuple[Question, Answer]]) -> None:
    """Keep what the back ends answered. `since` tells from when one is well, or is not."""
    with ctx.transaction() as session:
        kept = {(h.api_version_id, h.environment): h for h in session.scalars(select(BackEndHealth))}
        for question, answer in answers:
            known = kept.pop((question.version_id, question.environment), None)
            if known is None:
                known = BackEndHealth(
                    api_version_id=question.version_id, environment=question.environment, since=ctx.now
                )
                session.add(known)
            elif known.well != answer.well:
                known.since = ctx.now
            known.well, known.answer, known.took_ms = answer.well, answer.words[:200], answer.took_ms
            known.checked_at = ctx.now
        for gone in kept.values():
            session.delete(gone)
