"""Running processes: what each reports of itself, and which of them live."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.dialects.mysql import insert

from calm_tariff.services.base import retrying, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.record import Stamp
from calm_tariff.store.serve.instances import Instance
from calm_tariff.version import version

ALIVE = timedelta(seconds=5)
# How often a process reports that does not decide on calls.
REPORT_SECONDS = 2.0
FORGOTTEN = timedelta(days=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class InstanceView:
    """A process as it last reported. `behind` is how many changes its snapshot has not got yet."""

    name: str
    kind: str
    alive: bool
    started_at: datetime
    seen_at: datetime
    behind: int
    report: dict[str, Any]


@dataclass(frozen=True, slots=True)
class GatewayHealth:
    """All processes, and when terms, keys or subscriptions last changed; and the version that answers."""

    version: str
    now: datetime
    snapshot: int
    changed_at: datetime | None
    instances: list[InstanceView]


def report(ctx: Context, name: str, kind: str, started_at: datetime, words: dict[str, Any]) -> None:
    """Keep what a process reports of itself, with the version it is of."""
    retrying.again(lambda: _keep(ctx, name, kind, started_at, {**words, "version": version()}))


def _keep(ctx: Context, name: str, kind: str, started_at: datetime, words: dict[str, Any]) -> None:
    with ctx.transaction() as session:
        made = insert(Instance).values(name=name, kind=kind, started_at=started_at, seen_at=ctx.now, report=words)
        same = {n: getattr(made.inserted, n) for n in ("kind", "started_at", "seen_at", "report")}
        session.execute(made.on_duplicate_key_update(same))


def leave(ctx: Context, name: str) -> None:
    """A process ends in good order, and is no longer waited for."""
    with ctx.transaction() as session:
        session.execute(delete(Instance).where(Instance.name == name))


def sharing(ctx: Context, counters: str) -> frozenset[str]:
    """The gateways that have reported lately that they share their counts there."""
    with ctx.transaction() as session:
        query = select(Instance).where(Instance.kind == "gateway", Instance.seen_at > ctx.now - ALIVE)
        return frozenset(i.name for i in session.scalars(query) if i.report.get("shares") == counters)


def deciding(ctx: Context, but: str, within: timedelta) -> list[str]:
    """Where gateways other than one decide for proxies, of those that have reported within a while."""
    with ctx.transaction() as session:
        query = select(Instance).where(
            Instance.kind == "gateway", Instance.name != but, Instance.seen_at > ctx.now - within
        )
        return [i.report["decides_at"] for i in session.scalars(query) if i.report.get("decides_at")]


def health(ctx: Context) -> GatewayHealth:
    """How every process is."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        stamp = session.get(Stamp, stamps.SNAPSHOT)
        number = stamp.number if stamp else 0
        query = select(Instance).where(Instance.seen_at > ctx.now - FORGOTTEN).order_by(Instance.kind, Instance.name)
        found = [
            InstanceView(
                name=i.name,
                kind=i.kind,
                alive=i.seen_at > ctx.now - ALIVE,
                started_at=i.started_at,
                seen_at=i.seen_at,
                behind=max(0, number - i.report["snapshot"]) if "snapshot" in i.report else 0,
                report=i.report,
            )
            for i in session.scalars(query)
        ]
        return GatewayHealth(version(), ctx.now, number, stamp.changed_at if stamp else None, found)
