"""What callers are told: the fields hold what they say, and a problem can be acted on."""

import json
from dataclasses import replace
from decimal import Decimal

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Quota, Rate, Window, trial_quota
from calm_tariff.core.periods import SECOND, zone
from calm_tariff.formats import replies
from calm_tariff.formats.openapi_examples import ExampleAnswer, example_of
from tests.core.test_limiter import T0, gaps, instants, quotas, rates, windows

LISBON = zone("Europe/Lisbon")


def call(at: int) -> Call:
    return Call(
        at_us=at,
        key="k",
        application="a",
        consumer="c",
        subscription="s",
        operation="GET /a",
        units=1,
        values=None,
        settles=False,
    )


def decide(limits, times):
    """The last decision of calls at these instants."""
    stack, counts, clock = Stack(limits, LISBON, T0), {}, Clock()
    return [stack.decide(call(at), counts, clock) for at in times][-1]


def field(headers: replies.Headers, name: bytes) -> str:
    return dict(headers).get(name, b"").decode()


@given(st.one_of(rates, windows, quotas), gaps)
def test_what_is_said_to_be_left_and_when_there_is_more_is_so(limit, steps: list[int]) -> None:
    times = instants(steps)
    decision, now = decide([limit], times), times[-1]
    said = field(replies.rate_limit_fields(replies.Policies.of([limit]), decision, now), b"ratelimit")
    name, left, seconds = said.split(";")
    left, seconds = int(left.removeprefix("r=")), int(seconds.removeprefix("t="))
    assert name == f'"{limit.name}"'
    # So many more calls are let in now, and not one more.
    burst = [decide([limit], [*times, *[now] * n]).verdict for n in range(1, left + 2)]
    assert burst == ["served"] * left + ["refused"]
    # After the seconds named there is room for one more than now; a second earlier there is not.
    assert decide([limit], [*times, *[now + seconds * SECOND] * (left + 1)]).verdict == "served"
    if seconds > 1:
        assert decide([limit], [*times, *[now + (seconds - 1) * SECOND] * (left + 1)]).verdict == "refused"
    (_, allowed), (_, remaining), (_, reset) = replies.older_fields(decision, now)
    assert (int(remaining), int(reset)) == (left, seconds)
    assert int(allowed) == replies.allowed(limit)


@given(st.lists(st.one_of(rates, windows, quotas), min_size=1, max_size=3), gaps)
def test_a_refusal_says_when_the_same_call_will_be_let_in(limits, steps: list[int]) -> None:
    named = [replace(limit, name=f"limit {n}") for n, limit in enumerate(limits)]
    times = instants(steps)
    decision = decide(named, times)
    assume(decision.verdict == "refused")
    body, headers = replies.refusal(decision, times[-1])
    problem = json.loads(body)
    assert (problem["status"], problem["code"], problem["limit"]) == (429, "limit-reached", decision.by)
    assert problem["rule"] in problem["detail"] and problem["counted_per"] == "key"
    assert field(headers, b"content-type") == "application/problem+json"
    after = int(field(headers, b"retry-after"))
    assert (after - 1) * SECOND < decision.retry_after_us <= after * SECOND
    assert decide(named, [*times, times[-1] + after * SECOND]).verdict == "served"


def test_a_refusal_for_ever_promises_no_time() -> None:
    quota = Quota(
        name="Units", counted_per="header:X-Station", units=3, every="month", aligned="calendar", when_spent="refuse"
    )
    stack, counts, clock = Stack([quota], LISBON, T0), {}, Clock()
    asked = replace_units(call(T0), 5)
    decision = stack.decide(asked, counts, clock)
    body, headers = replies.refusal(decision, T0)
    problem = json.loads(body)
    assert problem["frees_at"] is None and not field(headers, b"retry-after")
    assert (
        "Counted for this value of X-Station: 0 of 3 used. It does not free for a call of this cost."
        in (problem["detail"])
    )


def replace_units(asked: Call, units: int) -> Call:
    return asked._replace(units=units, values={"header:X-Station": "lm-01"})


def test_names_are_made_fit_for_fields() -> None:
    rate = Rate(name='Bücher "fast"', counted_per="key", calls=3, per_seconds=2, burst=10)
    window = Window(name="Tag", counted_per="key", calls=5, per_seconds=86_400, rolling=True)
    policies = replies.Policies.of([rate, window])
    assert policies.field == b'"b-cher -fast-";q=10;w=7, "tag";q=5;w=86400'
    assert replies.rate_limit_fields(replies.Policies.of([]), decide([rate], [T0]), T0) == []
    assert replies.older_fields(decide([], [T0]), T0) == []
    assert replies.dictionary([("Region", "west"), ("7 seas", 'a "b" \\c'), ("x", "Grüße")]) == (
        b'region="west", t-7-seas="a \\"b\\" \\\\c", x="Gr%C3%BC%C3%9Fe"'
    )
    assert replies.plain_text("Gannet, Ferries (north)") == b"Gannet, Ferries (north)"
    assert replies.plain_text("a\r\nSet-Cookie: x") == b"a%0D%0ASet-Cookie: x"


def test_the_older_fields_speak_of_the_limit_that_is_tightest() -> None:
    wide = Rate(name="wide", counted_per="key", calls=100, per_seconds=1, burst=100)
    narrow = Quota(name="narrow", counted_per="key", units=4, every="hour", aligned="subscription", when_spent="refuse")
    told = replies.older_fields(decide([wide, narrow], [T0, T0, T0]), T0)
    assert told == [(b"x-ratelimit-limit", b"4"), (b"x-ratelimit-remaining", b"1"), (b"x-ratelimit-reset", b"3600")]
    parted = replies.older_fields(decide([narrow], [T0] * 5), T0)
    assert field(parted, b"x-ratelimit-remaining") == "0"


def test_an_ending_version_says_so_in_the_standard_fields() -> None:
    assert replies.ending(None, None) == []
    assert replies.ending(1_788_300_000_500_000, 1_796_000_000_000_000) == [
        (b"deprecation", b"@1788300000"),
        (b"sunset", b"Mon, 30 Nov 2026 00:53:20 GMT"),
    ]


STATION = {
    "type": "object",
    "properties": {
        "id": {"type": "string", "example": "lm-01"},
        "depth": {"type": "number"},
        "kind": {"enum": ["pier", "buoy"]},
    },
}
ANSWERS = [
    ({"200": {"content": {"application/json": {"example": {"id": 7}}}}}, (200, "application/json", '{"id":7}')),
    ({"404": {"content": {"application/json": {"example": {}}}}}, None),
    (
        {"204": {"description": "nothing"}, "default": {"content": {"text/plain": {"example": "well"}}}},
        (200, "text/plain", "well"),
    ),
    (
        {"201": {"content": {"text/csv": {"example": "a,b"}, "application/json": {"schema": {"$ref": "#/s/Station"}}}}},
        (201, "application/json", '{"id":"lm-01","kind":"pier"}'),
    ),
    (
        {"200": {"content": {"application/json": {"examples": {"one": {"$ref": "#/e/one"}}}}}},
        (200, "application/json", '["a"]'),
    ),
    (
        {"200": {"content": {"application/json": {"schema": {"type": "array", "items": {"$ref": "#/s/Station"}}}}}},
        (200, "application/json", '[{"id":"lm-01","kind":"pier"}]'),
    ),
    ({"200": {"schema": {"default": 3}}}, (200, "application/json", "3")),  # Swagger 2.0
    ({"200": {"examples": {"application/json": {"id": "x"}}}}, (200, "application/json", '{"id":"x"}')),
    ({200: {"$ref": "#/r/fine"}}, (200, "application/json", "true")),  # YAML reads 200 as a number
    ({"200": {"content": {"application/json": {"schema": {"$ref": "#/s/Loop"}}}}}, None),
    ({"200": {"content": {"application/json": "odd"}}}, None),
    ("odd", None),
]


@pytest.mark.parametrize(("responses", "wanted"), ANSWERS)
def test_an_example_is_found_wherever_a_document_may_keep_one(responses, wanted) -> None:
    document = {
        "paths": {"/stations/{id}": {"get": {"responses": responses}}},
        "s": {"Station": STATION, "Loop": {"items": {"$ref": "#/s/Loop"}}},
        "e": {"one": {"value": ["a"]}},
        "r": {"fine": {"content": {"application/json": {"example": True}}}},
    }
    found = example_of(document, "GET", "/stations/{id}")
    assert found == (ExampleAnswer(*wanted) if wanted else None)
    assert example_of(document, "POST", "/stations/{id}") is None
    assert example_of(document, "GET", "/else") is None


def test_decimal_units_are_told_whole() -> None:
    quota = Quota(name="mb", counted_per="key", units=10, every="day", aligned="calendar", when_spent="charge")
    stack, counts, clock = Stack([quota], LISBON, T0), {}, Clock()
    reserved = call(T0)._replace(units=0)
    stack.decide(reserved, counts, clock)
    stack.settle(reserved, {None: Decimal("3.75")}, counts)
    decision = stack.decide(reserved, counts, clock)
    said = field(replies.rate_limit_fields(replies.Policies.of([quota]), decision, T0), b"ratelimit")
    assert said.startswith('"mb";r=6;')


def test_an_allowance_of_less_than_a_unit_is_told_without_failing() -> None:
    quota = Quota(
        name="mb", counted_per="key", units=Decimal("0.5"), every="day", aligned="calendar", when_spent="refuse"
    )
    stack, counts = Stack([quota], LISBON, T0), {}
    decision = stack.decide(call(T0)._replace(units=0), counts, Clock())
    fields = dict(replies.older_fields(decision, T0))
    assert (fields[b"x-ratelimit-limit"], fields[b"x-ratelimit-remaining"]) == (b"0", b"0")


def test_a_trials_units_are_told_without_a_window() -> None:
    quota = trial_quota("calls", 5)
    stack, counts = Stack([quota], LISBON, T0), {}
    decision = stack.decide(call(T0), counts, Clock())
    said = replies.rate_limit_fields(replies.Policies.of([quota]), decision, T0)
    assert said[0][1] == b'"units of the trial";q=5' and said[1][1] == b'"units of the trial";r=4'
