"""An office whose gateway, worker and stand-ins run."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx
import pytest
from sqlalchemy import func, select

from calm_tariff.services.base.context import context_for
from calm_tariff.services.serve import instances
from calm_tariff.store.serve.usage import Call, HourlyUsage
from tests.office import Consumer, Office, terms
from tests.processes import HERE, PATIENCE, Processes, wait_for
from tests.servers import RunDatabase

# A client takes longer to make than a call; each call has a connection of its own all the same.
_HTTP = httpx.Client(limits=httpx.Limits(max_keepalive_connections=0), timeout=PATIENCE)


# Terms that refuse nothing a test asks for.
PLENTY = {"Ketch": terms(calls=100_000, burst=100_000, units=1_000_000)}


class Running:
    """An office whose gateway, worker and stand-ins run."""

    back_end: Any = None

    def __init__(
        self,
        database: RunDatabase,
        var: Path,
        plans: dict,
        commands: tuple[str, ...] = ("standins", "gateway", "worker"),
        more: dict[str, Any] | None = None,
    ) -> None:
        self.database, self.lent = database, database.lend()
        self.engine = self.lent.engine
        self.processes = Processes(var, self.lent.serving, more=more or {})
        self.office = Office.open(
            context_for(self.engine, sealing_secret=self.processes.settings.value_secret, reach=HERE),
            f"{self.processes.standins}/tides",
            plans,
        )
        for command in commands:
            self.processes.start(command)

    def stop(self) -> None:
        """End its processes."""
        self.processes.stop()
        self.database.take_back(self.lent)

    @property
    def caller(self) -> Consumer:
        return self.office.consumers[0]

    def get(self, path: str = "/tides/v1/stations/lm-01", secret: str | None = "", **more) -> httpx.Response:
        headers = {"X-API-Key": secret or self.caller.secret} if secret is not None else {}
        address, method = self.processes.gateway + path, more.pop("method", "GET")
        return _HTTP.request(method, address, headers={**headers, **more})

    def recorded(self, verdict: str | None = None) -> int:
        wait_for(self.processes.shipped)
        with self.office.ctx.transaction() as session:
            query = select(func.count()).select_from(Call)
            return session.scalar(query.where(Call.verdict == verdict) if verdict else query) or 0

    def has_the_newest(self) -> bool:
        """Whether every gateway has said that it knows all that was changed."""
        told = [one for one in instances.health(self.office.manager).instances if one.kind == "gateway"]
        return bool(told) and all(one.behind == 0 for one in told)

    def units(self) -> Decimal:
        with self.office.ctx.transaction() as session:
            return session.scalar(select(func.sum(HourlyUsage.units))) or Decimal(0)


@pytest.fixture
def running(database: RunDatabase, tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Running]:
    made = Running(database, tmp_path, getattr(request, "param", {"Ketch": terms()}))
    yield made
    made.stop()
