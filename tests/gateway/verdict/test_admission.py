"""From a call to what it may do: which operation, and under which subscription."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from calm_tariff.core.periods import SECOND
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict import calls
from calm_tariff.gateway.verdict.calls import Judged, Refused
from calm_tariff.services.admit import credentials
from calm_tariff.services.serve.gateway_feed import Route, read_feed
from tests.gateway.ends import PATH, Ends, ends

__all__ = ["ends"]


def routes(ends: Ends, **changes: Any) -> None:
    """The gateway's routes, changed."""
    feed = read_feed(ends.office.ctx)

    def changed(route: Route) -> Route:
        lets_through = frozenset(changes.get("lets_through", ()))
        own = {k: v for k, v in changes.items() if k != "lets_through"}
        return replace(route, forwarding=replace(route.forwarding, lets_through=lets_through), **own)

    ends.gateway.snapshot = Snapshot(replace(feed, routes=tuple(changed(r) for r in feed.routes)))


def code(ends: Ends, path: str = PATH, method: str = "GET", **headers: str) -> str:
    verdict = ends.judged(path, method, **{"x_api_key": ends.key, **headers})
    return verdict.fault.code if isinstance(verdict, Refused) else "let in"


@pytest.mark.parametrize(
    ("lets_through", "path", "headers", "refused"),
    [
        ("odd paths", "/tides/v1/stations/a;b", {}, "path-odd"),
        ("odd paths", "/tides/v1/stations/%23", {}, "path-odd"),
        ("overrides", PATH, {"x_http_method_override": "DELETE"}, "override"),
        ("other case", "/tides/v1/STATIONS/lm-01/TIDES", {}, None),
    ],
)
def test_what_back_ends_may_read_differently_is_let_in_where_the_owner_says_so(
    ends: Ends, lets_through: str, path: str, headers: dict[str, str], refused: str | None
) -> None:
    if refused:
        assert code(ends, path, **headers) == refused
        routes(ends, lets_through=(lets_through,))
        assert code(ends, path, **headers) == "let in"
    else:  # it leads nowhere here, whatever is let through
        routes(ends, lets_through=(lets_through,))
        assert code(ends, path, **headers) == "operation-unknown"


def test_a_path_that_is_not_plain_is_refused_whatever_the_owner_says(ends: Ends) -> None:
    routes(ends, lets_through=("odd paths", "overrides", "other case"))
    for path in ("/tides/v1/stations/%2e%2e/x", "/tides/v1/stations%2Flm-01", "/tides/v1/stations/%00"):
        assert code(ends, path) == "path-not-plain"


def test_a_version_that_is_gone_says_so_from_its_very_instant(ends: Ends) -> None:
    at = ends.office.ctx.now_us
    for sunset, said in ((at + SECOND, "let in"), (at, "version-gone"), (at - SECOND, "version-gone")):
        routes(ends, sunset_us=sunset)
        assert code(ends) == said
    routes(ends, gone=True)
    assert code(ends) != "let in"


def test_a_good_credential_whose_subscription_is_over_is_told_that_it_is_no_part_of_a_plan(ends: Ends) -> None:
    feed = read_feed(ends.office.ctx)
    own = ends.office.consumers[0].subscription
    others = tuple(grant for grant in feed.grants if grant.subscription_id != own)
    ends.gateway.snapshot = Snapshot(replace(feed, grants=others))
    assert code(ends) == "no-subscription"
    assert code(ends, x_api_key=ends.office.consumers[1].secret) == "let in"


def test_a_good_credential_of_a_kind_or_in_a_place_that_the_product_does_not_take_is_no_unknown_one(ends: Ends) -> None:
    feed = read_feed(ends.office.ctx)
    for changed, said in (
        ({"kinds": frozenset({"token"})}, "credential-kind"),
        ({"key_header": "x-tide-key"}, "credential-place"),
    ):
        others = {0: feed.products[ends.office.product]}  # another product takes it
        rules = {key: replace(r, **changed) for key, r in feed.products.items()}
        ends.gateway.snapshot = Snapshot(replace(feed, products=others | rules))
        verdict = ends.judged(x_api_key=ends.key)
        assert isinstance(verdict, Refused)
        # The receipt tells whose it is, and that it does not cover the operation.
        assert (verdict.fault.code, verdict.fault.status, verdict.fault.by) == (said, 401, "access")
        admitted = calls.admitted(verdict)
        assert admitted and admitted.access.grant.subscription_id == ends.office.consumers[0].subscription


def test_a_sandbox_key_is_for_a_sandbox_and_asks_no_live_back_end(ends: Ends) -> None:
    one = ends.office.consumers[0]
    secret = credentials.make_key(ends.office.acting(one), one.application, "try", environment="sandbox").secret
    routes(ends)
    assert code(ends, x_api_key=secret) == "wrong-environment"
    routes(ends, sandbox_url="http://127.0.0.1:9/sandbox")
    verdict = ends.judged(x_api_key=secret)
    assert isinstance(verdict, Judged) and verdict.admitted.environment == "sandbox"


def test_a_body_that_announces_too_much_is_refused_before_a_byte_of_it(ends: Ends) -> None:
    most = read_feed(ends.office.ctx).routes[0].forwarding.most_body_bytes
    assert code(ends, content_length=str(most)) == "let in"
    assert code(ends, content_length=str(most + 1)) == "body-too-large"
