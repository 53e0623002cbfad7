"""The provider's people move a consumer's subscription: worked out before as it sees it, and under their own name."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid, NotAllowed, NotFound
from calm_tariff.core.routes import Route
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.settle import differences, moves_on_behalf
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import signed_in


def to_skiff(office: Office, when: str = "now") -> MoveAsked:
    return MoveAsked(kind="change plan", when=when, plan_id=office.plans["Skiff"], purpose="They asked by mail.")


def test_what_it_comes_to_is_what_its_owner_would_read(office: Office) -> None:
    ferries, ines = office.consumers[0], signed_in(office)
    office.clock.forward(days=3)
    wanted = to_skiff(office)
    seen = moves_on_behalf.difference(ines, ferries.subscription, wanted)
    assert seen == differences.difference(office.acting(ferries), ferries.subscription, wanted)
    assert seen.more < 0


def test_a_move_is_made_under_ones_own_name(office: Office) -> None:
    ferries, ines = office.consumers[0], signed_in(office)
    after = moves_on_behalf.move(ines, ferries.subscription, to_skiff(office))
    assert (after.plan, after.waiting) == ("Skiff", None)  # one who reviews is enough, and she is one
    (entry,) = auditing.entries(ines, PageQuery(), EntryFilter(action="moved a subscription")).rows
    assert entry.by == ines.actor.identity
    later = moves_on_behalf.move(ines, ferries.subscription, MoveAsked(kind="end", when="later"))
    assert later.coming is not None and later.coming.plan is None
    assert "for Ferries owner" in later.coming.made_by
    assert moves_on_behalf.take_back(ines, ferries.subscription).coming is None
    assert moves_on_behalf.move(ines, ferries.subscription, MoveAsked(kind="pause")).state == "paused"
    assert moves_on_behalf.one(office.finance, ferries.subscription).state == "paused"


def test_where_two_decide_it_waits_for_the_other(office: Office) -> None:
    ferries, ines = office.consumers[0], signed_in(office)
    office.change_product(route=Route(otherwise="reviewed twice"))
    after = moves_on_behalf.move(ines, ferries.subscription, to_skiff(office))
    assert (after.plan, after.waiting) == ("Ketch", "Skiff")

    no_word = MoveAsked(kind="change plan", when="now", plan_id=office.plans["Skiff"])
    with pytest.raises(Invalid, match="say in a sentence why"):
        moves_on_behalf.move(ines, office.consumers[1].subscription, no_word)


def test_it_is_for_product_managers_and_reviewers(office: Office) -> None:
    ferries = office.consumers[0]
    for act in (moves_on_behalf.difference, moves_on_behalf.move):
        with pytest.raises(NotAllowed):
            act(office.finance, ferries.subscription, to_skiff(office))
        with pytest.raises(NotFound):
            act(office.manager, 10**9, to_skiff(office))
    with pytest.raises(NotAllowed):
        moves_on_behalf.take_back(office.finance, ferries.subscription)
