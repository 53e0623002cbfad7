"""One decision on several requests: what comes of it is foreseen, and one that cannot be holds up no other."""

from __future__ import annotations

from decimal import Decimal

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.routes import Route
from calm_tariff.services.admit.desk import bulk, deciding, queue, reasons
from calm_tariff.services.admit.desk.bulk import Chosen
from calm_tariff.services.base.context import Actor
from calm_tariff.store.admit.requests import RequestMessage
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import AuditEntry, Mail
from tests.office import Office


def counts(office: Office) -> list[int]:
    with office.ctx.transaction() as session:
        return [session.scalar(select(func.count()).select_from(t)) or 0 for t in (RequestMessage, AuditEntry, Mail)]


def test_what_is_foreseen_is_what_comes_and_foreseeing_changes_nothing(office: Office) -> None:
    _, _, free = office.ask("Auks", "Skiff")
    _, _, dear = office.ask("Boobies", "Ketch")
    _, _, gone = office.ask("Cormorants", "Ketch")
    office.change_product(route=Route(otherwise="reviewed twice"))
    _, _, twice = office.ask("Divers", "Ketch")
    chosen = [Chosen(request_id=each, edition=1) for each in (free, dear, gone, twice)]
    deciding.decide(office.manager, gone, "declined", "No.")
    before = counts(office)
    seen = bulk.foresee(office.reviewer, chosen, "granted")
    assert counts(office) == before and len(queue.desk(office.reviewer, PageQuery()).rows) == 3
    assert [(o.consumer, o.done, o.still_needs, bool(o.refused)) for o in seen.outcomes] == [
        ("Auks", "granted", "", False),
        ("Boobies", "granted", "", False),
        ("Cormorants", "declined", "", True),
        ("Divers", "waiting", "a reviewer", False),
    ]
    assert (seen.granted, seen.currency) == (Decimal("40.00"), "EUR")
    came = bulk.decide(office.reviewer, chosen, "granted")
    assert came == seen.outcomes
    assert [r.consumer for r in queue.desk(office.reviewer, PageQuery()).rows] == ["Divers"]


def test_several_are_declined_for_one_reason_of_the_list(office: Office) -> None:
    reasons.save(office.reviewer, ["The purpose is not clear"])
    chosen = [Chosen(request_id=office.ask(name, "Skiff")[2], edition=1) for name in ("Auks", "Boobies")]
    with pytest.raises(Invalid) as silent:
        bulk.decide(office.reviewer, chosen, "declined")
    assert silent.value.where == "note"
    assert [o.done for o in bulk.foresee(office.reviewer, chosen, "declined").outcomes] == ["declined", "declined"]
    bulk.decide(office.reviewer, chosen, "declined", reason="The purpose is not clear")
    rows = queue.desk(office.reviewer, PageQuery(), queue.Sought(decided=True)).rows
    assert {r.reason for r in rows if r.state == "declined"} == {"The purpose is not clear"}


@pytest.mark.parametrize("ids", [[], [1, 1], list(range(1, 102))], ids=["none", "twice", "too-many"])
def test_what_cannot_be_one_summary_is_refused(office: Office, ids: list[int]) -> None:
    with pytest.raises(Invalid) as refused:
        bulk.foresee(office.reviewer, [Chosen(request_id=each, edition=1) for each in ids], "granted")
    assert refused.value.where == "requests"


def test_one_that_is_not_there_is_none_and_a_consumer_decides_nothing(office: Office) -> None:
    with pytest.raises(NotFound):
        bulk.foresee(office.reviewer, [Chosen(request_id=10**9, edition=1)], "granted")
    with pytest.raises(NotSignedIn):
        bulk.foresee(office.acting(office.consumers[0]), [Chosen(request_id=1, edition=1)], "granted")


@pytest.mark.parametrize(
    ("wrong", "where"),
    [([""], "reasons[0]"), (["One", "one"], "reasons[1]"), (["x" * 201], "reasons[0]"), (["x"] * 51, "reasons")],
)
def test_a_list_of_reasons_that_is_none_is_refused_and_the_one_before_stays(
    office: Office, wrong: list[str], where: str
) -> None:
    reasons.save(office.reviewer, ["Not clear", "Passed on"])
    with pytest.raises(Invalid) as refused:
        reasons.save(office.reviewer, wrong)
    assert refused.value.where == where
    assert reasons.everything(office.finance) == ["Not clear", "Passed on"]
    with pytest.raises(NotAllowed):
        reasons.save(office.ctx.acting(Actor("Tomas", frozenset({"operations"}))), [])
