"""Ratings: one of each organisation that is, or was, on a plan; seen by all, and by whom only to the provider."""

from __future__ import annotations

import threading
from decimal import Decimal

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.core.moves import Kind
from calm_tariff.services.admit.community import ratings
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.store.admit.community import Rating
from tests.office import Office
from tests.services.admit.organisation.test_joining import joined, owner
from tests.services.admit.portals.test_storefront import SLUG, restrict


def test_each_organisation_rates_once_and_may_change_it(office: Office) -> None:
    assert ratings.of_product(office.ctx, SLUG).said == "Nobody has rated it yet."
    assert ratings.rate(owner(office), SLUG, 5).own == 5
    ana = joined(office, "developer")
    assert ratings.rate(ana, SLUG, 2).said == "Rated 2.0 of 5 by one organisation."
    ratings.rate(owner(office, 1), SLUG, 5)
    seen = ratings.of_product(office.ctx, SLUG)
    assert (seen.said, seen.average, seen.own) == ("Rated 3.5 of 5 by 2 organisations.", Decimal("3.5"), None)
    assert [(g.stars, g.ratings) for g in seen.given] == [(5, 1), (4, 0), (3, 0), (2, 1), (1, 0)]
    of = ratings.by_consumer(office.reviewer, office.product)
    assert {(r.consumer, r.by, r.stars) for r in of} == {("Ferries", "Ana", 2), ("Kayaks", "Kayaks owner", 5)}
    assert [(p.product, p.said) for p in ratings.by_product(office.reviewer)] == [("Harbour Data", seen.said)]
    assert "Ferries" not in repr(seen) and "Ana" not in repr(ratings.of_product(owner(office, 1), SLUG))


def test_who_never_was_on_it_does_not_rate_it_and_who_left_it_still_does(office: Office) -> None:
    gulls = office.ctx.acting(office.join("Gulls"))
    assert not ratings.of_product(gulls, SLUG).may_rate
    with pytest.raises(Conflict, match="are, or were"):
        ratings.rate(gulls, SLUG, 1)
    end: Kind = "end"
    asking.ask_to_move(owner(office), office.consumers[0].subscription, MoveAsked(kind=end, when="now"))
    assert ratings.rate(owner(office), SLUG, 1).may_rate
    with pytest.raises(NotAllowed):
        ratings.rate(joined(office, "billing"), SLUG, 5)
    for wrong in (0, 6):
        with pytest.raises(Invalid):
            ratings.rate(owner(office), SLUG, wrong)


def test_a_hidden_product_has_no_ratings_either(office: Office) -> None:
    ratings.rate(owner(office), SLUG, 5)
    restrict(office, consumer=0)
    for ctx in (office.ctx, office.ctx.acting(office.join("Gulls"))):
        with pytest.raises(NotFound):
            ratings.of_product(ctx, SLUG)
        with pytest.raises(NotFound):
            ratings.of_product(ctx, "never-was")


def test_two_of_one_organisation_at_once_give_one_rating(office: Office) -> None:
    ana, failed = joined(office, "developer"), []

    def rate(ctx: object, stars: int) -> None:
        try:
            ratings.rate(ctx, SLUG, stars)  # type: ignore[arg-type]
        except Exception as error:
            failed.append(error)

    both = [threading.Thread(target=rate, args=args) for args in ((ana, 2), (owner(office), 4))]
    for each in both:
        each.start()
    for each in both:
        each.join()
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Rating)) == 1
    assert failed == []
