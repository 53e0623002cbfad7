"""The sentences that people read about a rule: made here and nowhere else, so that the same words stand on the tariff
sheet, in receipts, in the portal and in mail."""

from calm_tariff.core.sentences.account import closing_in_words, payment_in_words, role_in_words
from calm_tariff.core.sentences.alerts import (
    allowance_alert_in_words,
    allowance_reached_in_words,
    charge_reached_in_words,
    money_alert_in_words,
)
from calm_tariff.core.sentences.community import author_in_words, ratings_in_words
from calm_tariff.core.sentences.moves import consequences_in_words, move_in_words
from calm_tariff.core.sentences.terms import (
    Part,
    Sentence,
    amount_sentence,
    bound_in_words,
    credential_in_words,
    expected_in_words,
    limit_sentence,
    line_in_words,
    money,
    note_sentence,
    notice_sentence,
    number,
    override_sentence,
    percent_sentence,
    price_sentence,
    shortfall_in_words,
    spent_in_words,
    tax_sentence,
    trial_sentence,
    words,
)

__all__ = [
    "Part",
    "Sentence",
    "allowance_alert_in_words",
    "allowance_reached_in_words",
    "amount_sentence",
    "author_in_words",
    "bound_in_words",
    "charge_reached_in_words",
    "closing_in_words",
    "consequences_in_words",
    "credential_in_words",
    "expected_in_words",
    "limit_sentence",
    "line_in_words",
    "money",
    "money_alert_in_words",
    "move_in_words",
    "note_sentence",
    "notice_sentence",
    "number",
    "override_sentence",
    "payment_in_words",
    "percent_sentence",
    "price_sentence",
    "ratings_in_words",
    "role_in_words",
    "shortfall_in_words",
    "spent_in_words",
    "tax_sentence",
    "trial_sentence",
    "words",
]
