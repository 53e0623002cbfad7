"""JSON becomes the core's values exactly, and what cannot is named by its place and in words."""

from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Literal, NamedTuple

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.values import load, read, write


@dataclass(frozen=True, slots=True, kw_only=True)
class Weekly:
    kind: Literal["weekly"] = "weekly"
    day: Literal["Monday", "Friday"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Daily:
    kind: Literal["daily"] = "daily"
    model: Literal["each"]
    times: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Daytime:
    kind: Literal["daily"] = "daily"
    model: Literal["light"]
    hours: tuple[int, ...]


class Pair(NamedTuple):
    """A named tuple, as the calls of a case are."""

    at_us: int
    units: int | Decimal = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class Thing:
    name: str
    price: Decimal
    on: bool = True
    since: date | None = None
    at: datetime | None = None
    pairs: tuple[Pair, ...] = ()
    rules: tuple[Weekly | Daily | Daytime, ...] = ()
    used: dict[str, Decimal] | None = None


def test_every_digit_survives_there_and_back() -> None:
    text = """{"name": "x", "price": "0.12345678901234567890123456789", "on": false, "since": "2026-02-28",
        "at": "2026-03-29T01:00:00+00:00", "pairs": [{"at_us": 9007199254740993, "units": "0.5"}],
        "rules": [{"kind": "weekly", "day": "Friday"}, {"model": "light", "hours": [1, 2]}],
        "used": {"Daily": 12, "mb": 0.30000000000000004441}}"""
    thing = read(Thing, load(text))
    assert thing == Thing(
        name="x",
        price=Decimal("0.12345678901234567890123456789"),
        on=False,
        since=date(2026, 2, 28),
        at=datetime(2026, 3, 29, 1, tzinfo=UTC),
        pairs=(Pair(9007199254740993, Decimal("0.5")),),
        rules=(Weekly(day="Friday"), Daytime(model="light", hours=(1, 2))),
        used={"Daily": Decimal(12), "mb": Decimal("0.30000000000000004441")},
    )
    assert read(Thing, write(thing)) == thing
    assert type(read(Pair, {"at_us": 1, "units": 2}).units) is int


GOOD = {"name": "x", "price": "1"}
DECIMAL = 'must be a decimal number such as "0.004"'
DAILY = {"kind": "daily", "model": "each"}
WEEKLY = {"kind": "weekly", "day": "Monday"}


@pytest.mark.parametrize(
    ("value", "where", "what"),
    [
        ([], "", "must be an object, not []"),
        ({"price": "1"}, "name", "is missing"),
        (GOOD | {"nmae": "x"}, "nmae", "is not a field here"),
        (GOOD | {"name": 3}, "name", "must be text, not 3"),
        (GOOD | {"on": 1}, "on", "must be true or false, not 1"),
        (GOOD | {"on": "yes"}, "on", 'must be true or false, not "yes"'),
        (GOOD | {"price": "1,5"}, "price", f'{DECIMAL}, not "1,5"'),
        (GOOD | {"price": "Infinity"}, "price", f'{DECIMAL}, not "Infinity"'),
        (GOOD | {"price": 0.1}, "price", f"{DECIMAL}, not 0.1"),
        (GOOD | {"used": {"mb": 1e30}}, "used.mb", f"{DECIMAL}, not 1e+30"),
        (GOOD | {"pairs": [{"at_us": 1}, {"at_us": 2.0}]}, "pairs[1].at_us", "must be a whole number, not 2.0"),
        (GOOD | {"pairs": [{"at_us": 1, "units": 0.5}]}, "pairs[0].units", f"{DECIMAL}, not 0.5"),
        (GOOD | {"price": True}, "price", f"{DECIMAL}, not true"),
        (GOOD | {"since": "28/02/2026"}, "since", 'must be a date such as 2026-09-01, not "28/02/2026"'),
        (GOOD | {"since": "2026-02-29"}, "since", 'must be a date such as 2026-09-01, not "2026-02-29"'),
        (GOOD | {"since": 20260228}, "since", "must be a date such as 2026-09-01, not 20260228"),
        (GOOD | {"at": "noon"}, "at", 'must be a moment such as 2026-09-01T00:00:00+01:00, not "noon"'),
        (GOOD | {"pairs": {}}, "pairs", "must be a list, not {}"),
        (GOOD | {"pairs": [{"at_us": 1}, {"at_us": "2"}]}, "pairs[1].at_us", 'must be a whole number, not "2"'),
        (GOOD | {"pairs": [{"at_us": True}]}, "pairs[0].at_us", "must be a whole number, not true"),
        (GOOD | {"pairs": [{"units": 1}]}, "pairs[0].at_us", "is missing"),
        (GOOD | {"pairs": [{"at_us": 1, "unit": 1}]}, "pairs[0].unit", "is not a field here"),
        (GOOD | {"pairs": [3]}, "pairs[0]", "must be an object, not 3"),
        (GOOD | {"used": {"mb": "x"}}, "used.mb", f'{DECIMAL}, not "x"'),
        (GOOD | {"used": {"Daily": "x"}}, "used.Daily", f'{DECIMAL}, not "x"'),
        (
            GOOD | {"rules": [WEEKLY, WEEKLY | {"day": "Sunday"}]},
            "rules[1].day",
            'must be one of Monday, Friday, not "Sunday"',
        ),
        (GOOD | {"rules": [{"kind": "yearly"}]}, "rules[0].kind", 'must be one of weekly, daily, not "yearly"'),
        (GOOD | {"rules": [DAILY | {"model": "night"}]}, "rules[0].model", 'must be one of each, light, not "night"'),
        (GOOD | {"rules": [DAILY | {"times": "2"}]}, "rules[0].times", 'must be a whole number, not "2"'),
        (GOOD | {"rules": [DAILY]}, "rules[0].times", "is missing"),
        (GOOD | {"rules": [DAILY | {"times": 2, "day": 1}]}, "rules[0].day", "is not a field here"),
        (GOOD | {"rules": [7]}, "rules[0]", "must be an object, not 7"),
    ],
)
def test_what_is_wrong_is_said_of_its_place(value: object, where: str, what: str) -> None:
    with pytest.raises(Invalid) as refused:
        read(Thing, value)
    assert (refused.value.where, refused.value.what) == (where, what)
    with pytest.raises(Invalid) as refused:
        read(Thing, value, "body")
    assert refused.value.where == (f"body.{where}" if where else "body")


def test_a_long_value_is_shown_by_its_beginning() -> None:
    with pytest.raises(Invalid, match=r'must be a decimal number such as "0\.004", not "a{56}\.\.\.$'):
        read(Thing, GOOD | {"price": "a" * 1000})


@pytest.mark.parametrize(
    "text", ['{"name": "\\ud800", "price": "1"}', '{"name": "x", "used": ' + "[" * 300 + "]" * 300 + "}"]
)
def test_json_that_no_text_can_hold_is_refused(text: str) -> None:
    with pytest.raises(Invalid, match="cannot be read"):
        read(Thing, load(f'{{"name": {text}, "price": "1"}}'))
