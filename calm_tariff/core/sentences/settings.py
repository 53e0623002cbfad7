"""What each setting of the provider's changes, and from when."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date

EFFECTS: Mapping[str, str] = {
    "name": "Stands over every letter that is written from now on, and on the sign-in page.",
    "address": "Stands under every letter that is written from now on, with the name.",
    "country": "Its tax number is held to the form of this country.",
    "tax_number": "Held to the form that the country gives it, check digit and all.",
    "time_zone": "Days, periods and calendar windows of quotas begin at its midnight; gateways know within a second.",
    "currency": "Prices are told and charges made in it; prices there are keep their figures.",
    "tax_percent": "Is added to charges that are made from now on; drafts have it when they are made again.",
    "tax_changes": "Charges of months that end on such a day or later have the new percent; earlier ones keep theirs.",
    "payment_days": "Invoices that are issued from now on are to be paid within so many days.",
    "mail_from": "Letters that go out from now on come from it.",
    "working_days": "Requests that are made from now on are to be answered within so many of them.",
    "target_days": "Products that are made from now on take it up; each can have another.",
    "invoice_prefix": "Invoices that are issued from now on are numbered so; the count goes on.",
    "credit_note_prefix": "Credit notes that are issued from now on are numbered so; the count goes on.",
    "zero_invoices": "Where nothing is due, an invoice of nothing is issued all the same.",
    "adjustment_limit": "A line that somebody adds to a draft waits for a second person where it is more than this, "
    "up or down. Where it is empty, nobody has to agree.",
    "review_percent": "A draft that differs by more percent from the mean of the last three months is shown first.",
    "charge_after_days": "So many days after its end a month is drafted by itself, once; a person issues it. Where it "
    "is empty, somebody has to begin it.",
    "reminders_after_days": "So many days after it was due, once the day is over, what is still open of an invoice is "
    "reminded of, such as 3, 10, 20. Where it is empty, nobody is.",
    "pause_after_days": "So many days after an invoice was due, once the day is over, calls of a consumer that has not "
    "paid are refused until it has. Where it is empty, they never are.",
    "tries_after_days": "So many days after it was due, what is open of an invoice is taken from its consumer's card, "
    "until it is, such as 0, 1, 3, 7. Where it is empty, only a person tries.",
    "write_off_limit": "Writing off what is open of an invoice waits for a second person where it is more than this. "
    "Where it is empty, nobody has to agree.",
    "iban": "Where transfers go: stands on invoices and reminders, and is held to its check digits.",
    "bic": "The bank of that account.",
    "body_days": "Bodies of sandbox calls that are older are thrown away within the hour.",
    "call_months": "Calls further back are thrown away with their receipts, within a day and once their month is "
    "charged; what was counted and charged of them stays. 0 keeps them for ever.",
}


def locked_because(since: date) -> str:
    """Why a setting cannot change, once money was charged on a day."""
    return f"Money was charged in it, first on {since:%-d %B %Y}: it stays as it is."
