"""Who acts, and what is kept or lost together."""

from __future__ import annotations

import pytest
from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotAllowed, NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import NOBODY, SYSTEM, Actor, Context
from calm_tariff.store.base.record import Mail
from tests.office import START


def letter(to: str) -> Mail:
    return Mail(recipient=to, subject="s", body="b", created_at=START)


def letters(ctx: Context) -> int:
    with ctx.transaction() as session:
        return session.scalar(select(func.count()).select_from(Mail)) or 0


def test_a_role_is_asked_for_by_name_and_nobody_is_told_to_sign_in() -> None:
    reviewer = Actor("Rui", frozenset({"reviewer"}), person_id=4)
    reviewer.must_be("reviewer", "finance")
    with pytest.raises(NotAllowed, match="this is for finance or operations; you are signed in as reviewer"):
        reviewer.must_be("finance", "operations")
    member = Actor("Leonor", member_id=7, consumer_id=2, consumer="Ferries", membership="owner")
    for nobody in (NOBODY, SYSTEM, member):  # whoever has no role of the staff's
        with pytest.raises(NotSignedIn):
            nobody.must_be("reviewer")


def test_what_is_a_consumers_own_is_for_its_members_alone() -> None:
    assert Actor("Leonor", member_id=7, consumer_id=2, membership="billing").own_consumer == 2
    for other in (
        NOBODY,
        Actor("Rui", frozenset({"reviewer"}), person_id=4),
        Actor("script", frozenset({"operations"}), token_id=1),
    ):
        with pytest.raises(NotSignedIn):
            _ = other.own_consumer


def test_people_of_one_name_are_told_apart_and_so_are_people_tokens_and_members_of_one_number() -> None:
    alike = [
        Actor("Rui", frozenset({"reviewer"}), person_id=1),
        Actor("Rui", frozenset({"reviewer"}), person_id=2),
        Actor("Rui", frozenset({"reviewer"}), token_id=1),
        Actor("Rui", member_id=1, consumer_id=1),
        Actor("Rui"),
    ]
    assert len({actor.identity for actor in alike}) == len(alike)
    renamed = Actor("Rui Costa", frozenset({"finance"}), person_id=1)
    assert renamed.identity == alike[0].identity


def counted(session: Session) -> int:
    return session.scalar(select(func.count()).select_from(Mail)) or 0


def test_reading_sees_one_moment_however_often_it_asks(ctx: Context) -> None:
    with ctx.reading() as session:
        with ctx.transaction() as other:  # before the first question already
            other.add(letter("meanwhile@example.com"))
        assert (counted(session), letters(ctx)) == (0, 1)
    with ctx.transaction() as session:  # the same connection is isolated as ever after it
        assert counted(session) == 1
        with ctx.transaction() as other:
            other.add(letter("beside@example.com"))
        assert counted(session) == 2
        with ctx.joining(session).reading() as joined:
            assert joined is session


def test_what_reading_would_change_or_put_on_the_record_is_refused_not_forgotten(ctx: Context) -> None:
    with pytest.raises(OperationalError, match="READ ONLY"), ctx.reading() as session:
        session.add(letter("lost@example.com"))
    with pytest.raises(OperationalError, match="READ ONLY"), ctx.reading() as session:
        auditing.note(session, ctx, "did something", ("letter", 1, "lost"))
    with ctx.transaction() as session:
        session.add(letter("kept@example.com"))
    assert letters(ctx) == 1


def test_a_transaction_that_breaks_off_keeps_nothing(ctx: Context) -> None:
    def breaks_off() -> None:
        with ctx.transaction() as session:
            session.add(letter("one@test.example"))
            session.flush()
            raise Invalid("no", "field")

    with pytest.raises(Invalid):
        breaks_off()
    assert letters(ctx) == 0


def test_what_joins_a_transaction_is_kept_or_lost_with_it(ctx: Context) -> None:
    def both(fails: bool) -> None:
        with ctx.transaction() as session:
            session.add(letter("one@test.example"))
            with ctx.joining(session).transaction() as joined:
                assert joined is session
                joined.add(letter("two@test.example"))
            if fails:
                raise Invalid("no", "field")

    with pytest.raises(Invalid):
        both(fails=True)
    assert letters(ctx) == 0
    both(fails=False)
    assert letters(ctx) == 2
