"""What was handed on: the check *handoff*. Units recorded by the hour of what is billed outside are those accepted
there, those that wait, and those of which nothing was made yet; and what was accepted is as it was sent.

Source: docs/arithmetic.md, sections 7 and 8.
"""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from hashlib import sha256

from sqlalchemy import select

from calm_tariff.core.billing.books.proof import Difference, Proof
from calm_tariff.core.periods import month_starting
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.services.settle.handoff import handing_on, sums
from calm_tariff.store.settle.handoff import HandedBatch

ZERO = Decimal(0)


def proof(of: Looking) -> Proof:
    """Whether what was handed on comes to what is recorded, and is as it was sent."""
    totals = {"recorded": ZERO, "accepted outside": ZERO, "waiting": ZERO, "not due yet": ZERO}
    compared = 0
    for start in of.periods:
        for each in sums.summed(of.session, month_starting(start)).values():
            compared += 1
            parts = each.recorded, each.accepted, each.waiting, each.to_come
            totals = {name: before + part for (name, before), part in zip(totals.items(), parts, strict=True)}
    batches = of.session.scalars(select(HandedBatch).order_by(HandedBatch.id)).all()
    differences = tuple(each for batch in batches for each in _changed(of, batch))
    return Proof(check="handoff", compared=compared + len(batches), sums=tuple(totals.items()), differences=differences)


def _changed(of: Looking, batch: HandedBatch) -> Iterator[Difference]:
    """What of a batch is not as it was sent: how many events, what they come to, or anything else that was told."""
    units, body = handing_on.of_batch(of.session, batch)
    sent = batch.events if batch.answered_at is None else batch.accepted
    now = sum((each.units for each in units), ZERO)
    if len(units) != sent:
        yield _difference(f"events of batch {batch.id}", Decimal(sent), Decimal(len(units)))
    elif now != batch.units:
        yield _difference(f"units of batch {batch.id}", batch.units, now)
    elif sha256(body).hexdigest() != batch.digest:
        yield _difference(f"events of batch {batch.id} that are as they were sent", Decimal(sent), ZERO)


def _difference(what: str, sent: Decimal, now: Decimal) -> Difference:
    return Difference(check="handoff", what=what, sums=(("sent", sent), ("kept", now)))
