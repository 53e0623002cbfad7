"""What plans cost and do: estimates and curves, plans that end, and every rule a line of an invoice is made by."""

import json
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed
from calm_tariff.services.admit import carrying_over, overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose import estimates, meters, plans, products, tariff_sheet
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.compose.products import ProductTyped
from calm_tariff.services.observe import allowances
from calm_tariff.services.serve import history, meter_preview
from calm_tariff.services.settle import charging, consequences, invoices
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office, terms

OCTOBER = datetime(2026, 10, 2, 9, tzinfo=UTC)


def priced(**pricing: object) -> dict:
    made = terms()
    made["pricing"] |= pricing
    return made


@pytest.mark.parametrize(
    ("units", "skiff", "ketch"),
    [
        ("0", "0.00", "40.00"),
        ("10", "0.00", "40.00"),
        ("30", "0.08", "40.08"),  # 20 × 0.004
        ("30.5", None, "40.08"),  # 0.5 × 0.003 more is less than half a cent
        ("100", None, "40.29"),  # and 70 × 0.003
        ("100.000001", None, None),
    ],
)
def test_a_quantity_costs_on_each_plan_what_an_invoice_would_say(office: Office, units, skiff, ketch) -> None:
    """Skiff refuses beyond 30, Ketch beyond 100."""
    found = estimates.estimate(office.manager, office.product, "forecast_calls", Decimal(units))
    assert [(e.plan, None if e.charge is None else str(e.charge)) for e in found] == [("Skiff", skiff),
                                                                                     ("Ketch", ketch)]  # fmt: skip


@pytest.mark.parametrize("units", ["-1", "1000000000000.1"])
def test_an_estimate_beyond_reason_is_refused(office: Office, units: str) -> None:
    with pytest.raises(Invalid, match="between 0 and"):
        estimates.estimate(office.manager, office.product, "forecast_calls", Decimal(units))
    assert len(estimates.estimate(office.manager, office.product, "forecast_calls", Decimal(10**12))) == 2


def test_curves_end_where_an_allowance_refuses_and_show_the_live_terms_beside_a_draft(office: Office) -> None:
    cheap = json.loads(json.dumps(terms(when_spent="charge")).replace('"0.004"', '"0.5"'))
    office.draft("Ketch", cheap)
    (drawn,) = consequences.consequences(office.manager, office.product).meters
    skiff, ketch = drawn.curves
    assert (drawn.name, drawn.top, drawn.consumers, skiff.as_now) == ("Forecast calls", 1000, [], None)

    def corners(points) -> list[tuple[str, str]]:
        return [(f"{p.units.normalize():f}", f"{p.charge.normalize():f}") for p in points]

    assert corners(skiff.points) == [("0", "0"), ("10", "0"), ("10", "0"), ("30", "0.08")]
    # Included up to 10, then 20 × 0.5, then 970 × 0.003; live, the allowance refuses beyond 100.
    assert corners(ketch.points)[-3:] == [("30", "50"), ("30", "50"), ("1000", "52.91")]
    assert corners(ketch.as_now)[-3:] == [("30", "40.08"), ("30", "40.08"), ("100", "40.29")]
    assert drawn.break_evens == []


def test_who_is_moved_from_a_plan_goes_to_one_that_is_sold(office: Office) -> None:
    skiff, ketch = office.plans["Skiff"], office.plans["Ketch"]
    other = products.create(
        office.manager, ProductTyped("Sea", "Waves.", "Name us.", "open", [office.operations["GET /stations"]])
    )
    head = plans.add(office.manager, other.id, "Gull").plans[-1]
    foreign = head.id
    tariff_sheet.save_draft(
        office.manager, foreign, head.edition, {"pricing": {"prices": [{"kind": "fee", "amount": "5"}]}}
    )
    office.publish("keep", product=other.id)
    drafted = plans.add(office.manager, office.product, "Dinghy").plans[-1].id
    for target in (foreign, drafted, ketch):
        with pytest.raises(Invalid, match="another plan of the product that is sold"):
            carrying_over.withdraw(office.manager, ketch, target)
    with pytest.raises(NotAllowed):
        carrying_over.withdraw(office.reviewer, ketch, skiff)
    with pytest.raises(NotAllowed):
        plans.show_to(office.reviewer, ketch, [])
    # A move for the next period stands already: the plan that ends takes it along.
    office.draft("Ketch", terms(fee="70"))
    office.publish("next period")
    one = office.consumers[0]
    office.clock.forward(days=2)
    plans.close(office.manager, skiff)
    carrying_over.withdraw(office.manager, ketch, skiff)
    with office.ctx.transaction() as session:
        stays = session.scalars(select(Stay).where(Stay.subscription_id == one.subscription).order_by(Stay.start_at))
        assert [(s.revision.plan.name, s.start_at, s.end_at) for s in stays] == [
            ("Ketch", START, START + timedelta(days=2)), ("Skiff", START + timedelta(days=2), None),
        ]  # fmt: skip
    office.clock.now = OCTOBER
    charging.run(office.finance, date(2026, 9, 1))
    (charge,) = {c.charge for c in charging.charges(office.finance, date(2026, 9, 1), PageQuery()).rows}
    assert charge == Decimal("2.67")  # 2 of 30 days of 40, then a plan without a fee


@pytest.mark.parametrize(
    ("pricing", "calls", "lines"),
    [
        ({"minimum": "90"}, 60, [("fee", "40.00", "€40 a month"), ("usage", "0.17", None),
                                 ("minimum", "49.83", "at least 90 EUR a month")]),
        ({"cap": "30.5"}, 60, [("fee", "40.00", "€40 a month"), ("usage", "0.17", None),
                               ("cap", "-9.67", "at most 30.5 EUR a month")]),
        ({"discount_percent": "12.5"}, 60, [("fee", "40.00", "€40 a month"), ("usage", "0.17", None),
                                            ("discount", "-5.02", "12.5% off fee and usage")]),
        ({"minimum": "40", "cap": "50"}, 0, [("fee", "40.00", "€40 a month"), ("usage", "0.00", None)]),
    ],
)  # fmt: skip
def test_each_line_of_an_invoice_names_the_rule_it_was_made_by(office: Office, pricing, calls: int, lines) -> None:
    office.draft("Ketch", priced(prorate=False, **pricing))
    office.publish("keep")
    who = office.admit("Terns", "Ketch")
    history.take_in(office.ctx, [office.call(who, START + timedelta(minutes=n), n) for n in range(calls)])
    office.clock.now = OCTOBER
    charging.run(office.finance, date(2026, 9, 1))
    (row,) = charging.charges(office.finance, date(2026, 9, 1), PageQuery("terns")).rows
    invoice = invoices.one(office.finance, row.invoice_id)
    assert [(x.kind, x.amount) for x in invoice.lines] == [(kind, Decimal(amount)) for kind, amount, _ in lines]
    for line, (_, _, rule) in zip(invoice.lines, lines, strict=True):
        if rule:
            assert rule in line.rule
    assert invoice.total == sum(Decimal(a) for _, a, _ in lines) + invoice.tax


def test_an_allowance_counts_as_nearly_spent_from_the_very_percent_on(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([office.call(one, START + timedelta(seconds=n), n) for n in range(80)]))
    with office.ctx.transaction() as session:
        assert [allowances.nearly_spent(session, START, percent) for percent in (79, 80, 81)] == [1, 1, 0]
        (fullest,) = allowances.running_out(session, START, 80, 5)
        assert (fullest.used, fullest.percent) == (80, 80)


def test_gateways_hear_at_once_of_a_limit_of_one_subscription_and_of_its_end(office: Office) -> None:
    tomas = office.ctx.acting(Actor("Tomas", "operations"))
    numbers = [stamps.number(office.ctx)]
    typed = OverrideTyped({**terms()["limits"][0], "calls": 1}, "A script ran wild.", date(2026, 9, 12))
    made = overrides.make(tomas, office.consumers[0].subscription, typed)
    numbers.append(stamps.number(office.ctx))
    overrides.lift(tomas, made.id)
    numbers.append(stamps.number(office.ctx))
    assert numbers == sorted(set(numbers))


def test_what_a_paused_meter_would_have_counted_is_counted_by_none(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, [office.call(one, START - timedelta(hours=n), n, units={}) for n in range(6)])
    nothing = MeterTyped("", [office.operations["GET /stations"]], [], "calls")
    assert (
        meter_preview.preview(office.manager, nothing).matched,
        meter_preview.preview(office.manager, nothing).uncounted,
    ) == (
        0,
        0,
    )
    meters.set_state(office.manager, office.meter, "paused")
    assert meter_preview.preview(office.manager, nothing).uncounted == 6
    with pytest.raises(Conflict):
        meters.set_state(office.manager, office.meter, "paused")
    # Asked for the meter itself, it is the typed one that counts.
    again = replace(nothing, operations=[office.operations["GET /stations/{id}"]])
    assert meter_preview.preview(office.manager, again, office.meter).uncounted == 0
