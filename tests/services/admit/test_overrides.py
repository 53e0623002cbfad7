"""Limits of single subscriptions."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.periods import instant_of
from calm_tariff.core.stays import holds
from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Actor
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import START, Office, terms


def test_gateways_hear_at_once_of_a_limit_of_one_subscription_and_of_its_end(office: Office) -> None:
    tomas = office.ctx.acting(Actor("Tomas", frozenset({"operations"})))
    numbers = [stamps.number(office.ctx)]
    typed = OverrideTyped({**terms()["limits"][0], "calls": 1}, "A script ran wild.", date(2026, 9, 12))
    made = overrides.make(tomas, office.consumers[0].subscription, typed)
    numbers.append(stamps.number(office.ctx))
    overrides.lift(tomas, made.id)
    numbers.append(stamps.number(office.ctx))
    assert numbers == sorted(set(numbers))


class TestOverrides:
    """Limits of single subscriptions."""

    @pytest.fixture
    def tomas(self, office: Office):
        return office.ctx.acting(Actor("Tomas", frozenset({"operations"})))

    def rate(self, **changes: object) -> dict:
        return {**terms()["limits"][0], "calls": 50, "burst": 80, **changes}

    def test_one_stands_in_the_plans_place_until_its_day_ends(self, office: Office, tomas) -> None:
        one = office.consumers[0]
        made = overrides.make(tomas, one.subscription, OverrideTyped(self.rate(), " A regatta. ", date(2026, 9, 12)))
        assert (made.state, made.reason, made.made_by) == ("in force", "A regatta.", "Tomas")
        assert made.instead_of == "10 calls a second, up to 20 at once, for each key"
        assert made.ends_at == datetime(2026, 9, 12, 23, tzinfo=UTC)  # the end of the 12th in Lisbon
        with office.ctx.transaction() as session:
            kept = overrides.of_all(session)[one.subscription][0]
            assert (kept.limit.burst, holds(kept, instant_of(START))) == (80, True)
            assert kept.end_us == instant_of(made.ends_at) and not holds(kept, kept.end_us)
            mail = session.scalars(select(Mail).order_by(Mail.id.desc())).first()
            assert mail.recipient == one.email and "50 calls a second" in mail.body
        entry = auditing.entries(tomas, PageQuery("overrode a limit")).rows[0]
        assert (entry.actor, entry.why) == ("Tomas", "A regatta.")
        assert entry.after == {"limit": made.sentence, "until": "2026-09-12"}
        later = replace(tomas, clock=lambda: made.ends_at)
        assert [o.state for o in overrides.of_consumer(later, one.member.consumer_id)] == ["over"]
        with pytest.raises(Conflict, match="over already"):
            overrides.lift(later, made.id)

    def test_lifting_puts_the_plan_back_at_once(self, office: Office, tomas) -> None:
        one = office.consumers[0]
        made = overrides.make(tomas, one.subscription, OverrideTyped(self.rate(), "Why.", date(2026, 9, 10)))
        with pytest.raises(Conflict, match=r"limit.name: Rate has an override already"):
            overrides.make(tomas, one.subscription, OverrideTyped(self.rate(), "Why.", date(2026, 9, 11)))
        assert overrides.lift(tomas, made.id).state == "lifted"
        with office.ctx.transaction() as session:
            assert not holds(overrides.of_all(session)[one.subscription][0], instant_of(START))
        again = overrides.make(tomas, one.subscription, OverrideTyped(self.rate(), "Again.", date(2026, 9, 11)))
        assert [o.id for o in overrides.of_consumer(tomas, one.member.consumer_id)] == [again.id, made.id]

    @pytest.mark.parametrize(
        ("changes", "reason", "until", "field"),
        [
            ({"burst": 0}, "Why.", date(2026, 9, 12), "limit.burst"),
            ({}, "  ", date(2026, 9, 12), "reason"),
            ({}, "Why.", date(2026, 9, 9), "until"),
            ({"counted_per": "moon"}, "Why.", date(2026, 9, 12), "counted_per"),
            ({"kind": "speed"}, "Why.", date(2026, 9, 12), "kind"),
            # A receipt would take the one for the trial's own quota, and the other for a paused subscription.
            ({"name": "Units of the trial"}, "Why.", date(2026, 9, 12), "limit.name"),
            ({"name": "pause"}, "Why.", date(2026, 9, 12), "limit.name"),
        ],
    )
    def test_what_makes_no_sense_is_refused_by_its_field(self, office, tomas, changes, reason, until, field) -> None:
        one = office.consumers[0]
        with pytest.raises(Invalid) as refused:
            overrides.make(tomas, one.subscription, OverrideTyped(self.rate(**changes), reason, until))
        assert field in refused.value.where
        assert overrides.of_consumer(tomas, one.member.consumer_id) == []

    def test_only_those_who_answer_for_it_may(self, office: Office, tomas) -> None:
        one = office.consumers[0]
        typed = OverrideTyped(self.rate(), "Why.", date(2026, 9, 12))
        for nobody in (office.reviewer, office.finance):
            with pytest.raises(NotAllowed):
                overrides.make(nobody, one.subscription, typed)
        with pytest.raises(NotSignedIn):
            overrides.make(office.acting(one), one.subscription, typed)
        for missing in (lambda: overrides.make(tomas, 10**9, typed), lambda: overrides.lift(tomas, 10**9)):
            with pytest.raises(NotFound):
                missing()
        quota = {**terms()["limits"][1], "name": "Tiles", "meter": "tiles"}
        with pytest.raises(Invalid, match="no meter 'tiles'"):
            overrides.make(tomas, one.subscription, OverrideTyped(quota, "Why.", date(2026, 9, 12)))
        held = overrides.held_by(tomas, one.member.consumer_id)
        assert [(h.name, h.plan) for h in held] == [
            ("Rate", "Harbour Data · Ketch"),
            ("Forecast calls", "Harbour Data · Ketch"),
        ]
