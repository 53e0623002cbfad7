"""What was issued as files: lines, cost and usage rows, and archives; their sums are those of the documents."""

from __future__ import annotations

import csv
import io
import json
import re
import zipfile
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import pyarrow.parquet
import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.formats.money_documents import focus
from calm_tariff.services.base.context import SYSTEM
from calm_tariff.services.settle.documents import files
from calm_tariff.services.settle.exports import bundles, cost_and_usage, lines
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.settle.bundles import Bundle, BundlePart
from calm_tariff.store.settle.money_documents import MoneyDocument, MoneyLine
from tests.formats.money_documents.focus_columns import COLUMNS
from tests.office import Office
from tests.services.months import OCTOBER
from tests.services.queries import asked
from tests.services.settle.exports.issued_month import october

SIGN = {"invoice": 1, "credit note": -1}


@pytest.fixture
def invoice(office: Office) -> int:
    return october(office)


def documents(office: Office) -> dict[str, MoneyDocument]:
    with office.ctx.transaction() as session:
        query = select(MoneyDocument).where(MoneyDocument.period_start == OCTOBER, MoneyDocument.number.is_not(None))
        return {each.number or "": each for each in session.scalars(query)}


def test_every_line_is_a_row_and_they_come_to_what_the_documents_come_to(office: Office, invoice: int) -> None:
    rows = list(lines.of_period(office.finance, OCTOBER))
    known = documents(office)
    assert {row.document for row in rows} == set(known) and len(known) == 3
    for number, document in known.items():
        mine = [row.amount for row in rows if row.document == number]
        assert sum(mine) == SIGN[document.kind] * document.subtotal, number
    with office.ctx.transaction() as session:
        ids = [each.id for each in known.values()]
        assert len(rows) == session.scalar(select(func.count(MoneyLine.id)).where(MoneyLine.document_id.in_(ids)))
    assert {row.sort for row in rows} == {"own", "late", "adjustment", "credit"}
    late = next(row for row in rows if row.sort == "late")
    assert (late.belongs_to, late.corrects, late.consumer) == (date(2026, 9, 1), "INV-2026-00001", "Ferries")
    units = next(row for row in rows if row.sort == "own" and row.charge == "usage" and row.consumer == "Ferries")
    assert f"{units.product} · {units.plan}" == "Harbour Data · Ketch"
    assert units.application == "Ferries app"


def test_lines_are_read_without_asking_for_each_document(office: Office, invoice: int) -> None:
    with asked(office.ctx) as found:
        list(lines.of_period(office.finance, OCTOBER))
    assert len(found) <= 16
    with asked(office.ctx) as again:
        list(lines.every(office.ctx, OCTOBER))
    assert len(again) <= 16


def test_nobody_gets_anothers_lines(office: Office, invoice: int) -> None:
    assert lines.of_own(office.acting(office.consumers[0]), invoice) == lines.of_invoice(office.finance, invoice)
    with pytest.raises(NotFound):
        lines.of_own(office.acting(office.consumers[1]), invoice)
    with pytest.raises(NotSignedIn):
        lines.of_period(office.acting(office.consumers[0]), OCTOBER)


def test_cost_and_usage_rows_hold_to_the_specification(office: Office, invoice: int) -> None:
    rows = list(csv.DictReader(io.StringIO("".join(focus.as_csv(cost_and_usage.of_period(office.finance, OCTOBER))))))
    assert list(COLUMNS) == [name for name in rows[0] if not name.startswith("x_")]
    assert focus.columns()[-2:] == ["x_Document", "x_TaxTreatment"]
    for row in rows:
        for column, (kind, null, allowed) in COLUMNS.items():
            value = row[column]
            assert value or null, (column, row)
            if not value:
                continue
            assert not allowed or value in allowed, (column, value)
            if kind == "decimal":
                assert re.fullmatch(r"-?\d+(\.\d+)?", value), (column, value)
            elif kind == "datetime":
                assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", value), (column, value)
            elif kind == "currency":
                assert value == "EUR"
            elif kind == "json":
                assert isinstance(json.loads(value), dict)
        assert row["ChargePeriodStart"] < row["ChargePeriodEnd"]
        # A unit stands beside each quantity, and a SKU beside what is used or bought.
        assert bool(row["ConsumedQuantity"]) == bool(row["ConsumedUnit"]) == (row["ChargeCategory"] == "Usage")
        assert bool(row["PricingQuantity"]) == bool(row["PricingUnit"])
        assert row["SkuPriceId"] or row["ChargeCategory"] in ("Tax", "Adjustment")
    assert {row["ChargeCategory"] for row in rows} == {"Usage", "Purchase", "Tax", "Adjustment"}
    assert {row["BillingPeriodStart"] for row in rows} == {"2026-09-30T23:00:00Z"}  # the first in Lisbon


def test_cost_and_usage_rows_come_to_the_totals_with_tax(office: Office, invoice: int) -> None:
    rows = list(cost_and_usage.of_period(office.finance, OCTOBER))
    for number, document in documents(office).items():
        mine = [row for row in rows if row.x_document == number]
        assert sum(row.billed_cost for row in mine) == SIGN[document.kind] * document.total, number
        taxed = sum(row.billed_cost for row in mine if row.charge_category == "Tax")
        assert taxed == SIGN[document.kind] * document.tax
    corrections = {row.x_document for row in rows if row.charge_class == "Correction"}
    assert "CN-2026-00001" in corrections and len(corrections) == 2  # and the invoice with the late line
    assert {row.billing_account_name for row in rows} == {"Ferries", "Kayaks"}


def test_parquet_says_what_csv_says(office: Office, invoice: int) -> None:
    rows = list(cost_and_usage.of_period(office.finance, OCTOBER))
    table = pyarrow.parquet.read_table(io.BytesIO(focus.as_parquet(rows)))
    assert table.column_names == focus.columns() and table.num_rows == len(rows)
    assert table["BilledCost"].to_pylist() == [row.billed_cost for row in rows]
    assert table["ChargePeriodStart"].to_pylist() == [row.charge_period_start for row in rows]
    assert str(table.schema.field("BilledCost").type) == "decimal128(38, 10)"
    assert table["ServiceName"].to_pylist() == [row.service_name for row in rows]
    assert pyarrow.parquet.read_table(io.BytesIO(focus.as_parquet([]))).num_rows == 0


def archive(office: Office, bundle_id: int) -> zipfile.ZipFile:
    name, parts = bundles.content(office.finance, bundle_id)
    assert name == "documents-2026-10.zip"
    return zipfile.ZipFile(io.BytesIO(b"".join(parts)))


def test_an_archive_holds_every_document_in_every_form(office: Office, invoice: int) -> None:
    begun = bundles.begin(office.finance, OCTOBER, "once")
    assert (begun.state, begun.planned) == ("running", 3)
    assert bundles.begin(office.finance, OCTOBER, "once") == begun
    with office.ctx.transaction() as session:
        assert session.scalars(select(Job.arguments).where(Job.kind == bundles.MAKE)).all() == [{"bundle": begun.id}]
    with pytest.raises(Conflict, match="already"):
        bundles.begin(office.finance, OCTOBER)
    with pytest.raises(Conflict, match="is running"):
        bundles.content(office.finance, begun.id)
    assert bundles.make(office.ctx.acting(SYSTEM), begun.id) is True
    (done,) = bundles.of_period(office.finance, OCTOBER)
    assert (done.state, done.done) == ("done", 3)
    found = archive(office, begun.id)
    assert found.testzip() is None
    numbers = sorted(documents(office))
    wanted = {f"{n}.{end}" for n in numbers for end in ("pdf", "xml")}
    wanted |= {f"{n}.evidence.json" for n in numbers if n.startswith("INV")}
    wanted |= {"lines.csv", "cost-and-usage.csv", "cost-and-usage.parquet"}
    assert set(found.namelist()) == wanted
    kept = files.one(office.finance, invoice, "pdf")
    assert found.read(kept.name) == kept.content
    rows = list(csv.DictReader(io.StringIO(found.read("lines.csv").decode())))
    assert sum(Decimal(row["amount"]) for row in rows) == sum(
        SIGN[d.kind] * d.subtotal for d in documents(office).values()
    )
    assert bundles.make(office.ctx, begun.id) is False


def test_an_archive_that_was_broken_off_is_put_together_anew(
    office: Office, invoice: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(bundles, "PART", 20_000)
    begun = bundles.begin(office.finance, OCTOBER)

    class Killed(Exception): ...

    def dies(*_: object) -> Any:
        raise Killed

    with monkeypatch.context() as dying:
        dying.setattr(bundles.cost_and_usage, "every", dies)
        with pytest.raises(Killed):
            bundles.make(office.ctx, begun.id)
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count(BundlePart.place))) > 1  # type: ignore[operator]
    assert bundles.make(office.ctx, begun.id) is True
    assert archive(office, begun.id).testzip() is None


def test_an_archive_that_is_stopped_leaves_nothing(
    office: Office, invoice: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    begun = bundles.begin(office.finance, OCTOBER)
    write = files.write

    def stops(ctx: Any, document: int) -> bool:
        if bundles.of_period(office.finance, OCTOBER)[0].state == "running":
            bundles.stop(office.finance, begun.id)
        return write(ctx, document)

    monkeypatch.setattr(bundles.files, "write", stops)
    assert bundles.make(office.ctx, begun.id) is False
    assert bundles.of_period(office.finance, OCTOBER)[0].state == "stopped"
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count(BundlePart.place))) == 0
    for ask in (bundles.stop, bundles.content):
        with pytest.raises(Conflict):
            ask(office.finance, begun.id)


def test_archives_are_asked_for_by_finance_of_what_was_issued_and_forgotten(office: Office, invoice: int) -> None:
    with pytest.raises(NotAllowed):
        bundles.begin(office.reviewer, OCTOBER)
    with pytest.raises(Conflict, match="nothing was issued"):
        bundles.begin(office.finance, date(2026, 11, 1))
    with pytest.raises(Invalid):
        bundles.begin(office.finance, date(2026, 10, 2))
    begun = bundles.begin(office.finance, OCTOBER)
    bundles.make(office.ctx, begun.id)
    office.clock.now += bundles.KEPT
    bundles.forget(office.ctx)
    assert len(bundles.of_period(office.finance, OCTOBER)) == 1
    office.clock.now += timedelta(seconds=1)
    bundles.forget(office.ctx)
    assert bundles.of_period(office.finance, OCTOBER) == []
    with office.ctx.transaction() as session:
        assert (
            session.scalar(select(func.count(Bundle.id))) == session.scalar(select(func.count(BundlePart.place))) == 0
        )
    with pytest.raises(NotFound):
        bundles.content(office.finance, begun.id)
