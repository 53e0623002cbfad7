"""Requests that an outside system decides: its word counts once, and only while it is asked."""

from __future__ import annotations

import pytest

from calm_tariff.core.routes import Route
from calm_tariff.services.admit.desk import asking, outside_decisions
from calm_tariff.services.base import auditing
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office


@pytest.fixture
def outside(office: Office) -> Office:
    """The product's requests are decided outside."""
    office.change_product(route=Route(otherwise="outside"))
    return office


def state(office: Office, request: int) -> tuple[str, str | None]:
    with office.ctx.transaction() as session:
        found = session.get_one(AccessRequest, request)
        return found.state, found.ticket


def test_what_is_decided_here_is_nothing_to_the_outside(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    assert outside_decisions.passed(office.ctx, request) is None
    outside_decisions.decide_outside(office.ctx, request, "granted", "")
    assert state(office, request) == ("waiting", None)
    assert outside_decisions.passed(office.ctx, 999_999) is None
    outside_decisions.decide_outside(office.ctx, 999_999, "granted", "")


def test_a_ticket_is_kept_and_goes_on_the_record(outside: Office) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    outside_decisions.keep_ticket(outside.ctx, request, "T-1000")
    passed = outside_decisions.passed(outside.ctx, request)
    assert passed is not None and passed.ticket == "T-1000"
    assert "opened ticket T-1000" in [e.action for e in auditing.entries(outside.manager, PageQuery()).rows]


@pytest.mark.parametrize(("first", "second"), [("granted", "declined"), ("declined", "granted")])
def test_the_first_word_counts(outside: Office, first: str, second: str) -> None:
    _, _, request = outside.ask("Anglers", "Ketch")
    outside_decisions.decide_outside(outside.ctx, request, first, "Said outside.")  # type: ignore[arg-type]
    outside_decisions.decide_outside(outside.ctx, request, second, "Said again.")  # type: ignore[arg-type]
    assert state(outside, request)[0] == first
    assert outside_decisions.passed(outside.ctx, request) is None


def test_one_that_was_taken_back_meanwhile_stays_so(outside: Office) -> None:
    member, _, request = outside.ask("Anglers", "Ketch")
    asking.take_back(outside.ctx.acting(member), request)
    before = state(outside, request)
    outside_decisions.decide_outside(outside.ctx, request, "granted", "")
    assert state(outside, request) == before
