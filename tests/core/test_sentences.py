"""Limits in words, and what of a call they may be counted by."""

from dataclasses import replace
from datetime import date
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.estimates import Shortfall
from calm_tariff.core.limits import Pace, Quota, Rate, Window, check
from calm_tariff.core.prices import Fee, Graduated, PerUnit, Setup, Tier
from calm_tariff.core.rating import Pricing
from calm_tariff.core.routes import Agreement, Route, Rule, Seat, Way
from calm_tariff.core.sentences import (
    consequences_in_words,
    grant_in_words,
    granting_in_words,
    limit_sentence,
    line_in_words,
    move_in_words,
    price_sentence,
    route_in_words,
    seats_in_words,
    shortfall_in_words,
    stands_in_words,
    way_in_words,
    words,
)
from calm_tariff.core.sentences.listing import so_many

RATE = Rate(name="r", counted_per="key", calls=10, per_seconds=1, burst=20)
SAID = [
    (RATE, "10 calls a second, up to 20 at once, for each key"),
    (replace(RATE, calls=1, per_seconds=60), "1 call a minute, up to 20 at once, for each key"),
    (
        replace(RATE, per_seconds=90, counted_per="everyone"),
        "10 calls every 90 seconds, up to 20 at once, for everyone",
    ),
    (
        replace(RATE, counted_per="header:X-Station"),
        "10 calls a second, up to 20 at once, for each value of the header X-Station of a consumer",
    ),
    (
        Window(name="w", counted_per="claim:tenant", calls=1, per_seconds=3600, rolling=True),
        "at most 1 call in any hour, for each value of the token's claim tenant of a consumer",
    ),
    (
        Window(name="w", counted_per="address", calls=5000, per_seconds=86_400, rolling=False),
        "at most 5,000 calls in each day, for each address of a consumer",
    ),
    (
        Window(name="w", counted_per="address", calls=5000, per_seconds=60, rolling=True, across_consumers=True),
        "at most 5,000 calls in any minute, for each address across consumers",
    ),
    (
        Pace(name="p", counted_per="consumer", calls=4, per_seconds=1, max_wait_ms=2500),
        "4 a second evenly spaced, waiting up to 2,500 ms, for each consumer",
    ),
    (
        Quota(
            name="q", counted_per="application", units=50_000, every="week", aligned="subscription", when_spent="warn"
        ),
        "50,000 a week from the day of subscribing, then only warn, for each application",
    ),
]


@pytest.mark.parametrize(("limit", "said"), SAID, ids=[said[:20] for _, said in SAID])
def test_a_limit_reads_as_a_sentence_whose_words_are_its_fields(limit, said: str) -> None:
    check(limit)
    sentence = limit_sentence(limit, "limits.3")
    assert words(sentence) == said
    assert words(limit_sentence(limit)) == said
    # Each word that can be changed says which field it is, and shows the choice it stands for.
    for part in sentence:
        if part.field:
            field = part.field.removeprefix("limits.3.")
            stands = f"{part.input}:{part.value}" if part.input in ("header", "claim") else part.value
            assert stands.lower() == str(getattr(limit, field)).lower()
            if part.choices:
                assert dict(part.choices).get(part.value, part.text) == part.text


def test_what_a_call_carries_can_be_chosen_from_any_sentence() -> None:
    for limit, _ in SAID:
        choices = dict(next(p for p in limit_sentence(limit) if p.field == "counted_per").choices)
        assert {"key", "address", "everyone"} <= set(choices)
        assert {c.partition(":")[0] for c in choices if ":" in c} == {"header", "claim"}
        for choice in choices:
            check(replace(limit, counted_per=choice))


@pytest.mark.parametrize(
    "wrong",
    [
        "",
        "colour",
        "header",
        "header:",
        "claim:",
        "header:X Station",
        "header:Ünter",
        "header:Authorization",
        "header:x-api-key",
        "header:Cookie",
    ],
)
def test_nothing_is_counted_by_a_secret_or_by_what_is_no_name(wrong: str) -> None:
    with pytest.raises(Invalid) as refused:
        check(replace(RATE, counted_per=wrong), "limits.0")
    assert refused.value.where == "limits.0.counted_per"


METERS = {"forecasts": "Forecast calls"}
OPERATIONS = [("1", "GET /tides")]
BOUNDED = Pricing(
    prices=(
        Setup(amount=Decimal(99)),
        Fee(amount=Decimal(40)),
        PerUnit(meter="forecasts", included=Decimal(100), unit=Decimal("0.004")),
        PerUnit(meter="forecasts", unit=Decimal("0.002")),
    ),
    minimum=Decimal(20),
    cap=Decimal(500),
    discount_percent=Decimal(10),
    tax="exempt",
)


def test_what_a_use_runs_against_is_said_in_words() -> None:
    quota = Quota(
        name="q",
        counted_per="subscription",
        units=2000,
        every="month",
        aligned="calendar",
        when_spent="refuse",
        meter="forecasts",
    )
    said = {
        "2,000 of your 40,000 forecast calls a month, then refused": Shortfall(quota, Decimal(40000), Decimal(2000)),
        "310 of your 400 calls a month (10 a day, used evenly), then refused": Shortfall(
            replace(quota, units=10, every="day", meter=None), Decimal(400), Decimal(310)
        ),
        "of 23 calls in one second 3 may be refused: 10 calls a second, up to 20 at once, for each key": Shortfall(
            RATE, Decimal(23), Decimal(20)
        ),
        "of 7 calls in one second the last may wait 300 ms": Shortfall(RATE, Decimal(7), Decimal(7), 300_000),
    }
    for text, short in said.items():
        assert shortfall_in_words(short, METERS) == text


@pytest.mark.parametrize(
    ("line", "meter", "place", "said"),
    [
        ("fee", None, 0, "€40 a month, by the day"),
        ("usage", "forecasts", 0, "100 included, then €0.004 each"),
        ("usage", "forecasts", 1, "0 included, then €0.002 each"),
        ("discount", None, 0, "10% off fee and usage"),
        ("minimum", None, 0, "at least 20 EUR a month"),
        ("cap", None, 0, "at most 500 EUR a month"),
    ],
)
def test_a_line_of_an_invoice_says_the_rule_it_was_made_by(line: str, meter: str | None, place: int, said) -> None:
    assert line_in_words(BOUNDED, line, meter, place, "EUR") == said


def test_rules_read_as_sentences() -> None:
    quota = Quota(
        name="q", counted_per="subscription", units=50000, every="month", aligned="calendar", when_spent="charge"
    )
    assert words(limit_sentence(quota)) == "50,000 a month, then charge, for each subscription"
    price = Graduated(
        meter="m",
        included=Decimal(1000),
        tiers=(
            Tier(up_to=Decimal(5000), unit=Decimal("0.0040")),
            Tier(up_to=None, unit=Decimal("0.0030"), flat=Decimal(2)),
        ),
    )
    said = "1,000 included, then €0.0040 each to 5,000; €0.0030 each plus €2 after that"
    assert words(price_sentence(price, "EUR", True)) == said
    assert [p.field for p in price_sentence(price, "EUR", True, "pricing.prices.1") if p.field][-1] == (
        "pricing.prices.1.tiers.1.flat"
    )


def test_moves_are_said_as_made_now_or_after_a_day() -> None:
    last = date(2026, 11, 30)
    assert move_in_words("change plan", "Sea · Skiff", "Ketch", None) == "Sea · Skiff becomes Ketch"
    after = "after 30 November 2026"
    assert move_in_words("change plan", "Sea · Skiff", "Ketch", last) == f"Sea · Skiff becomes Ketch {after}"
    assert move_in_words("change plan", "It", None, last) == f"It goes on with its charges {after}"
    assert move_in_words("end", "Sea · Skiff", None, last) == "Sea · Skiff ends with 30 November 2026"
    assert move_in_words("end", "Sea · Skiff", None, None) == "Sea · Skiff has ended"
    said = [move_in_words(kind, "It", None, None) for kind in ("pause", "resume", "take back")]
    assert said == ["It is paused", "It goes on", "It goes on as it is"]


def test_a_move_says_what_it_brings_with_it() -> None:
    def said(kind: str, last: date | None = None, trial: bool = False, anew: bool = False) -> str:
        return " ".join(consequences_in_words(kind, "Ketch", last, trial=trial, anew=anew))

    last = date(2026, 11, 30)
    day = "Today counts as a day of Ketch."
    assert said("change plan") == f"{day} What was used of an allowance counts on where both plans have it."
    assert said("change plan", anew=True) == f"{day} What was used of an allowance starts anew."
    assert said("change plan", trial=True) == f"{day} The trial is over with it."
    assert said("change plan", last) == ""
    assert "refused within a second" in said("end") and "until the end of 30 November 2026" in said("end", last)
    assert "ends paused is not charged" in said("pause") and "served within a second" in said("resume")


def test_a_route_reads_as_sentences() -> None:
    rules = (
        Rule(step="open", environment="sandbox"),
        Rule(step="reviewed twice", plans=(1, 2), groups=(7,)),
        Rule(step="outside", plans=(9,), environment="live", meter="calls", above=Decimal(100000)),
    )
    agreements = (Agreement(role="finance", above=Decimal("500")), Agreement(role="operations"))
    route = Route(otherwise="reviewed", rules=rules, agreements=agreements)
    names = {"plans": {1: "Ketch", 2: "Schooner"}, "groups": {7: "Schools"}}
    assert route_in_words(route, names, {"calls": "Forecast calls"}, "EUR") == [
        "Requests of applications for the sandbox alone are granted at once.",
        "Requests for Ketch or Schooner by consumers of Schools are reviewed by two people.",
        "Requests for a plan that is gone of live applications that expect more than 100,000 forecast calls a month "
        "are decided outside.",
        "All others are reviewed.",
        "Finance must agree as well where more than €500 a month is expected.",
        "Operations must agree as well.",
    ]
    assert route_in_words(Route(otherwise="open"), {}, {}, "") == ["Requests are granted at once."]


@pytest.mark.parametrize(
    ("way", "said"),
    [
        (Way(step="open"), "It is granted at once."),
        (Way(step="open", roles=("finance",)), "One person decides."),
        (Way(step="reviewed twice", roles=("finance", "operations")), "4 people decide."),
        (Way(step="outside"), "It is decided in an outside system."),
        (Way(step="outside", roles=("finance",)), "One person decides, and then an outside system."),
    ],
)
def test_a_way_is_said_to_whoever_asks(way: Way, said: str) -> None:
    assert way_in_words(way) == said


def test_where_a_request_stands_says_who_must_act() -> None:
    assert stands_in_words("waiting", ("review",), "Larkmouth", None, "Tuesday 1 December") == (
        "It waits for Larkmouth.",
        "Somebody there decides, by the end of Tuesday 1 December.",
    )
    assert stands_in_words("waiting", ("review", "finance"), "Larkmouth", None, "")[1] == "2 people there decide."
    assert "ticket 1007" in stands_in_words("passed to outside", (), "Larkmouth", "1007", "")[0]
    assert seats_in_words(("review", "review", "finance")) == "two reviewers and finance"
    assert seats_in_words(("review",)) == "a reviewer" and seats_in_words(()) == ""


def test_what_a_grant_does_is_said_before_it_is_made() -> None:
    def said(left: tuple[Seat, ...] = ("review",), way: Way = Way(step="reviewed"), **how: Any) -> str:
        given = {"moves_from": None, "later": False, "free_days": 0, **how}
        return " ".join(granting_in_words("Boat", "Harbour · Ketch", left, way, **given))

    assert said().startswith("Boat may call Harbour · Ketch within a second. For a minute it can be undone")
    assert "It begins with 14 free days." in said(free_days=14)
    assert said(("review", "finance")).startswith("Yours is one agreement of several: it needs a reviewer and finance.")
    assert said((), Way(step="outside")) == "It is passed to the outside system, which decides."
    assert said(moves_from="Skiff", later=True).startswith(
        "Boat moves from Skiff to Harbour · Ketch with the end of its trial or month."
    )
    assert grant_in_words("Ketch", 1, "1 call a second", "1 December 2026") == [
        "Ketch in place of what was asked for",
        "free for the first day",
        "with 1 call a second until the end of 1 December 2026",
    ]


@pytest.mark.parametrize(("number", "said"), [(0, "0 calls"), (1, "1 call"), (2, "2 calls"), (2000, "2,000 calls")])
def test_one_of_something_is_not_several(number: int, said: str) -> None:
    assert so_many(number, "call") == said
