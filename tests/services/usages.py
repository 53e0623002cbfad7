"""Usage as tests record it, and the plan they look at."""

from __future__ import annotations

from datetime import datetime, timedelta

from calm_tariff.services.compose.sheet import tariff_sheet
from calm_tariff.services.serve import history
from tests.office import START, Office


def ketch(sheet: tariff_sheet.Sheet) -> tariff_sheet.SheetPlan:
    return next(p for p in sheet.plans if p.name == "Ketch")


def usage(office: Office, count: int, since: datetime = START, every: timedelta = timedelta(minutes=11)) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([office.call(one, since + every * n, n) for n in range(count)]))
