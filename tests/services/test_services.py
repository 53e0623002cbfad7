"""The job's services on a real database: tariffs, admission, charges, shipping."""

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from threading import Barrier

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn, Stale
from calm_tariff.formats.cases import rate_text
from calm_tariff.formats.journal import line
from calm_tariff.services.admit import applications, carrying_over, requests
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.compose import meters, tariff_sheet
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.house import sessions
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.observe import allowances
from calm_tariff.services.serve import history, shipping
from calm_tariff.services.settle import charging, consequences, invoices
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.store.serve.usage import Call
from tests.office import PASSWORD, START, Office, terms


def ketch(sheet: tariff_sheet.Sheet) -> tariff_sheet.SheetPlan:
    return next(p for p in sheet.plans if p.name == "Ketch")


def usage(office: Office, count: int, since: datetime = START, every: timedelta = timedelta(minutes=11)) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([office.call(one, since + every * n, n) for n in range(count)]))


def test_a_draft_saves_itself_is_compared_and_becomes_a_revision_that_never_changes(office: Office) -> None:
    before = ketch(tariff_sheet.sheet(office.manager, office.product))
    assert (before.live_revision, before.drafted) == (1, False)
    sheet = tariff_sheet.save_draft(office.manager, before.id, before.edition, terms(burst=40))
    assert [(c.plan, c.term, c.was, c.becomes) for c in sheet.changes] == [
        ("Ketch", "Rate", "up to 20 at once", "up to 40 at once")
    ]
    rate_row = next(r for r in sheet.rows if r.label == "Rate")
    changed = [p.text for cell in rate_row.cells for s in cell.sentences for p in s if p.changed]
    assert changed == ["40"]
    published = office.publish("keep", "more burst")
    assert (ketch(published).live_revision, ketch(published).drafted) == (2, False)
    with pytest.raises(Conflict, match="no draft"):
        office.publish("keep")
    entry = auditing.entries(office.manager, PageQuery("published revision 2")).rows[0]
    assert (entry.before["limits"][0]["burst"], entry.after["limits"][0]["burst"], entry.why) == (20, 40, "more burst")
    with office.ctx.transaction() as session:
        assert {s.revision.number for s in session.scalars(select(Stay))} == {1}  # subscribers kept theirs


def test_two_people_editing_at_once_see_each_others_terms(office: Office) -> None:
    plan = office.plans["Ketch"]
    seen = ketch(tariff_sheet.sheet(office.manager, office.product)).edition
    tariff_sheet.save_draft(office.manager, plan, seen, terms(burst=40))
    with pytest.raises(Stale) as refused:
        tariff_sheet.save_draft(office.manager, plan, seen, terms(burst=50))
    assert ketch(refused.value.current).terms["limits"][0]["burst"] == 40
    back = tariff_sheet.save_draft(office.manager, plan, ketch(refused.value.current).edition, terms())
    assert not ketch(back).drafted  # terms equal to the live ones are no draft
    for drafted in (terms(burst=60), terms(), terms(burst=40)):  # it stands as it stood, and yet is another
        back = office.draft("Ketch", drafted)
    with pytest.raises(Stale):
        tariff_sheet.save_draft(office.manager, plan, ketch(refused.value.current).edition, terms(burst=50))


def test_what_the_publisher_has_not_seen_is_not_published(office: Office) -> None:
    plan, other = office.plans["Ketch"], office.plans["Skiff"]

    def refused(editions: dict[int, int]) -> None:
        with pytest.raises(Stale) as error:
            carrying_over.publish(office.manager, office.product, editions, "keep")
        assert error.value.current.plans
        assert all(p.live_revision == 1 for p in tariff_sheet.sheet(office.manager, office.product).plans)

    seen = ketch(office.draft("Ketch", terms(burst=40))).edition
    refused({})
    refused({plan: seen + 1})
    office.draft("Ketch", terms(burst=41))  # somebody saves meanwhile
    refused({plan: seen})
    seen += 1
    begun = next(p.edition for p in office.draft("Skiff", terms(burst=9)).plans if p.id == other)
    refused({plan: seen})  # somebody begins another
    refused({plan: seen, other: begun, 999: 1})
    tariff_sheet.discard_draft(office.manager, other)
    refused({plan: seen, other: begun})  # and ends it
    published = carrying_over.publish(office.manager, office.product, {plan: seen}, "keep")
    assert ketch(published).live_revision == 2
    assert ketch(published).edition > seen  # what is published stands under an edition of its own


def test_saving_while_publishing_waits_its_turn(office: Office) -> None:
    office.draft("Skiff", terms(burst=9))
    gate = Barrier(2)

    def save(n: int) -> str:
        gate.wait()
        for k in range(20):
            sheet = tariff_sheet.sheet(office.manager, office.product)
            try:
                tariff_sheet.save_draft(office.manager, ketch(sheet).id, ketch(sheet).edition, terms(burst=30 + k))
            except Stale:
                continue
        return "saved"

    def publish(n: int) -> str:
        gate.wait()
        while True:  # until it has seen what is drafted; at the latest when nobody saves any more
            try:
                office.publish("keep")
            except Stale:
                continue
            return "published"

    with ThreadPoolExecutor(2) as pool:
        assert [job.result() for job in (pool.submit(save, 0), pool.submit(publish, 0))] == ["saved", "published"]
    numbers = [n for p in tariff_sheet.sheet(office.manager, office.product).plans for n in [p.live_revision]]
    assert max(numbers) > 1


@pytest.mark.parametrize(
    ("wrong", "where"),
    [
        (terms(burst=0), "limits[0].burst"),
        ({**terms(), "surprise": 1}, "surprise"),
        (json.loads(json.dumps(terms()).replace("forecast_calls", "no_such_meter")), "terms"),
        (json.loads(json.dumps(terms()).replace('"up_to": "20"', '"up_to": null')), "pricing.prices[1].tiers[0].up_to"),
    ],
)
def test_terms_that_make_no_sense_are_refused_by_field_and_nothing_is_lost(office: Office, wrong, where: str) -> None:
    office.draft("Ketch", terms(burst=40))
    with pytest.raises(Invalid) as refused:
        office.draft("Ketch", wrong)
    assert refused.value.where == where
    assert ketch(tariff_sheet.sheet(office.manager, office.product)).terms["limits"][0]["burst"] == 40


def test_a_revision_for_the_next_period_cuts_the_stay_there_and_tells_the_members(office: Office) -> None:
    number = stamps.number(office.ctx)
    office.draft("Ketch", terms(burst=40))
    office.publish("next period")
    assert stamps.number(office.ctx) > number
    october = datetime(2026, 9, 30, 23, tzinfo=UTC)  # midnight in Lisbon
    with office.ctx.transaction() as session:
        stays = session.scalars(
            select(Stay).where(Stay.subscription_id == office.consumers[0].subscription).order_by(Stay.id)
        ).all()
        assert [(s.revision.number, s.start_at, s.end_at) for s in stays] == [(1, START, october), (2, october, None)]
        letters = [m for m in session.scalars(select(Mail)) if "changes on 1 October" in m.subject]
    assert len(letters) == 2
    assert "up to 20 at once → up to 40 at once" in letters[0].body


def test_a_published_meter_is_sealed_and_can_only_be_renamed(office: Office) -> None:
    meter = meters.one(office.manager, office.meter)
    assert meter.sealed_at
    with pytest.raises(Conflict, match="sealed"):
        meters.save(office.manager, meter.id, meter.edition, MeterTyped(meter.name, meter.operations, []))
    renamed = meters.save(
        office.manager, meter.id, meter.edition, MeterTyped("Forecasts", meter.operations, meter.outcomes)
    )
    assert (renamed.name, renamed.key) == ("Forecasts", "forecast_calls")


def test_a_request_is_decided_once_with_a_note_by_mail_and_on_the_record(office: Office) -> None:
    member, application, request = office.ask("Anglers", "Ketch")
    with pytest.raises(NotAllowed):
        requests.decide(office.finance, request, "granted", "")
    with pytest.raises(Invalid, match="say why"):
        requests.decide(office.reviewer, request, "declined", " ")
    with pytest.raises(Conflict, match="already waiting"):
        requests.ask(office.ctx.acting(member), application, office.plans["Skiff"], "Something else.", True)
    requests.decide(office.reviewer, request, "declined", "Name the source, please.")
    with pytest.raises(Conflict, match="it is declined"):
        requests.decide(office.reviewer, request, "granted", "")
    with office.ctx.transaction() as session:
        letter = session.scalars(select(Mail).order_by(Mail.id.desc())).first()
    assert letter
    assert (letter.recipient, "Name the source, please." in letter.body) == ("anglers@consumer.example", True)
    assert [p.state for p in applications.own(office.ctx.acting(member))[0].plans] == ["declined"]


def test_nobody_is_told_whether_an_account_exists_and_sessions_end(office: Office) -> None:
    for email, password in (("nobody@consumer.example", PASSWORD), ("ferries@consumer.example", "wrong password")):
        with pytest.raises(NotSignedIn, match="the e-mail address or the password is not right"):
            sessions.sign_in(office.ctx, MEMBERS, email, password)
    token = sessions.sign_in(office.ctx, MEMBERS, "Ferries@consumer.example", PASSWORD)
    assert sessions.who(office.ctx, MEMBERS, token).consumer == "Ferries"
    assert sessions.who(office.at(START + sessions.SESSION), MEMBERS, token).consumer_id is None
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, PEOPLE, "ferries@consumer.example", PASSWORD)


def test_a_charge_run_makes_invoices_that_evidence_computes_again(office: Office) -> None:
    usage(office, 60)
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, 9, tzinfo=UTC))
    first = charging.run(october, date(2026, 9, 1), "run-1")
    assert charging.run(october, date(2026, 9, 1), "run-1") == first
    assert charging.run(october, date(2026, 9, 1), "run-2").invoices == first.invoices == 2
    with pytest.raises(Conflict, match="idempotency key"):
        charging.run(october, date(2026, 8, 1), "run-1")
    period = charging.one(october, date(2026, 9, 1), PageQuery())
    ferries = next(c for c in period.charges.rows if c.consumer == "Ferries")
    invoice = invoices.one(office.finance, ferries.invoice_id)
    # From 10 September noon: 21 of 30 days. Included 10 × 21/30 = 7; 60 − 7 = 53: 20 × 0.004 + 33 × 0.003.
    assert [(x.kind, x.days, x.priced, x.amount) for x in invoice.lines] == [
        ("fee", 21, None, Decimal("28.00")), ("usage", 21, Decimal(53), Decimal("0.18")),
    ]  # fmt: skip
    assert [(s.quantity, s.amount) for s in invoice.lines[1].slices] == [
        (Decimal(20), Decimal("0.080")), (Decimal(33), Decimal("0.099")),
    ]  # fmt: skip
    again = rate_text(json.dumps(invoices.evidence(office.finance, ferries.invoice_id)))
    assert [Decimal(x["amount"]) for x in again["lines"]] == [x.amount for x in invoice.lines]
    assert (Decimal(again["total"]), Decimal(again["tax"])) == (invoice.total, invoice.tax)
    assert sum(d.units for d in invoices.days(office.finance, invoice.lines[1].id)) == invoice.lines[1].quantity
    drafts = [c.invoice_id for c in period.charges.rows]
    assert charging.issue(october, drafts, "issue") == charging.issue(october, drafts, "issue") == 2
    with pytest.raises(Conflict, match="it is issued"):
        charging.issue(october, drafts)
    usage(office, 61)  # one call more: issued invoices stay as they are
    assert charging.run(october, date(2026, 9, 1)).left_alone == 2
    assert invoices.one(office.finance, ferries.invoice_id).total == invoice.total


def test_the_running_period_can_be_drafted_but_not_issued(office: Office) -> None:
    usage(office, 5)
    made = charging.run(office.finance, date(2026, 9, 1))
    with pytest.raises(Conflict, match="its period runs until"):
        charging.issue(
            office.finance, [c.invoice_id for c in charging.charges(office.finance, date(2026, 9, 1), PageQuery()).rows]
        )
    assert made.invoices == 2
    with pytest.raises(Conflict, match="has not begun"):
        charging.run(office.finance, date(2026, 10, 1))


def test_the_margin_rates_last_month_under_the_draft_and_finds_mistakes(office: Office) -> None:
    usage(office, 60)
    october = replace(office.manager, clock=lambda: datetime(2026, 10, 5, tzinfo=UTC))
    drafted = json.loads(json.dumps(terms(units=5)).replace('"0.004"', '"0.4"'))
    office.draft("Ketch", drafted, october)
    margin = consequences.consequences(october, office.product)
    ferries = next(a for a in margin.consumers if a.consumer == "Ferries")
    # 20 × 0.4 + 33 × 0.003 = 8.099 in place of 0.179, on top of 21/30 of the fee.
    assert (ferries.before, ferries.after) == (Decimal("28.18"), Decimal("36.10"))
    assert (margin.period, margin.after - margin.before) == ("September", Decimal("7.92"))
    assert any("includes 10, more than its allowance of 5" in note for note in margin.worth_a_look)


def test_gauges_show_what_is_recorded(office: Office) -> None:
    usage(office, 60)
    later = office.at(START + timedelta(days=1))
    (gauge,) = [g for g in allowances.own(later.acting(office.consumers[0].member)) if g.units == 100]
    assert (gauge.used, gauge.percent, gauge.consumer) == (Decimal(60), 60, "Ferries")
    assert gauge.projected_units > 100
    assert gauge.spent_at


def test_a_segment_met_again_after_a_crash_before_its_deletion_adds_nothing(office: Office, tmp_path: Path) -> None:
    folder = tmp_path / "gateway-1"
    folder.mkdir()
    one = office.consumers[0]
    records = [office.call(one, START + timedelta(seconds=n), n) for n in range(30)]
    segment = folder / "000000000001.jsonl"
    segment.write_bytes(b"".join(map(line, records)))
    (folder / "000000000002.open").write_bytes(line(records[0]))
    assert shipping.ship(office.ctx, tmp_path) == shipping.Shipment(1, 30, 0)
    assert not segment.exists()
    segment.write_bytes(b"".join(map(line, records)) + b'{"torn')
    assert shipping.ship(office.ctx, tmp_path) == shipping.Shipment(1, 0, 1)
    assert [p.name for p in sorted(folder.iterdir())] == ["000000000001.damaged", "000000000002.open"]
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(Call)).all()) == 30


def test_anothers_application_key_and_request_do_not_exist_for_one(office: Office) -> None:
    ferries, kayaks = office.consumers
    other = office.acting(kayaks)
    for attempt in (
        lambda: applications.make_key(other, ferries.application, "x"),
        lambda: applications.revoke_key(other, ferries.key),
        lambda: requests.ask(other, ferries.application, office.plans["Skiff"], "Something useful.", True),
        lambda: requests.take_back(other, ferries.request),
    ):
        with pytest.raises(NotFound):
            attempt()
