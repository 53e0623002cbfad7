"""The provider's settings: who changes them, when they count, and what is locked once money was charged."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime
from decimal import Decimal

import pytest

from calm_tariff.core.billing.documents.tax import Rate
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotSignedIn, Stale
from calm_tariff.core.provider import ProviderSettings
from calm_tariff.services.admit.desk import routing
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.house import settings
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import passwords
from calm_tariff.services.serve import gateway_feed, history
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.compose.products import Plan
from tests.office import Office
from tests.services.accounts import INES, letters, signed_in
from tests.services.house.test_people import owner


def kept(office: Office) -> ProviderSettings:
    with office.ctx.transaction() as session:
        return settings.of(provider_of(session))


def edition(office: Office) -> int:
    return settings.everything(office.manager).edition


def change(office: Office, **what: object) -> settings.SettingsView:
    return settings.change(owner(office), replace(kept(office), **what), edition(office))  # type: ignore[arg-type]


def test_an_owner_changes_settings_and_the_record_tells_which(office: Office) -> None:
    before = settings.everything(office.manager)
    assert (before.working_days, before.body_days, before.payment_days) == ([0, 1, 2, 3, 4], 7, 14)
    after = change(office, name="Isle Office", tax_percent=Decimal("6.50"), working_days=(0, 5))
    assert (after.name, after.tax_percent, after.working_days) == ("Isle Office", Decimal("6.5"), [0, 5])
    assert after.edition == before.edition + 1 and after.currency == before.currency
    [entry] = auditing.entries(office.manager, PageQuery(words="changed the settings")).rows
    assert {c.what: (c.before, c.after) for c in entry.changes} == {
        "name": ("Test Office", "Isle Office"),
        "tax percent": ("23", "6.5"),
        "working days": ("0, 1, 2, 3, 4", "0, 5"),
    }
    again = change(office)
    assert again.edition == after.edition  # the same once more is no change


def test_what_charges_go_by_is_kept_as_it_was_typed_and_told(office: Office) -> None:
    later = (Rate(since=date(2027, 1, 1), percent=Decimal(24)), Rate(since=date(2028, 1, 1), percent=Decimal("24.5")))
    after = change(
        office,
        country="pt",
        tax_number="PT 501 964 843",
        tax_changes=later,
        reminders_after_days=(2, 9),
        pause_after_days=None,
        write_off_limit=Decimal("20.00"),
        iban="pt50 0002 0123 1234 5678 9015 4",
        bic="bsuiptpl",
        adjustment_limit=Decimal("250.00"),
        charge_after_days=0,
        zero_invoices=True,
    )
    assert (after.country, after.tax_number, tuple(after.tax_changes)) == ("PT", "PT501964843", later)
    assert (after.adjustment_limit, after.charge_after_days, after.zero_invoices) == (Decimal(250), 0, True)
    assert (after.reminders_after_days, after.pause_after_days, after.write_off_limit) == ([2, 9], None, Decimal(20))
    assert (after.iban, after.bic) == ("PT50000201231234567890154", "BSUIPTPL")
    for wrong in ({"iban": "PT51000201231234567890154"}, {"bic": "BSUI"}):
        with pytest.raises(Invalid) as refused:
            change(office, **wrong)
        assert refused.value.where == next(iter(wrong))
    assert change(office).edition == after.edition  # read as it was kept
    [entry] = auditing.entries(office.manager, PageQuery(words="changed the settings")).rows
    told = {c.what: c.after for c in entry.changes}
    assert told["tax changes"] == "24% from 2027-01-01, 24.5% from 2028-01-01"
    assert (told["adjustment limit"], told["country"]) == ("250", "PT")
    with pytest.raises(Invalid) as refused:
        change(office, tax_number="501964844")
    assert refused.value.where == "tax_number"


def test_only_owners_change_them_and_who_is_later_is_told(office: Office) -> None:
    for role in ("product", "reviewer", "operations", "finance"):
        with pytest.raises(NotAllowed):
            settings.change(signed_in(office, f"{role}@test.example"), kept(office), edition(office))
    with pytest.raises(NotSignedIn):
        settings.everything(office.acting(office.consumers[0]))
    first = edition(office)
    change(office, payment_days=30)
    with pytest.raises(Stale) as late:
        settings.change(owner(office), replace(kept(office), payment_days=7), first)
    assert isinstance(late.value.current, settings.SettingsView) and late.value.current.payment_days == 30
    assert kept(office).payment_days == 30
    for wrong, where in (({"mail_from": "nobody"}, "mail_from"), ({"time_zone": "Deep"}, "time_zone")):
        with pytest.raises(Invalid) as refused:
            change(office, **wrong)
        assert refused.value.where == where


def test_what_money_was_charged_in_is_locked_and_says_since_when(office: Office) -> None:
    assert not any(s.locked for s in settings.everything(office.manager).settings)
    change(office, currency="GBP", time_zone="UTC")
    change(office, currency="EUR", time_zone="Europe/Lisbon")
    history.take_in(office.ctx, [office.call(office.consumers[0], office.ctx.now, 0)])
    office.clock.now = datetime(2026, 10, 2, 9, tzinfo=UTC)
    charging.run(office.finance, date(2026, 9, 1))
    office.clock.forward(days=40)
    charging.run(office.finance, date(2026, 10, 1))
    locked = {s.name: s.locked for s in settings.everything(office.manager).settings if s.locked}
    assert locked == dict.fromkeys(
        ("time_zone", "currency"), "Money was charged in it, first on 2 October 2026: it stays as it is."
    )
    for what in ({"currency": "GBP"}, {"time_zone": "UTC"}):
        with pytest.raises(Conflict) as refused:
            change(office, **what)
        assert refused.value.where in what
    assert change(office, tax_percent=Decimal(19), address="Quay 1\n4900 Larkmouth").address.startswith("Quay 1")


def test_name_and_address_stand_under_letters_from_then_on(office: Office) -> None:
    passwords.forgotten(office.ctx, PEOPLE, INES)
    change(office, name="Isle Office", address="Quay 1\n4900 Larkmouth")
    passwords.forgotten(office.ctx, PEOPLE, INES)
    before, after = letters(office.ctx, INES)
    assert "-- " not in before.body
    assert after.body.endswith("\n-- \nIsle Office\nQuay 1\n4900 Larkmouth\n") and "4900 Larkmouth</p>" in (
        after.html or ""
    )


def test_a_charge_run_that_charges_nobody_locks_nothing(office: Office) -> None:
    office.clock.now = datetime(2026, 10, 2, 9, tzinfo=UTC)
    charging.run(office.finance, date(2020, 1, 1))
    assert not any(s.locked for s in settings.everything(office.manager).settings)


def test_gateways_learn_of_another_time_zone(office: Office) -> None:
    before = gateway_feed.read_feed(office.ctx)
    change(office, time_zone="Asia/Tokyo")
    after = gateway_feed.read_feed(office.ctx)
    assert (before.time_zone, after.time_zone) == ("Europe/Lisbon", "Asia/Tokyo")
    assert after.number > before.number


def test_requests_are_due_by_the_days_on_which_people_work(office: Office) -> None:
    office.clock.now = datetime(2026, 9, 11, 9, tzinfo=UTC)  # a Friday

    def due() -> date:
        with office.ctx.transaction() as session:
            plan = session.get_one(Plan, office.plans["Ketch"])
            application = session.get_one(routing.Application, office.consumers[0].application)
            at = routing.routed(session, office.ctx, plan, application).due_at
        assert at is not None
        return at.date()

    assert due() == date(2026, 9, 15)  # two working days: the end of Tuesday
    change(office, working_days=(0, 1, 2, 3, 4, 5, 6))
    assert due() == date(2026, 9, 13)
