"""What the payment processor says is taken where it is its own, fresh, and about something that was asked for."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import pytest

from calm_tariff.core.errors import Invalid, NotFound, NotSignedIn
from calm_tariff.services.base import webhooks
from calm_tariff.services.settle.cards import hearing
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.standins.money.processing import Event
from calm_tariff.store.base.record import ReceivedWebhook
from tests.office import Office
from tests.services.settle.accounts.owing import account, at, entries
from tests.services.settle.cards.processors import SECRET, Simulated


@pytest.fixture
def taken(office: Office, simulated: Simulated, invoice: InvoiceView) -> Event:
    """The event that money was taken, which nobody has heard of yet."""
    at(office, 2026, 10, 17)
    simulated.be(loses=True)
    with pytest.raises(Exception, match="504"):
        simulated.work()
    (event,) = simulated.events("charge.taken")
    return event


def test_what_somebody_else_signed_or_signed_long_ago_is_not_taken(
    office: Office, simulated: Simulated, taken: Event
) -> None:
    with pytest.raises(NotSignedIn, match="signature"):
        simulated.tell(taken, secret="another secret, which is as long as it is")
    signed = webhooks.signed(webhooks.secret_of(SECRET), taken.id, office.ctx.now, taken.body)
    with pytest.raises(NotSignedIn, match="signature"):
        hearing.take(office.ctx, simulated.asks, signed.body.replace(b"taken", b"failed"), signed.fields)
    with pytest.raises(NotSignedIn):
        hearing.take(office.ctx, simulated.asks, signed.body, {})
    office.clock.forward(minutes=6)
    with pytest.raises(NotSignedIn, match="too long ago"):
        hearing.take(office.ctx, simulated.asks, signed.body, signed.fields)
    assert len(entries(office)) == 1


def test_what_was_heard_is_noted_once_it_is_done(office: Office, simulated: Simulated, taken: Event) -> None:
    simulated.tell(taken, taken)
    assert [e.kind for e in entries(office)] == ["invoice", "payment"]
    with office.ctx.transaction() as session:
        assert session.get(ReceivedWebhook, taken.id) is not None
    assert account(office).balance == 0


MEANT: dict[str, tuple[dict[str, Any], type[Exception]]] = {
    "a charge that nobody asked for": ({"data": {"key": "try-other", "charge": "charge-1"}}, NotFound),
    "a charge without a name": ({"data": {}}, NotFound),
    "a refund that nobody asked for": ({"type": "refund.failed", "data": {"key": "refund-1"}}, NotFound),
    "a dispute about another's charge": ({"type": "dispute.opened", "data": {"charge": "charge-1"}}, NotFound),
    "an event of no kind": ({"type": "charge.melted"}, Invalid),
    "no data": ({"data": 7}, Invalid),
    "an amount that is none": ({"type": "dispute.opened", "data": {"amount": "much"}}, Invalid),
}


@pytest.mark.parametrize(("changes", "error"), MEANT.values(), ids=MEANT)
def test_what_means_nothing_here_is_refused_and_not_noted(
    office: Office, simulated: Simulated, taken: Event, changes: dict[str, Any], error: type[Exception]
) -> None:
    said = replace(taken, body=json.dumps({**json.loads(taken.body), **changes}))
    with pytest.raises(error):
        simulated.tell(said)
    assert len(entries(office)) == 1
    with office.ctx.transaction() as session:
        assert session.get(ReceivedWebhook, taken.id) is None


def test_a_page_that_nobody_opened_gives_no_card(office: Office, simulated: Simulated) -> None:
    page = simulated.asks.open_page("of somebody else's", "http://elsewhere.example")
    simulated.fill(page.address, "pays")
    simulated.tell(*simulated.events("card.kept"))
    assert account(office).card is None and account(office, 1).card is None
