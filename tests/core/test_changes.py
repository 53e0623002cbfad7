"""What two states differ in, as people read it."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.changes import changes

values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3),
    max_leaves=8,
)
states = st.none() | st.dictionaries(st.text(max_size=5), values, max_size=4)


def told(before: dict[str, Any] | None, after: dict[str, Any] | None) -> list[tuple[str, str | None, str | None]]:
    return [(c.what, c.before, c.after) for c in changes(before, after)]


def test_only_what_differs_is_told_in_words() -> None:
    before = {"name": "Ketch", "tax_percent": "23", "groups": ["a", "b"], "open": True, "note": ""}
    after = {"name": "Ketch", "tax_percent": "19", "groups": ["a"], "open": False, "note": "x"}
    assert told(before, after) == [
        ("tax percent", "23", "19"),
        ("groups", "a, b", "a"),
        ("open", "yes", "no"),
        ("note", "nothing", "x"),
    ]
    rules = {"decided": ["Live ones are reviewed.", "Others are open."]}
    assert told({}, rules) == [("decided", None, "Live ones are reviewed. Others are open.")]


def test_what_is_new_or_gone_is_told_apart_from_what_is_empty() -> None:
    assert told(None, {"roles": ["finance"], "until": None}) == [
        ("roles", None, "finance"),
        ("until", None, "nothing"),
    ]
    assert told({"until": None}, {}) == [("until", "nothing", None)]
    assert told(None, None) == told({"a": 1}, {"a": 1}) == []


def test_parts_are_led_to_by_their_names_not_their_places() -> None:
    rate, quota = {"name": "Rate", "calls": 10}, {"name": "Monthly", "units": 100}
    assert told({"limits": [rate, quota]}, {"limits": [quota, {**rate, "calls": 20}]}) == [
        ("limits › Rate › calls", "10", "20")
    ]
    assert told({"limits": [rate]}, {"limits": [rate, quota]}) == [
        ("limits › Monthly › name", None, "Monthly"),
        ("limits › Monthly › units", None, "100"),
    ]
    assert told({"tiers": [{"unit": "1"}]}, {"tiers": [{"unit": "2"}]}) == [("tiers › 1 › unit", "1", "2")]


@given(states, states)
def test_the_way_back_tells_the_same_the_other_way_round(before: Any, after: Any) -> None:
    there, back = told(before, after), told(after, before)
    assert sorted(map(repr, there)) == sorted(repr((what, was, now)) for what, now, was in back)
    assert all(was != now for _, was, now in there)
    assert told(before, before) == []
