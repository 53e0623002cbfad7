"""A worker goes on whatever the database does, and says how it is."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from threading import Event
from typing import Any

import pymysql
import pytest
from sqlalchemy.exc import OperationalError

from calm_tariff.core.errors import Deadlocked
from calm_tariff.services.base.supervision import Supervised
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.shipping import Shipment
from calm_tariff.settings import Settings
from calm_tariff.worker import run
from calm_tariff.worker.run import Worker
from tests.office import Office
from tests.processes import wait_for

AWAY = OperationalError("select", {}, pymysql.err.OperationalError(2003, "Can't connect"))


@pytest.fixture
def worker(office: Office, tmp_path: Path) -> Worker:
    return Worker(office.ctx, Settings(var=tmp_path))


def gone_on(worker: Worker, name: str, until: Callable[[], bool]) -> Supervised:
    """One of its threads, run until something is true."""
    stop = Event()
    thread = next(t for t in worker.threads(stop) if t.name == name)
    thread.start()
    try:
        wait_for(until)
    finally:
        stop.set()
        thread.join()
    return thread


@pytest.mark.parametrize("trouble", [AWAY, Deadlocked("somebody was in the way"), OSError(28, "no room")])
def test_shipping_waits_out_what_passes_and_is_not_begun_again_for_it(
    worker: Worker, monkeypatch: pytest.MonkeyPatch, trouble: Exception
) -> None:
    came: list[int] = []

    def ship(*_: Any) -> Shipment:
        came.append(1)
        if len(came) in (1, 2):
            raise trouble
        return Shipment(1, 10, 0)

    monkeypatch.setattr(run, "ship", ship)
    monkeypatch.setattr(run, "SHIP_SECONDS", 0.01)
    monkeypatch.setattr(run, "AWAY_SECONDS", 0.01)
    thread = gone_on(worker, "shipping", lambda: worker.shipped >= 20)
    assert thread.died == 0


@pytest.mark.parametrize("trouble", [AWAY, Deadlocked("somebody was in the way")])
def test_reporting_waits_out_what_passes(
    worker: Worker, office: Office, monkeypatch: pytest.MonkeyPatch, trouble: Exception
) -> None:
    report, came = instances.report, []

    def once_in_the_way(*what: Any) -> None:
        came.append(1)
        if len(came) == 1:
            raise trouble
        report(*what)

    monkeypatch.setattr(instances, "report", once_in_the_way)
    monkeypatch.setattr(instances, "REPORT_SECONDS", 0.01)
    thread = gone_on(worker, "reporting", lambda: bool(instances.health(office.manager).instances))
    assert thread.died == 0
    (told,) = instances.health(office.manager).instances
    assert (told.kind, told.report["shipped_calls"], told.report["begun_again"]) == ("worker", 0, {})


def test_what_breaks_off_for_another_reason_is_begun_again_and_said(
    worker: Worker, monkeypatch: pytest.MonkeyPatch
) -> None:
    came: list[int] = []

    def ship(*_: Any) -> Shipment:
        came.append(1)
        if len(came) == 1:
            raise ZeroDivisionError("a mistake of ours")
        return Shipment(1, 1, 0)

    monkeypatch.setattr(run, "ship", ship)
    monkeypatch.setattr("calm_tariff.services.base.supervision.PAUSE_SECONDS", 0.01)
    thread = gone_on(worker, "shipping", lambda: worker.shipped >= 1)
    assert thread.died == 1 and "a mistake of ours" in thread.last_error
    assert worker.words()["begun_again"] == {"shipping": 1}
