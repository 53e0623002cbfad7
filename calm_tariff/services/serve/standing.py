"""What stands for subscriptions at a moment: their quotas, and the names of the counts these add to.

The gateway names counts by the same rules (`core.counts`), so that what is read here is what decides there.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import counts
from calm_tariff.core.counts import Stretch
from calm_tariff.core.limits import Quota
from calm_tariff.core.periods import instant_of
from calm_tariff.core.stays import holds
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import overrides
from calm_tariff.services.serve import grants
from calm_tariff.services.serve.grants import Grant
from calm_tariff.store.compose.products import PlanRevision, Product


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldQuota:
    """A quota that holds for a subscription; `scope` names its count."""

    subscription_id: int
    application_id: int
    consumer_id: int
    plan_id: int
    started_us: int
    quota: Quota
    scope: str


def quotas(session: Session, now: datetime, consumer_id: int | None = None) -> list[HeldQuota]:
    """Every quota that holds at a moment, or a consumer's: the plan's own, those of single operations, and those of
    the subscription itself in the plan's place."""
    found = list(grants.of_all(session, consumer_id))
    plans = {grant.revision_id: grant.plan_id for grant in found}
    raw = select(PlanRevision.id, PlanRevision.terms).where(PlanRevision.id.in_(plans))
    terms = {revision: read(PlanTerms, kept) for revision, kept in session.execute(raw)}
    anew = set(session.scalars(select(Product.id).where(Product.moves_anew)))
    by_consumer: dict[int, list[Grant]] = {}
    for grant in found:
        by_consumer.setdefault(grant.consumer_id, []).append(grant)
    own = overrides.of_all(session)
    held: list[HeldQuota] = []
    for of in by_consumer.values():
        parts = [p for h in grants.histories(of, own, anew) for p in counts.stretches(h, plans, terms)]
        held += _held(parts, instant_of(now))
    return sorted(held, key=lambda h: h.subscription_id)


def _held(parts: list[Stretch], at_us: int) -> Iterator[HeldQuota]:
    names = counts.names(parts)
    for part in parts:
        if not holds(part, at_us):
            continue
        for layered in part.limits:
            if isinstance(layered.limit, Quota):
                history = part.history
                place = history.subscription_id, part.start_us, part.stay_id
                yield HeldQuota(
                    subscription_id=history.subscription_id,
                    application_id=history.application_id,
                    consumer_id=history.consumer_id,
                    plan_id=part.plan_id,
                    started_us=history.started_us,
                    quota=layered.limit,
                    scope=names[place][layered.limit.name],
                )
