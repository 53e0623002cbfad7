"""A file is checked whole before anything is made, and then made row by row, each row once, whoever dies when."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from typing import Any

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import groups, on_behalf
from calm_tariff.services.admit.importing import going_on, imports
from calm_tariff.services.admit.importing.imports import FileTyped, ImportView
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import record
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.imports import ImportRow
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import AuditEntry, Mail
from calm_tariff.store.house.people import Person
from tests.office import Office
from tests.services.accounts import letters, signed_in

THERE = "this organisation, or one whose name looks the same, has an account; ask its owner to add you"
CONSUMERS = """organisation,owner,email,address,country,tax_number,references,groups,order_number
Weir & Co,Ana Vaz,Ana@Weir.example,Cais 1 | 9010 Larkmouth,pt,501 964 843,Ledger: 1 | Post: P-7,Pilots,PO 7
Lock Ltd,Rui Sal,no address,,,,,,
Ferries,Eva Mar,eva@ferries.example,,,,,,
Sluice,Eva Mar,eva@sluice.example,,XX,,,,
Gate,Eva Mar,eva@gate.example,,,,,Nobody,
 weir & co ,Ana Vaz,other@weir.example,,,,,,
Pier,Ana Vaz,,,,,,,
Quoin,Ivo Cais,ivo@quoin.example,,,,,,
"""


def taken(ctx: Context, kind: str, text: str) -> ImportView:
    """A file that was taken in, and checked."""
    made = imports.take(ctx, FileTyped(kind=kind, name=f"{kind}.csv", text=text))
    return gone_on(ctx, made.id)


def gone_on(ctx: Context, import_id: int) -> ImportView:
    while going_on.go_on(ctx, import_id):
        pass
    return imports.one(ctx, import_id)


def said(ctx: Context, import_id: int) -> list[tuple[int, str, str]]:
    return [(r.line, r.state, r.said) for r in imports.rows(ctx, import_id, PageQuery()).rows]


def counted(office: Office, *tables: Any) -> list[int]:
    with office.ctx.transaction() as session:
        return [session.scalar(select(func.count()).select_from(table)) or 0 for table in tables]


def test_each_row_is_checked_by_the_rules_it_will_be_made_by_and_nothing_is_made(office: Office) -> None:
    ines = signed_in(office)
    groups.create(ines, "Pilots")
    before = counted(office, Consumer, Member, Mail, AuditEntry)
    found = taken(ines, "consumers", CONSUMERS)
    assert counted(office, Consumer, Member, Mail, AuditEntry) == [*before[:3], before[3] + 1]
    assert (found.stage, found.rows, found.good, found.wrong, found.made) == ("checked", 8, 2, 6, 0)
    assert [s for s in said(ines, found.id) if s[1] == "wrong"] == [
        (3, "wrong", "email: is not an e-mail address: An email address must have an @-sign."),
        (4, "wrong", f"organisation: {THERE}"),
        (5, "wrong", "country: is no country by its two letters (ISO 3166-1), such as PT"),
        (6, "wrong", "groups: there is no group Nobody"),
        (7, "wrong", "says the same as line 2"),
        (8, "wrong", "email: is missing"),
    ]


def test_what_is_good_is_made_once_and_told_to_whom_it_is_for(office: Office) -> None:
    ines = signed_in(office)
    groups.create(ines, "Pilots")
    found = taken(ines, "consumers", CONSUMERS)
    imports.begin(ines, found.id, letters=True)
    done = gone_on(ines, found.id)
    assert (done.stage, done.made, done.wrong, done.refused) == ("done", 2, 6, 0)
    with office.ctx.transaction() as session:
        weir = session.scalars(select(Consumer).where(Consumer.name == "Weir & Co")).one()
        assert (weir.address, weir.country, weir.tax_number) == ("Cais 1\n9010 Larkmouth", "PT", "PT501964843")
        assert (weir.payment_method, weir.order_number) == ("transfer", "PO 7")
        assert [g.name for g in weir.groups] == ["Pilots"]
        row = session.scalars(select(ImportRow).where(ImportRow.line == 2)).one()
        assert (row.consumer_id, row.said) == (weir.id, "its account is made, and let in")
    assert "Another password" in letters(office.ctx, "ana@weir.example")[0].subject
    told = auditing.entries(ines, PageQuery(), EntryFilter(action="made an organisation's account")).rows
    assert {entry.by for entry in told} == {ines.actor.identity} and len(told) == 2
    assert going_on.go_on(office.ctx, found.id) is None
    with pytest.raises(Conflict, match="it is done"):
        imports.begin(ines, found.id, letters=True)
    head, rows = imports.left_out(ines, found.id)
    assert head[:3] == ["why", "organisation", "owner"] and len(rows) == 6 and rows[5][0] == "email: is missing"


def test_without_letters_nobody_is_written_to(office: Office) -> None:
    ines = signed_in(office)
    found = taken(ines, "consumers", "organisation,owner,email\nQuoin,Ivo,ivo@quoin.example\n")
    imports.begin(ines, found.id, letters=False)
    assert gone_on(ines, found.id).made == 1
    text = "organisation,name,email,role\nQuoin,Uta,uta@quoin.example,Billing\nQuoin,Ivo,ivo@quoin.example,owner\n"
    found = taken(ines, "members", text + "Quoin,Otto,otto@quoin.example,king\nNobody,O,o@quoin.example,owner\n")
    assert [s[2] for s in said(ines, found.id)] == [
        "",
        "email: somebody signs in with this address already",
        "role: must be one of owner, developer, billing",
        "organisation: there is no consumer Nobody",
    ]
    imports.begin(ines, found.id, letters=False)
    assert gone_on(ines, found.id).made == 1
    assert letters(office.ctx, "ivo@quoin.example") == letters(office.ctx, "uta@quoin.example") == []


def test_applications_and_subscriptions_follow_the_same_rules_as_by_hand(office: Office) -> None:
    ines = signed_in(office)
    text = "Organisation;Application;Purpose;Contact\nFerries;Board;Shows it;a@b.example\nFerries;Ferries app;;\n"
    found = taken(ines, "applications", text + "Kayaks;Board;;nobody\n")
    assert [s[1] for s in said(ines, found.id)] == ["good", "wrong", "wrong"]
    assert said(ines, found.id)[2][2].startswith("contact: is not an e-mail address")
    imports.begin(ines, found.id, letters=True)
    assert gone_on(ines, found.id).made == 1
    head = "organisation,application,product,plan,purpose\n"
    rows = [
        "Ferries,Board,Harbour Data,Skiff,For the board at the pier.",
        "Ferries,Board,Harbour Data,Skiff,For the board once more.",
        "Ferries,Nothing,Harbour Data,Skiff,For the board at the pier.",
        "Ferries,Board,Harbour Data,Yacht,For the board at the pier.",
        "Ferries,Board,Harbour Data,Ketch,Short.",
        "Kayaks,Kayaks app,Harbour Data,Ketch,For what it has already.",
    ]
    found = taken(ines, "subscriptions", head + "\n".join(rows))
    assert [s[1] for s in said(ines, found.id)] == ["good", "wrong", "wrong", "wrong", "wrong", "wrong"]
    assert [s[2] for s in said(ines, found.id)][1:4] == [
        "says the same as line 2",
        "application: Ferries has no application Nothing",
        "plan: there is no plan Harbour Data · Yacht",
    ]
    assert said(ines, found.id)[4][2].startswith("purpose: ")
    before = counted(office, Subscription)
    imports.begin(ines, found.id, letters=True)
    assert gone_on(ines, found.id).made == 1
    assert counted(office, Subscription) == [before[0] + 1]


def test_where_two_decide_a_subscription_waits_for_the_other(office: Office) -> None:
    ines = signed_in(office)
    office.change_product(route=Route(otherwise="reviewed twice"))
    on_behalf.make_application(ines, office.consumers[1].member.own_consumer, "Second boat")
    text = "organisation,application,product,plan,purpose\nKayaks,Second boat,Harbour Data,Skiff,For the second one.\n"
    found = taken(ines, "subscriptions", text)
    imports.begin(ines, found.id, letters=True)
    gone_on(ines, found.id)
    assert said(ines, found.id) == [(2, "made", "is asked for; its request is waiting, and waits for others")]


def test_what_became_wrong_meanwhile_is_refused_and_the_rest_made(office: Office) -> None:
    ines = signed_in(office)
    text = "organisation,owner,email\nQuoin,Ivo,ivo@quoin.example\nPier,Uta,uta@pier.example\n"
    found = taken(ines, "consumers", text)
    office.join("Quoin")
    imports.begin(ines, found.id, letters=False)
    done = gone_on(ines, found.id)
    assert (done.made, done.refused) == (1, 1)
    assert [s[1] for s in said(ines, found.id)] == ["refused", "made"]


def test_a_worker_that_dies_leaves_nothing_half_done(office: Office) -> None:
    ines = signed_in(office)
    rows = "\n".join(f"Pier {n},Uta,uta{n}@pier.example" for n in range(70))
    found = taken(ines, "consumers", f"organisation,owner,email\n{rows}\n")
    assert found.good == 70
    imports.begin(ines, found.id, letters=False)
    asked, died = 0, 0

    def dying() -> datetime:
        nonlocal asked, died
        asked += 1
        if asked % 97 == 0:  # somewhere in the midst of a row, another place each time
            died += 1
            raise KeyboardInterrupt
        return office.clock.now

    worker, more = replace(office.ctx, clock=dying), True
    while more:
        with suppress(KeyboardInterrupt):
            more = going_on.go_on(worker, found.id) is not None
    assert died > 5
    done = imports.one(ines, found.id)
    assert (done.stage, done.made, done.refused) == ("done", 70, 0)
    with office.ctx.transaction() as session:
        names = session.scalars(select(Consumer.name).where(Consumer.name.like("Pier %"))).all()
        assert len(names) == len(set(names)) == 70
    assert record.proof(ines).wrong == ""


def test_it_is_stopped_and_gone_on_with_and_forgotten(office: Office) -> None:
    ines = signed_in(office)
    rows = "\n".join(f"Pier {n},Uta,uta{n}@pier.example" for n in range(70))
    found = taken(ines, "consumers", f"organisation,owner,email\n{rows}\n")
    imports.begin(ines, found.id, letters=False)
    assert going_on.go_on(office.ctx, found.id) is not None
    with pytest.raises(Conflict, match="stop it first"):
        imports.drop(ines, found.id)
    assert (imports.stop(ines, found.id).stage, imports.one(ines, found.id).made) == ("stopped", 50)
    assert going_on.go_on(office.ctx, found.id) is None
    imports.begin(ines, found.id, letters=False)
    assert gone_on(ines, found.id).made == 70
    office.clock.forward(days=31)
    assert imports.forget(office.ctx) == 1
    with pytest.raises(NotFound):
        imports.one(ines, found.id)
    assert counted(office, ImportRow) == [0]


def test_who_began_it_must_still_be_somebody_who_may(office: Office) -> None:
    ines = signed_in(office)
    text = "organisation,owner,email\nQuoin,Ivo,ivo@quoin.example\n"
    found = taken(ines, "consumers", text)
    imports.begin(ines, found.id, letters=False)
    with office.ctx.transaction() as session:
        session.get_one(Person, ines.actor.person_id).roles = ["finance"]
    gone_on(ines, found.id)
    assert said(ines, found.id)[0][1] == "refused" and "this is for" in said(ines, found.id)[0][2]
    with office.ctx.transaction() as session:
        person = session.get_one(Person, ines.actor.person_id)
        person.roles, person.deactivated_at = ["product manager"], office.ctx.now
    again = imports.take(ines, FileTyped(kind="consumers", name="a.csv", text=text))
    assert going_on.go_on(office.ctx, again.id) is None
    assert imports.one(office.manager, again.id).stage == "stopped"


@pytest.mark.parametrize(
    ("typed", "where"),
    [
        (FileTyped(kind="people", name="a.csv", text="a\n1\n"), "kind"),
        (FileTyped(kind="members", name=" ", text="a\n1\n"), "name"),
        (FileTyped(kind="members", name="a.csv", text="organisation,name,email\nx,y,z\n"), "text"),
        (FileTyped(kind="members", name="a.csv", text=""), "text"),
    ],
)
def test_a_file_of_another_shape_is_refused_whole(office: Office, typed: FileTyped, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        imports.take(office.manager, typed)
    assert refused.value.where == where
    assert counted(office, ImportRow) == [0]


def test_it_is_for_product_managers_and_reviewers(office: Office) -> None:
    with pytest.raises(NotAllowed):
        imports.take(office.finance, FileTyped(kind="members", name="a.csv", text="x"))
    for act in (imports.stop, imports.drop, lambda ctx, n: imports.begin(ctx, n, letters=False)):
        with pytest.raises(NotAllowed):
            act(office.finance, 1)
        with pytest.raises(NotFound):
            act(office.manager, 10**9)
    with pytest.raises(Invalid, match="must be one of waiting"):
        imports.rows(office.finance, 1, PageQuery(), "odd")
