"""Notices are one's own, read or unread, and come by mail unless one does not want that."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.core.notices import GROUPS, Kind, group_of
from calm_tariff.services.admit.desk import asking, queue
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import own_notices
from calm_tariff.services.base.context import NOBODY, Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.house.signing_in import passwords
from calm_tariff.store.base.notices import Notice as Stored
from tests.office import PASSWORD, Office
from tests.services.accounts import OTHER, letters, signed_in


def ferries(office: Office) -> Context:
    return office.acting(office.consumers[0])


def pause(office: Office, consumer: int = 0) -> None:
    of = office.consumers[consumer]
    asking.ask_to_move(office.acting(of), of.subscription, MoveAsked(kind="pause"))


def test_they_are_read_one_by_one_or_all_and_nobody_elses_are_touched(office: Office) -> None:
    before = own_notices.unread(ferries(office))
    pause(office)
    pause(office, 1)
    newest = own_notices.own(ferries(office)).rows[0]
    assert newest.subject == "Ferries app: Harbour Data · Ketch is paused" and not newest.read
    assert newest.page == f"/applications/{office.consumers[0].application}"
    assert own_notices.unread(ferries(office)) == before + 1
    kayaks = office.acting(office.consumers[1])
    theirs = own_notices.unread(kayaks)
    own_notices.read(kayaks, [newest.id])
    assert own_notices.unread(ferries(office)) == before + 1 and own_notices.unread(kayaks) == theirs
    own_notices.read(ferries(office), [newest.id])
    assert own_notices.unread(ferries(office)) == before
    own_notices.read(ferries(office))
    assert own_notices.unread(ferries(office)) == 0 and own_notices.unread(kayaks) == theirs
    assert all(notice.read for notice in own_notices.own(ferries(office)).rows)


def test_a_page_goes_on_where_the_one_before_ended(office: Office) -> None:
    with office.ctx.transaction() as session:
        for n in range(70):
            session.add(
                Stored(
                    audience="member",
                    audience_id=office.consumers[0].member.member_id,
                    kind="x",
                    subject=f"{n}",
                    text="",
                    link="",
                    written_at=office.ctx.now,
                )
            )
    first = own_notices.own(ferries(office))
    second = own_notices.own(ferries(office), first.next)
    assert [n.subject for n in (*first.rows, *second.rows)] == [str(n) for n in range(69, 9, -1)]
    assert first.total >= 70


def test_what_one_does_not_want_by_mail_is_there_all_the_same(office: Office) -> None:
    email = office.consumers[0].email
    assert {c.group: c.by_mail for c in own_notices.choices(ferries(office))} == dict.fromkeys(GROUPS, True)
    chosen = own_notices.choose(ferries(office), "plans", False)
    assert {c.group for c in chosen if not c.by_mail} == {"plans"}
    sent, notices = len(letters(office.ctx, email)), own_notices.own(ferries(office)).total
    pause(office)
    assert len(letters(office.ctx, email)) == sent and own_notices.own(ferries(office)).total == notices + 1
    theirs = len(letters(office.ctx, office.consumers[1].email))
    pause(office, 1)
    assert len(letters(office.ctx, office.consumers[1].email)) == theirs + 1
    own_notices.choose(ferries(office), "plans", True)
    asking.ask_to_move(ferries(office), office.consumers[0].subscription, MoveAsked(kind="resume"))
    assert len(letters(office.ctx, email)) == sent + 1


def test_what_guards_an_account_comes_by_mail_whatever_one_wants(office: Office) -> None:
    for group in GROUPS:
        own_notices.choose(ferries(office), group, False)
    sent = len(letters(office.ctx, office.consumers[0].email))
    passwords.change(ferries(office), MEMBERS, PASSWORD, OTHER)
    assert len(letters(office.ctx, office.consumers[0].email)) == sent + 1
    kinds: tuple[Kind, ...] = ("sign-in changed", "password forgotten", "account closed", "member invited")
    assert [group_of(kind) for kind in kinds] == [None] * len(kinds)


def test_a_person_and_a_member_of_one_number_have_choices_of_their_own(office: Office) -> None:
    member = office.consumers[0].member
    own_notices.choose(ferries(office), "alerts", False)
    with office.ctx.transaction() as session:
        audience = [
            Recipient(email="p@test.example", person_id=member.member_id),
            Recipient(email="m@test.example", member_id=member.member_id),
        ]
        notify(
            session, office.ctx, audience, Notice(kind="alert reached", fields={"about": "x", "said": "y", "at": ""})
        )
        kept = session.scalars(select(Stored).where(Stored.kind == "alert reached")).all()
    assert len(kept) == 2
    assert (len(letters(office.ctx, "p@test.example")), len(letters(office.ctx, "m@test.example"))) == (1, 0)


def test_nobody_has_none(office: Office) -> None:
    nobody = office.ctx.acting(NOBODY)
    for wrong in (
        lambda: own_notices.own(nobody),
        lambda: own_notices.read(nobody),
        lambda: own_notices.choices(nobody),
    ):
        with pytest.raises(NotSignedIn):
            wrong()


def test_a_colleague_reads_what_was_handed_to_them_and_chooses_of_what_they_get(office: Office) -> None:
    rui = signed_in(office, "reviewer@test.example")
    own = signed_in(office)
    _, _, request = office.ask("Quay", "Ketch")
    queue.hand_over(own, request, rui.actor.person_id)
    (notice,) = own_notices.own(rui).rows
    assert notice.page == f"/admit/desk/{request}" and not notice.read
    assert own_notices.unread(rui) == 1 and own_notices.unread(own) == 0
    own_notices.read(own, [notice.id])  # another's stays as it is
    assert own_notices.unread(rui) == 1
    own_notices.read(rui, [notice.id])
    assert own_notices.unread(rui) == 0
    assert [(c.group, c.by_mail) for c in own_notices.choices(rui)] == [("requests", True)]
    assert own_notices.choose(rui, "requests", False)[0].by_mail is False
    with pytest.raises(NotFound):
        own_notices.choose(rui, "invoices", False)
    before = len(letters(office.ctx, "reviewer@test.example"))
    _, _, another = office.ask("Weir", "Ketch")
    queue.hand_over(own, another, rui.actor.person_id)
    assert own_notices.unread(rui) == 1
    assert len(letters(office.ctx, "reviewer@test.example")) == before
