"""Every figure of an invoice is explained by its rule."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest

from calm_tariff.services.compose.sheet import tariff_sheet
from calm_tariff.services.serve import history
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office, terms
from tests.services.months import OCTOBER, period

IN_OCTOBER = datetime(2026, 10, 2, 9, tzinfo=UTC)


def priced(**pricing: object) -> dict:
    made = terms()
    made["pricing"] |= pricing
    return made


@pytest.mark.parametrize(
    ("pricing", "calls", "lines"),
    [
        (
            {"minimum": "90"},
            60,
            [("fee", "40.00", "€40 a month"), ("usage", "0.17", None), ("minimum", "49.83", "at least 90 EUR a month")],
        ),
        (
            {"cap": "30.5"},
            60,
            [("fee", "40.00", "€40 a month"), ("usage", "0.17", None), ("cap", "-9.67", "at most 30.5 EUR a month")],
        ),
        (
            {"discount_percent": "12.5"},
            60,
            [
                ("fee", "40.00", "€40 a month"),
                ("usage", "0.17", None),
                ("discount", "-5.02", "12.5% off fee and usage"),
            ],
        ),
        ({"minimum": "40", "cap": "50"}, 0, [("fee", "40.00", "€40 a month"), ("usage", "0.00", None)]),
    ],
)
def test_each_line_of_an_invoice_names_the_rule_it_was_made_by(office: Office, pricing, calls: int, lines) -> None:
    office.draft("Ketch", priced(prorate=False, **pricing))
    office.publish("keep")
    who = office.admit("Terns", "Ketch")
    history.take_in(office.ctx, [office.call(who, START + timedelta(minutes=n), n) for n in range(calls)])
    office.clock.now = IN_OCTOBER
    charging.run(office.finance, date(2026, 9, 1))
    (row,) = periods.charges(office.finance, date(2026, 9, 1), PageQuery("terns")).rows
    invoice = invoices.one(office.finance, row.invoice_id)
    assert [(x.kind, x.amount) for x in invoice.lines] == [(kind, Decimal(amount)) for kind, amount, _ in lines]
    for line, (_, _, rule) in zip(invoice.lines, lines, strict=True):
        if rule:
            assert rule in line.rule
    assert invoice.total == sum(Decimal(a) for _, a, _ in lines) + invoice.tax


def test_each_of_several_fees_is_explained_by_its_own_rule(office: Office) -> None:
    priced = terms()
    priced["pricing"]["prices"].insert(1, {"kind": "fee", "amount": "3"})
    sheet = tariff_sheet.sheet(office.manager, office.product)
    ketch = next(p for p in sheet.plans if p.name == "Ketch")
    tariff_sheet.save_draft(office.manager, ketch.id, ketch.edition, priced)
    office.publish("next period")
    office.clock.now = datetime(2026, 11, 2, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    lines = invoices.one(office.finance, period(office, OCTOBER).drafts[0]).lines
    assert [(x.amount, x.rule) for x in lines if x.kind == "fee"] == [
        (40, "€40 a month, by the day"),
        (3, "€3 a month, by the day"),
    ]
