"""What waits, for whom."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.base.context import Actor
from calm_tariff.services.observe import today
from calm_tariff.services.serve import history
from calm_tariff.services.settle.documents import charging
from tests.office import START, Office, terms


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
