"""How things stand: allowances, what needs a person today, the finder, and limits of single subscriptions."""

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.periods import instant_of, moment_of
from calm_tariff.core.stays import holds
from calm_tariff.services.admit import applications, overrides, requests
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose import plans, tariff_sheet
from calm_tariff.services.observe import allowances, consumers, finder, today
from calm_tariff.services.serve import history
from calm_tariff.services.settle import charging
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import START, Office, terms

PER = ("subscription", "consumer", "everyone", "key", "application")


def quotas(every: str, aligned: str) -> dict:
    wanted = terms()
    wanted["limits"] = [
        {"kind": "quota", "name": f"By {per}", "counted_per": per, "units": 1000, "every": every, "aligned": aligned,
         "when_spent": "refuse", "meter": "forecast_calls"}
        for per in PER
    ]  # fmt: skip
    return wanted


@pytest.mark.parametrize(("every", "aligned"), [("month", "calendar"), ("week", "calendar"), ("month", "subscription"),
                                                ("day", "subscription")])  # fmt: skip
def test_each_allowance_counts_whom_its_sentence_names(office: Office, every: str, aligned: str) -> None:
    head = plans.add(office.manager, office.product, "Yawl").plans[-1]
    tariff_sheet.save_draft(office.manager, head.id, head.edition, quotas(every, aligned))
    office.publish("keep")
    office.plans["Yawl"] = head.id
    one, other = office.admit("Terns", "Yawl"), office.admit("Gulls", "Yawl")
    second = applications.register(office.acting(one), "Second", "")
    asked = requests.ask(office.acting(one), second.id, head.id, "A second program of ours.", True)
    requests.decide(office.reviewer, asked.id, "granted", "")
    key = applications.make_key(office.acting(one), second.id, "").key.id
    with office.ctx.transaction() as session:
        mine = next(a for a in applications.of_consumer(session, one.member.consumer_id, START) if a.id == second.id)
        subscription = mine.plans[0].subscription_id
    calls = [office.call(one, START + timedelta(minutes=n), n) for n in range(30)]
    calls += [
        office.call(
            one,
            START + timedelta(minutes=n),
            100 + n,
            subscription_id=subscription,
            application_id=second.id,
            key_id=key,
        )
        for n in range(7)
    ]
    calls += [office.call(other, START + timedelta(minutes=n), 200 + n) for n in range(11)]
    history.take_in(office.ctx, office.counted(calls))
    office.clock.forward(hours=1)
    held = [g for g in allowances.everyone(office.manager, PageQuery()).rows if g.plan == "Yawl"]
    assert len(held) == 3 * len(PER)
    used = {(g.consumer, g.application, g.name): g.used for g in held}
    for consumer, app, own, together in (("Terns", "Terns app", 30, 37), ("Terns", "Second", 7, 37),
                                         ("Gulls", "Gulls app", 11, 11)):  # fmt: skip
        assert [used[consumer, app, f"By {per}"] for per in PER] == [own, together, 48, own, own]
    assert [g.percent for g in held] == sorted((g.percent for g in held), reverse=True)
    for g in held:
        assert g.window_start <= office.clock.now < g.window_end
        assert g.projected_units >= g.used
        if aligned == "subscription":
            assert g.window_start == START
    by_name = allowances.everyone(office.manager, PageQuery("GULL")).rows
    assert {g.consumer for g in by_name} == {"Gulls"} and len(by_name) == len(PER)
    assert allowances.everyone(office.manager, PageQuery("1")).total == 0
    # A consumer sees its own, the desk's figures the same.
    mine = allowances.own(office.acting(other))
    assert [(g.name, g.used) for g in mine] == [(f"By {per}", used["Gulls", "Gulls app", f"By {per}"]) for per in PER]
    page = consumers.one(office.manager, one.member.consumer_id)
    assert {(g.application, g.name, g.used) for g in page.gauges} == {
        (app, name, n) for (who, app, name), n in used.items() if who == "Terns"
    }


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
    said = {role: today.today(office.ctx.acting(Actor(role, role))) for role in ("reviewer", "operations", "finance")}
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


def test_the_finder_finds_each_kind_by_a_few_letters(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([call := office.call(one, START, 1)]))
    charging.run(office.finance, date(2026, 9, 1))
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, 9, tzinfo=UTC))
    charging.issue(october, charging.one(october, date(2026, 9, 1), PageQuery()).drafts)

    def found(words: str) -> set[tuple[str, str]]:
        return {(f.kind, f.name) for f in finder.find(office.manager, words)}

    assert ("consumer", "Ferries") in found("ferr") and ("application", "Ferries app, Ferries") in found("FERR")
    assert ("product", "Harbour Data") in found("harb") and ("plan", "Harbour Data · Ketch") in found("ketch")
    assert ("API", "Tides v1") in found("tid") and ("meter", "Forecast calls") in found("forecast")
    assert found("INV-2026-0") == {("invoice", "INV-2026-00001, Ferries"), ("invoice", "INV-2026-00002, Kayaks")}
    assert found(call["call_id"].lower()) == {("call", call["call_id"])}
    assert {kind for kind, _ in found(one.secret[:10])} == {"key"}
    assert found("") == found("   ") == found("100%") == found("f_r") == found("\\") == set()
    with pytest.raises(NotSignedIn):
        finder.find(office.acting(one), "ferries")


class TestOverrides:
    """Limits of single subscriptions."""

    @pytest.fixture
    def tomas(self, office: Office):
        return office.ctx.acting(Actor("Tomas", "operations"))

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
        [({"burst": 0}, "Why.", date(2026, 9, 12), "limit.burst"), ({}, "  ", date(2026, 9, 12), "reason"),
         ({}, "Why.", date(2026, 9, 9), "until"), ({"counted_per": "moon"}, "Why.", date(2026, 9, 12), "counted_per"),
         ({"kind": "speed"}, "Why.", date(2026, 9, 12), "kind")],
    )  # fmt: skip
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
            ("Rate", "Harbour Data · Ketch"), ("Forecast calls", "Harbour Data · Ketch")
        ]  # fmt: skip


def test_an_allowance_spent_before_its_window_ends_says_when(office: Office) -> None:
    one = office.consumers[0]
    begin = START - timedelta(days=35)
    steady = [office.call(one, begin + timedelta(hours=6 * n), n) for n in range(4 * 35)]
    history.take_in(office.ctx, office.counted(steady))
    (gauge,) = [g for g in allowances.own(office.acting(one)) if g.name == "Forecast calls"]
    since = moment_of(1_788_217_200_000_000)  # the 1st in Lisbon
    assert gauge.window_start == since
    used = sum(since <= moment_of(c["at_us"]) < START for c in steady)
    assert gauge.used == used
    # Four calls a day go on: at the month's end as many more as there are quarters of days left.
    left = Decimal((gauge.window_end - START) / timedelta(hours=6))
    assert abs(gauge.projected_units - (used + left)) <= 1
    spent = gauge.spent_at
    assert spent and abs((spent - START) - timedelta(hours=6) * (100 - used)) <= timedelta(hours=6)
    with office.ctx.transaction() as session:
        assert allowances.nearly_spent(session, office.clock.now, 30) == 1
        assert allowances.running_out(session, office.clock.now, 80, 4)[0].spent_at == spent
