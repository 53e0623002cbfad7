"""Recorded calls as lines of a log, their things by name."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import moment_of
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.serve.usage import Call

# Who calls without a credential.
A_STRANGER = "a stranger"


@dataclass(frozen=True, slots=True)
class CallLine:
    """A line of the log. `at` is when the call came; `took_us` the whole time it took. A `consumer` without an id is
    none: a stranger, who sent no credential, or nobody known. One counted `elsewhere` took nobody knows how long;
    one that is `struck` out no longer counts."""

    call_id: str
    at: datetime
    operation: str
    consumer_id: int | None
    consumer: str
    application: str
    status: int
    took_us: int
    wait_us: int
    verdict: str
    refused_by: str | None
    elsewhere: bool
    struck: bool


def lines(session: Session, calls: list[Call]) -> list[CallLine]:
    """Recorded calls as lines of the log."""
    operations = {
        o.id: o.label
        for o in session.scalars(select(Operation).where(Operation.id.in_({c.operation_id for c in calls})))
    }
    applications = {
        a.id: a
        for a in session.scalars(select(Application).where(Application.id.in_({c.application_id for c in calls})))
    }
    found = []
    for c in calls:
        application = applications.get(c.application_id or 0)
        found.append(
            CallLine(
                call_id=c.call_id,
                at=moment_of(c.at_us),
                operation=operations.get(c.operation_id or 0, f"{c.method} {c.path}"),
                consumer_id=c.consumer_id,
                consumer=application.consumer.name if application else A_STRANGER if c.credential == "none" else "",
                application=application.name if application else "",
                status=c.status,
                took_us=c.took_us,
                wait_us=c.wait_us,
                verdict=c.verdict,
                refused_by=c.refused_by,
                elsewhere=c.outside_id is not None,
                struck=c.strike_id is not None,
            )
        )
    return found
