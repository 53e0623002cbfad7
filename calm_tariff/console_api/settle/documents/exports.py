"""What was issued as files for other programs: lines, cost and usage rows, and a period's documents in one archive."""

from __future__ import annotations

from datetime import date

from fastapi import APIRouter
from fastapi.responses import Response, StreamingResponse

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge import attachment
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.lists import as_csv
from calm_tariff.formats.money_documents import focus
from calm_tariff.services.settle.exports import bundles, cost_and_usage, lines
from calm_tariff.services.settle.exports.bundles import BundleView
from calm_tariff.services.settle.exports.lines import LineRow

router = APIRouter(tags=["settle"], route_class=Again)


@router.get("/invoices/{invoice_id}/lines.csv", response_class=Response)
def lines_of_invoice(ctx: Asking, invoice_id: int) -> Response:
    """The lines of an issued invoice as CSV."""
    return as_csv(f"lines-{invoice_id}", LineRow, lines.of_invoice(ctx, invoice_id))


@router.get("/periods/{start}/lines.csv", response_class=Response)
def lines_of_period(ctx: Asking, start: date) -> Response:
    """The lines of all documents that were issued for a period as CSV."""
    return as_csv(f"lines-{start:%Y-%m}", LineRow, lines.of_period(ctx, start))


@router.get("/periods/{start}/cost-and-usage.csv", response_class=Response)
def cost_and_usage_rows(ctx: Asking, start: date) -> Response:
    """What was issued for a period as cost and usage rows (FOCUS 1.0), as CSV."""
    rows = focus.as_csv(list(cost_and_usage.of_period(ctx, start)))
    name = attachment.named(f"cost-and-usage-{start:%Y-%m}.csv")
    return StreamingResponse(rows, media_type="text/csv; charset=utf-8", headers=name)


@router.get("/periods/{start}/cost-and-usage.parquet", response_class=Response)
def cost_and_usage_file(ctx: Asking, start: date) -> Response:
    """The same as Parquet."""
    content = focus.as_parquet(cost_and_usage.of_period(ctx, start))
    name = attachment.named(f"cost-and-usage-{start:%Y-%m}.parquet")
    return Response(content, media_type="application/vnd.apache.parquet", headers=name)


@router.get("/periods/{start}/bundles")
def list_bundles(ctx: Asking, start: date) -> list[BundleView]:
    """The archives of all that was issued for a period, the latest first."""
    return bundles.of_period(ctx, start)


@router.post("/periods/{start}/bundles", status_code=201)
def begin_bundle(ctx: Asking, start: date, idempotency_key: IdempotencyKey = None) -> BundleView:
    """Have all that was issued for a period put together in one archive, by a job."""
    return bundles.begin(ctx, start, idempotency_key)


@router.post("/bundles/{bundle_id}/stop")
def stop_bundle(ctx: Asking, bundle_id: int) -> BundleView:
    """Put no more together."""
    return bundles.stop(ctx, bundle_id)


@router.get("/bundles/{bundle_id}/documents.zip", response_class=Response)
def bundle_file(ctx: Asking, bundle_id: int) -> Response:
    """An archive that is done."""
    name, parts = bundles.content(ctx, bundle_id)
    return StreamingResponse(parts, media_type="application/zip", headers=attachment.named(name))
