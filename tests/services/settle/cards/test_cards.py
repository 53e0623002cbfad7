"""Cards are given at the processor's page, and replaced and removed by those who see money."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Away, Conflict, Invalid, NotAllowed
from calm_tariff.core.payment import Payment
from calm_tariff.services.admit import cards, paying
from calm_tariff.services.observe import merging
from calm_tariff.store.admit.cards import PaymentCard
from calm_tariff.store.admit.consumers import Consumer
from tests.office import Office
from tests.services.months import at_once
from tests.services.settle.accounts.owing import whose
from tests.services.settle.cards.processors import NUMBERS, Simulated, told


def method(office: Office, n: int = 0) -> str | None:
    with office.ctx.transaction() as session:
        return session.get_one(Consumer, whose(office, n)).payment_method


def own(office: Office, n: int = 0) -> cards.CardView | None:
    return cards.own(office.acting(office.consumers[n]))


def test_a_card_that_is_given_pays_from_then_on(office: Office, simulated: Simulated) -> None:
    assert (own(office), method(office)) == (None, "transfer")
    opened = cards.begin(office.acting(office.consumers[0]), simulated.asks)
    assert cards.finish(office.acting(office.consumers[0]), simulated.asks) is None  # nothing is typed yet
    back = simulated.fill(opened.address, "pays", "02/28")
    assert back == "http://127.0.0.1:8400/portal/account?card=given"
    given = cards.finish(office.acting(office.consumers[0]), simulated.asks)
    assert given is not None
    assert (given.brand, given.last_four, given.good_until) == ("Sandbank Card", "1002", date(2028, 2, 29))
    assert (given.added_by, given.over) == ("Ferries owner", False)
    assert (own(office), method(office), own(office, 1)) == (given, "card", None)
    (words,) = told(office, "card changed")
    assert "Sandbank Card ending in 1002 was given for Ferries" in words
    assert told(office, "card changed", 1) == []
    with office.ctx.transaction() as session:
        stored = session.scalars(select(PaymentCard)).one()
        kept = {str(getattr(stored, column.key)) for column in PaymentCard.__table__.c}
    assert not any(NUMBERS["pays"].replace(" ", "") in each for each in kept)


def test_whoever_never_comes_back_pays_by_the_card_all_the_same(office: Office, simulated: Simulated) -> None:
    simulated.fill(cards.begin(office.acting(office.consumers[0]), simulated.asks).address, "pays")
    (event,) = simulated.events("card.kept")
    assert at_once(office.ctx, lambda _: simulated.tell(event), 3) == [None] * 3
    assert own(office) is not None
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count(PaymentCard.id))) == 1
    cards.finish(office.acting(office.consumers[0]), simulated.asks)
    assert len(told(office, "card changed")) == 1


def test_another_card_takes_the_place_of_the_first(office: Office, simulated: Simulated) -> None:
    simulated.give("no cover")
    assert simulated.give("pays").last_four == "1002"
    with office.ctx.transaction() as session:
        ended = session.scalars(select(PaymentCard.ended_at).order_by(PaymentCard.id)).all()
    assert [at is None for at in ended] == [False, True]


def test_a_card_that_is_removed_is_kept_nowhere_and_transfers_pay_again(office: Office, simulated: Simulated) -> None:
    paying.change(office.acting(office.consumers[0]), Payment(method="transfer", order_number="PO 7"))
    simulated.give("pays")
    with office.ctx.transaction() as session:
        assert paying.said(session.get_one(Consumer, whose(office))) == "by card, order number PO 7"
    cards.remove(office.acting(office.consumers[0]), simulated.asks)
    assert (own(office), method(office)) == (None, "transfer")
    assert simulated.processing.all.cards == {}
    assert "pays no more" not in told(office, "card changed")[0]
    assert "was removed from Ferries" in told(office, "card changed")[1]
    cards.remove(office.acting(office.consumers[0]), simulated.asks)  # changes nothing
    assert len(told(office, "card changed")) == 2


def test_a_processor_that_is_away_takes_no_card_and_holds_up_no_removal(office: Office, simulated: Simulated) -> None:
    simulated.give("pays")
    simulated.be(away=True)
    for _ in range(cards.MOST_PAGES + 1):  # none of them was opened
        with pytest.raises(Away, match="answered 503"):
            cards.begin(office.acting(office.consumers[0]), simulated.asks)
    cards.remove(office.acting(office.consumers[0]), simulated.asks)
    assert own(office) is None


def test_only_those_who_see_money_give_a_card(office: Office, simulated: Simulated) -> None:
    developer = replace(office.consumers[0].member, membership="developer")
    for does in (cards.begin, cards.finish, cards.remove):
        with pytest.raises(NotAllowed, match="for billing or owner"):
            does(office.ctx.acting(developer), simulated.asks)
    with pytest.raises(Conflict, match="not taken here"):
        cards.begin(office.acting(office.consumers[0]), None)


def test_paying_by_card_takes_a_card(office: Office, simulated: Simulated) -> None:
    with pytest.raises(Invalid, match="give a card first") as refused:
        paying.change(office.acting(office.consumers[0]), Payment(method="card"))
    assert refused.value.where == "method"
    simulated.give("pays")
    paying.change(office.acting(office.consumers[0]), Payment(method="transfer"))
    paying.change(office.acting(office.consumers[0]), Payment(method="card"))
    assert method(office) == "card"


def test_pages_are_not_opened_without_end_and_not_looked_at_for_ever(office: Office, simulated: Simulated) -> None:
    own_context = office.acting(office.consumers[0])
    first = cards.begin(own_context, simulated.asks)
    for _ in range(cards.MOST_PAGES - 1):
        cards.begin(own_context, simulated.asks)
    with pytest.raises(Conflict, match="too often"):
        cards.begin(own_context, simulated.asks)
    office.clock.forward(days=1)
    simulated.fill(first.address, "pays")
    assert cards.finish(own_context, simulated.asks) is None
    cards.begin(own_context, simulated.asks)


def test_the_card_of_who_is_merged_pays_for_nobody(office: Office, simulated: Simulated) -> None:
    simulated.give("pays")
    opened = cards.begin(office.acting(office.consumers[0]), simulated.asks)
    merging.merge(office.manager, whose(office), whose(office, 1), "Ferries")
    simulated.fill(opened.address, "pays")
    simulated.tell(*simulated.events("card.kept"))
    with office.ctx.transaction() as session:
        assert session.scalar(select(PaymentCard.id).where(PaymentCard.ended_at.is_(None))) is None
    assert method(office, 1) == "transfer"


def test_a_card_is_over_from_the_day_after_its_month(office: Office, simulated: Simulated) -> None:
    simulated.give("pays", ends="12/39")
    office.clock.now = office.clock.now.replace(year=2039, month=12, day=31)
    assert [card.over for card in [own(office)] if card] == [False]
    office.clock.now += timedelta(days=1)
    assert [card.over for card in [own(office)] if card] == [True]
