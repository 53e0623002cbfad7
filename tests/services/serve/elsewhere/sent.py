"""Calls of another gateway, as tests send them."""

from __future__ import annotations

import csv
import io
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select

from calm_tariff.core.ids import outside_call_id
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve.elsewhere import at_once, files, going_on
from calm_tariff.services.serve.elsewhere.at_once import Sent
from calm_tariff.services.serve.elsewhere.files import UsageFileView
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.usage import Call, DailyUsage, HourlyOutcomes, HourlyUsage
from tests.office import START, Office

SOURCE = "edge"


def client_id(office: Office, consumer: int = 0) -> str:
    with office.ctx.transaction() as session:
        return session.get_one(Application, office.consumers[consumer].application).client_id


def row(office: Office, n: int, at: datetime | None = None, **said: Any) -> dict[str, Any]:
    """A good row: Ferries' call of station x, which the meter counts."""
    moment = at or START + timedelta(seconds=n)
    return {
        "source": SOURCE,
        "id": str(n),
        "time": moment.isoformat(),
        "application": client_id(office),
        "operation": "GET /tides/v1/stations/x",
        "status": "200",
        "bytes_out": "100",
        **said,
    }


def text(rows: list[dict[str, Any]]) -> bytes:
    out = io.StringIO()
    names = list(dict.fromkeys(name for each in rows for name in each))
    writer = csv.DictWriter(out, names)
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue().encode()


def send(office: Office, rows: list[dict[str, Any]], leaving_out: bool = False, key: str | None = None) -> Sent:
    return at_once.send(office.finance, io.BytesIO(text(rows)), "", leaving_out, key)


def take(office: Office, rows: list[dict[str, Any]], ctx: Context | None = None) -> UsageFileView:
    """A file, taken in and checked."""
    taken = files.take(office.finance, "late.csv", io.BytesIO(text(rows)))
    done(ctx or office.ctx, taken.id)
    return files.one(office.finance, taken.id)


def done(ctx: Context, file: int) -> None:
    while going_on.go_on(ctx, file):
        pass


def bring_in(office: Office, rows: list[dict[str, Any]], leaving_out: bool = True) -> UsageFileView:
    """A file, taken in, checked and recorded."""
    taken = take(office, rows)
    files.record(office.finance, taken.id, leaving_out)
    done(office.ctx, taken.id)
    return files.one(office.finance, taken.id)


def recorded(office: Office, n: int | str, source: str = SOURCE) -> Call | None:
    with office.ctx.transaction() as session:
        return call_queries.one(session, outside_call_id(source, str(n)))


def sums(office: Office) -> tuple[Any, ...]:
    """Calls; units by hours, by days and by calls; calls and bytes by outcome: all of them, each from its own table."""
    with office.ctx.transaction() as session:
        calls = session.scalars(select(Call)).all()
        by_call = sum(float(units) for call in calls for units in call.units.values())
        by_hour = session.scalar(select(func.sum(HourlyUsage.units))) or 0
        by_day = session.scalar(select(func.sum(DailyUsage.units))) or 0
        outcomes = session.execute(select(func.sum(HourlyOutcomes.calls), func.sum(HourlyOutcomes.bytes_out))).one()
        sizes = sum(call.bytes_out for call in calls)
    assert float(by_hour) == float(by_day) == by_call
    assert (int(outcomes[0] or 0), int(outcomes[1] or 0)) == (len(calls), sizes)
    return len(calls), by_call
