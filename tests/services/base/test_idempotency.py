"""The same key from the same actor gets the same answer: once it is done, and not before."""

from __future__ import annotations

from threading import Barrier, Thread

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict
from calm_tariff.services.base import idempotency
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.record import IdempotentAnswer
from tests.office import Office

ASKED = "charge run 2026-09-01"


def do(ctx: Context, key: str | None, request: str = ASKED, answer: dict | None = None) -> dict | None:
    """Ask with a key; what was answered before, or None where it is done now."""
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, request)
        if before is None:
            idempotency.remember(session, ctx, key, answer or {"n": 1})
        return before


def test_what_was_answered_is_answered_again_to_the_same_actor_alone(office: Office) -> None:
    assert do(office.finance, "k", answer={"n": 7}) is None
    assert do(office.finance, "k", answer={"n": 8}) == {"n": 7}
    assert do(office.manager, "k", answer={"n": 9}) is None
    assert do(office.finance, "k") == {"n": 7}


def test_a_key_that_was_used_for_something_else_is_refused(office: Office) -> None:
    do(office.finance, "k")
    with pytest.raises(Conflict) as refused:
        do(office.finance, "k", "charge run 2026-10-01")
    assert refused.value.where == "Idempotency-Key"


def test_without_a_key_everything_is_done_and_nothing_is_kept(office: Office) -> None:
    for key in (None, "", None):
        assert do(office.finance, key) is None
    with office.ctx.transaction() as session:
        assert session.scalars(select(IdempotentAnswer)).all() == []


def test_what_failed_was_not_answered_and_may_be_asked_again(office: Office) -> None:
    def fails() -> None:
        with office.finance.transaction() as session:
            assert idempotency.answered(session, office.finance, "k", ASKED) is None
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fails()
    assert do(office.finance, "k", answer={"n": 2}) is None
    assert do(office.finance, "k") == {"n": 2}


def test_who_asks_while_it_is_done_waits_and_gets_the_same_answer(office: Office) -> None:
    held, answers = Barrier(2), []

    def first() -> None:
        with office.finance.transaction() as session:
            assert idempotency.answered(session, office.finance, "k", ASKED) is None
            held.wait(60)
            idempotency.remember(session, office.finance, "k", {"n": 3})

    def second() -> None:
        held.wait(60)
        answers.append(do(office.finance, "k", answer={"n": 4}))

    threads = [Thread(target=each) for each in (first, second)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    assert answers == [{"n": 3}]
