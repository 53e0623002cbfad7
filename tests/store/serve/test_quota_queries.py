"""What quotas have let in, by the counts that decide."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy.orm import Session

from calm_tariff.core.periods import DAY, instant_of
from calm_tariff.store.serve import quota_queries
from calm_tariff.store.serve.usage import QuotaCount
from tests.office import Office
from tests.services.usages import usage

SEPTEMBER = instant_of(datetime(2026, 8, 31, 23, tzinfo=UTC))  # Lisbon's
OCTOBER = instant_of(datetime(2026, 9, 30, 23, tzinfo=UTC))


def found(session: Session, at_us: int, scopes: set[str] | None = None) -> list[tuple[int, int]]:
    return [(int(c.units), c.begin_us) for c in quota_queries.open_at(session, at_us, scopes)]


def test_a_count_is_open_from_the_first_instant_of_its_window_to_the_last(office: Office) -> None:
    usage(office, 7)
    with office.ctx.transaction() as session:
        for at, is_open in ((SEPTEMBER - 1, False), (SEPTEMBER, True), (OCTOBER - 1, True), (OCTOBER, False)):
            assert found(session, at) == ([(7, SEPTEMBER)] if is_open else []), at
        scope = session.query(QuotaCount).one().scope
        assert found(session, SEPTEMBER, {scope, "another"}) == [(7, SEPTEMBER)]
        assert found(session, SEPTEMBER, {"another"}) == found(session, SEPTEMBER, set()) == []


def test_what_is_forgotten_is_a_day_over_to_the_microsecond(office: Office) -> None:
    usage(office, 7)
    with office.ctx.transaction() as session:
        quota_queries.forget(session, OCTOBER + DAY)
        assert session.query(QuotaCount).count() == 1
        quota_queries.forget(session, OCTOBER + DAY + 1)
        assert session.query(QuotaCount).count() == 0


def test_names_that_run_together_are_told_apart() -> None:
    assert quota_queries.digest("a", "bc") != quota_queries.digest("ab", "c") != quota_queries.digest("abc")
    assert len(quota_queries.digest("x" * 10_000)) == 32
