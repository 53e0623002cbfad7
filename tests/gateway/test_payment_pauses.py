"""Calls of a consumer that does not pay are refused on the wire, and go on with the payment."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from sqlalchemy import select

from calm_tariff.services.base.context import provider_of
from calm_tariff.services.serve import receipts
from calm_tariff.services.settle.accounts import reminding
from calm_tariff.store.serve.usage import Call
from tests.gateway.simulated import Simulated
from tests.office import Office
from tests.services.months import LATER
from tests.services.settle.accounts.owing import pay
from tests.services.settle.documents.recorded import issue


@pytest.fixture(params=["memory", "redis"])
def here(office: Office, tmp_path: Path, request: pytest.FixtureRequest, redis_url: str) -> Iterator[Simulated]:
    """A gateway on the day on which calls of Ferries, that have not paid September, are held up."""
    office.clock.now = LATER
    issue(office)
    with office.ctx.transaction() as session:
        provider_of(session).pause_after_days = 7
    made = Simulated(office, tmp_path, redis_url if request.param == "redis" else "")
    office.clock.now = datetime(2026, 10, 25, 9, tzinfo=UTC)
    made.learn()
    yield made
    made.close()


def test_calls_are_refused_until_the_invoice_is_paid_whoever_has_heard_of_it(here: Simulated) -> None:
    one, other = here.office.consumers
    assert here.call(one.secret).status == 200
    here.office.clock.forward(minutes=1)
    assert reminding.look(here.office.ctx) == 1
    began = here.now_us
    here.learn()
    refused = here.call(one.secret)
    assert (refused.status, json.loads(refused.body)["code"]) == (403, "payment-overdue")
    assert "go on as soon as it is paid" in json.loads(refused.body)["detail"]
    assert here.call(other.secret).status == 200
    assert here.call(one.secret, at_us=began - 1).status == 200  # a call of before is as it was
    here.office.clock.forward(minutes=5)
    pay(here.office, "34.44")
    ended = here.now_us
    here.learn()
    assert here.call(one.secret, at_us=ended - 1).status == 403
    assert here.call(one.secret).status == 200
    here.ship()
    with here.office.ctx.transaction() as session:
        kept = session.scalars(select(Call).where(Call.status == 403).order_by(Call.at_us)).all()
    assert len(kept) == 2
    for call in kept:
        told = receipts.receipt(here.office.manager, call.call_id)
        assert told.summary == "Calls of the consumer were paused until an overdue invoice is paid."
        assert [rung.state for rung in told.rungs] == ["passed", "refused"]


def test_who_pays_in_part_is_still_refused(here: Simulated) -> None:
    one = here.office.consumers[0]
    reminding.look(here.office.ctx)
    pay(here.office, "34.43")
    here.learn()
    assert here.call(one.secret).status == 403
