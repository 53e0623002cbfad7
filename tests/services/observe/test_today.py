"""What waits, for whom."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Conflict, NotSignedIn
from calm_tariff.services.base.context import Actor, provider_of
from calm_tariff.services.observe import today
from calm_tariff.services.serve import history
from calm_tariff.services.settle.accounts import reminding, writing_off
from calm_tariff.services.settle.periods import charging
from tests.office import START, Office, terms
from tests.services.months import LATER, issued
from tests.services.settle.accounts.owing import pay


def test_today_says_what_waits_to_whom_it_belongs_first(office: Office) -> None:
    one = office.consumers[0]
    office.ask("Anglers", "Skiff")
    history.take_in(office.ctx, office.counted([office.call(one, START - timedelta(hours=h), h) for h in range(90)]))
    refused = [
        office.call(one, START - timedelta(minutes=n), 500 + n, verdict="refused", refused_by="Rate", units={})
        for n in range(40)
    ]
    history.take_in(office.ctx, office.counted(refused))
    office.draft("Skiff", terms(burst=7))
    said = {
        role: today.today(office.ctx.acting(Actor(role, frozenset({role}))))
        for role in ("reviewer", "operations", "finance")
    }
    assert [i.title for i in said["reviewer"].yours] == ["One request waits on the desk"]
    assert said["reviewer"].yours[0].detail.endswith("Anglers asks for Harbour Data · Skiff.")
    titles = [i.title for i in said["operations"].yours]
    assert "Ferries was refused 40 times today" in titles
    assert any(t.startswith("Ferries has used 90% of its forecast calls") for t in titles) or any(
        "Ferries has used" in t for t in titles
    )
    assert [i.title for i in said["finance"].yours] == []
    everything = {i.title for i in (*said["finance"].yours, *said["finance"].others)}
    assert "Harbour Data · Skiff has a draft" in everything
    assert said["finance"].yesterday == "Yesterday 24 calls came: 24 served, 0 held, 0 refused."
    # Each has a link that leads to the thing.
    for item in (*said["operations"].yours, *said["operations"].others):
        assert item.link.startswith("/") and item.action
    counts = today.counts(office.manager)
    assert (counts.waiting, counts.products, counts.meters, counts.apis, counts.consumers) == (1, 1, 1, 1, 3)
    with pytest.raises(NotSignedIn):
        today.today(office.acting(one))
    october = replace(office.ctx, clock=lambda: datetime(2026, 10, 2, 9, tzinfo=UTC))
    finance = october.acting(office.finance.actor)
    assert [i.title for i in today.today(finance).yours] == ["September is ready to charge"]
    charging.run(finance, date(2026, 9, 1))
    assert [i.title for i in today.today(finance).yours] == ["2 draft invoices wait to be issued"]


def test_who_is_late_and_what_waits_for_a_second_person_is_told_to_finance(office: Office) -> None:
    office.clock.now = LATER
    invoices = issued(office)
    provider = date(2026, 10, 17)
    assert today.today(office.finance).yours == []
    office.clock.now = datetime.combine(provider, time(12), UTC) + timedelta(days=1)
    pay(office, "30.00")
    late = today.today(office.finance).yours[0]
    assert (late.title, late.detail) == ("2 consumers are late with €38.88", "Kayaks most, with €34.44.")
    assert today.counts(office.finance).unpaid == 2
    pay(office, "4.44")
    assert today.today(office.finance).yours[0].title == "One consumer is late with €34.44"
    with office.ctx.transaction() as session:
        provider_of(session).write_off_limit = Decimal(0)
    kayaks = next(each for each in invoices if writing_off_asked(office, each))
    assert [i.title for i in today.today(office.finance).yours] == ["One consumer is late with €34.44"]
    other = office.ctx.acting(Actor("Helena", frozenset({"finance"}), person_id=77))
    item = today.today(other).yours[-1]
    assert (item.title, item.link) == ("One invoice waits to be written off", f"/settle/invoices/{kayaks}")
    office.clock.forward(days=40)
    reminding.look(office.ctx)
    assert today.today(other).yours[0].detail == "Kayaks most, with €34.44. Calls of one are paused."


def writing_off_asked(office: Office, invoice: int) -> bool:
    try:
        writing_off.ask(office.finance, invoice, "They are gone.")
    except Conflict:
        return False
    return True
