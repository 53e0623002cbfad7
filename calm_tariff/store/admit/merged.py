"""Consumers that were merged into others: who goes on in their place, and whose an application was before."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.counts import Before
from calm_tariff.core.periods import instant_of
from calm_tariff.store.admit.applications import ApplicationBefore
from calm_tariff.store.admit.consumers import Consumer


def with_merged(session: Session, consumer_id: int) -> list[int]:
    """A consumer, and those that were merged into it: whose past is now its own."""
    into = select(Consumer.id).where(Consumer.merged_into_id == consumer_id).order_by(Consumer.id)
    return [consumer_id, *session.scalars(into)]


def successors(session: Session) -> dict[int, int]:
    """Who goes on in the place of each consumer that was merged."""
    query = select(Consumer.id, Consumer.merged_into_id).where(Consumer.merged_into_id.is_not(None))
    return {was: into for was, into in session.execute(query) if into is not None}


def owners_before(session: Session) -> dict[int, tuple[Before, ...]]:
    """Whose applications were before they came to others, by application, in order."""
    found: dict[int, tuple[Before, ...]] = {}
    for each in session.scalars(select(ApplicationBefore).order_by(ApplicationBefore.until_at)):
        was = Before(consumer_id=each.consumer_id, end_us=instant_of(each.until_at))
        found[each.application_id] = (*found.get(each.application_id, ()), was)
    return found
