"""Cards, as far as they are spoken of."""

from __future__ import annotations

from datetime import date

from calm_tariff.core.billing.accounts.cards import FAILURES, Card, failure, failure_in_words


def test_a_card_is_spoken_of_by_its_last_digits_and_is_over_on_its_day() -> None:
    card = Card(brand="Sandbank Card", last_four="1002", ends_on=date(2026, 11, 1))
    assert card.in_words == "Sandbank Card ending in 1002"
    assert [card.over(date(2026, 10, 31)), card.over(date(2026, 11, 1))] == [False, True]


def test_why_a_card_failed_has_words_and_what_is_not_known_is_a_refusal() -> None:
    assert [failure(each) for each in FAILURES] == list(FAILURES)
    assert failure("who knows") == failure("") == "refused"
    assert len({failure_in_words(each) for each in FAILURES}) == len(FAILURES)
