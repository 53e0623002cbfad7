"""The health of back ends: which to ask, and what they answered."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.services.context import Context
from calm_tariff.store.catalogue import ApiVersion, BackEndHealth


@dataclass(frozen=True, slots=True)
class Question:
    """An address to ask whether a back end is there."""

    version_id: int
    environment: str
    url: str


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
            asked.append(Question(version.id, "live", version.back_end_url.rstrip("/") + version.health_path))
            if version.sandbox_url:
                asked.append(Question(version.id, "sandbox", version.sandbox_url.rstrip("/") + version.health_path))
        return asked


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
