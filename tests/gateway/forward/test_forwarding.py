"""What of a call is passed on to a back end."""

from __future__ import annotations

import pytest

from calm_tariff.gateway.forward.forwarding import passed_headers
from calm_tariff.gateway.verdict.credentials import without_keys


def test_no_credential_of_any_product_reaches_a_back_end_in_any_spelling() -> None:
    sent = [
        (b"x-api-key", b"one"),
        (b"x-tide-key", b"another product's"),
        (b"x-api-key", b"again"),
        (b"x_api_key", b"wsgi"),
        (b"authorization", b"Basic x"),
        (b"proxy-authorization", b"y"),
        (b"cookie", b"calm_console=a; theirs=b"),
        (b"cookie", b"__Host-calm_portal=c"),
        (b"accept", b"*/*"),
        (b"x_custom", b"kept"),
    ]
    passed = passed_headers(sent, {b"x-api-key", b"x-tide-key"}, "192.0.2.1", "192.0.2.1", False)
    own = [field for field in passed if field[0] not in (b"x-forwarded-for", b"forwarded", b"traceparent")]
    assert own == [(b"cookie", b"theirs=b"), (b"accept", b"*/*"), (b"x_custom", b"kept")]


@pytest.mark.parametrize(
    "name",
    [
        "calm-consumer",
        "calm_consumer",
        "calm-anything",
        "calm_subscription",
        "x_forwarded_for",
        "x_forwarded_proto",
        "traceparent",
        "transfer_encoding",
        "content_length",
        "authorization",
    ],
)
def test_what_we_say_ourselves_cannot_be_said_by_a_caller(name: str) -> None:
    passed = passed_headers([(name.encode(), b"forged")], {b"x-api-key"}, "192.0.2.1", "192.0.2.1", False)
    assert b"forged" not in [value for _, value in passed]


def test_every_key_in_a_query_is_taken_away_however_often_it_comes() -> None:
    query = b"a=1&key=x&b=2&%6Bey=y&apikey=z&key=&c"
    assert without_keys(query, {"key", "apikey"}) == b"a=1&b=2&c"
