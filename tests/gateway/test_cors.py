"""Pages of other origins: those the version's owner names, and no others (Fetch standard)."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.formats.replies import Headers
from calm_tariff.gateway import cors
from calm_tariff.gateway.compiled.snapshot import Place, Snapshot
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.admit.portals.portals import PortalTyped
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office

MAPS = b"https://maps.example"


def place(office: Office, *origins: str) -> Place:
    feed = read_feed(office.ctx)
    routes = tuple(replace(r, forwarding=replace(r.forwarding, cors_origins=frozenset(origins))) for r in feed.routes)
    found = Snapshot(replace(feed, routes=routes)).place("GET", "/tides/v1/stations/x")
    assert found
    return found


def asked(origin: bytes, **more: str) -> Headers:
    return [(b"origin", origin), *((k.replace("_", "-").encode(), v.encode()) for k, v in more.items())]


@pytest.mark.parametrize(
    ("origins", "origin", "allowed"),
    [
        (("https://maps.example",), MAPS, MAPS),
        (("https://maps.example",), b"https://maps.example.evil", None),
        (("https://maps.example",), b"http://maps.example", None),
        (("https://maps.example",), b"null", None),
        (("*",), b"https://anybody.example", b"*"),
        ((), MAPS, None),
    ],
)
def test_a_reply_names_the_origin_it_is_for_and_none_that_is_not_allowed(
    office: Office, origins: tuple[str, ...], origin: bytes, allowed: bytes | None
) -> None:
    fields = dict(cors.on_reply(place(office, *origins), asked(origin)))
    assert fields.get(b"access-control-allow-origin") == allowed
    assert b"access-control-allow-credentials" not in fields
    assert (fields.get(b"vary") == b"Origin") == bool(origins)  # a cache must not give one page's answer to another's


def test_a_preflight_of_an_allowed_page_is_told_what_the_path_answers(office: Office) -> None:
    wanted = asked(MAPS, access_control_request_method="GET", access_control_request_headers="x-api-key, x-y")
    fields = dict(cors.preflight(place(office, "https://maps.example"), wanted) or [])
    assert fields[b"access-control-allow-methods"] == b"GET, HEAD, OPTIONS"
    assert fields[b"access-control-allow-headers"] == b"x-api-key, x-y"
    assert fields[b"access-control-allow-origin"] == MAPS


def of_portals(here: Place, *origins: str) -> Place:
    forwarding = replace(here.route.forwarding, portal_origins=frozenset(origins))
    return replace(here, route=replace(here.route, forwarding=forwarding))


PILOTS = "https://pilots.example"


@pytest.mark.parametrize("owners", [(), ("https://maps.example",), ("*",)])
def test_the_pages_of_portals_read_all_of_an_answer_and_nobody_else_does_for_it(
    office: Office, owners: tuple[str, ...]
) -> None:
    here = of_portals(place(office, *owners), PILOTS)
    fields = dict(cors.on_reply(here, asked(PILOTS.encode())))
    assert (fields[b"access-control-allow-origin"], fields[b"access-control-expose-headers"]) == (PILOTS.encode(), b"*")
    assert cors.preflight(here, asked(PILOTS.encode(), access_control_request_method="GET")) is not None
    for other in (b"https://pilots.example.evil", b"http://pilots.example", b"null"):
        fields = dict(cors.on_reply(here, asked(other)))
        assert fields.get(b"access-control-allow-origin") == (b"*" if "*" in owners else None)
        assert fields.get(b"access-control-expose-headers") != b"*"


def test_a_back_end_speaks_for_itself_where_nobody_else_answers(office: Office) -> None:
    here = of_portals(place(office), PILOTS)
    assert cors.answered_here(here, asked(PILOTS.encode()))
    assert not cors.answered_here(here, asked(MAPS)) and not cors.answered_here(here, [])
    assert cors.answered_here(place(office, "https://maps.example"), [])


def test_gateways_know_the_origins_of_portals_by_path_and_by_name(office: Office) -> None:
    own = "https://larkmouth.example"
    ctx = replace(office.ctx, web_address=own, web_origins=frozenset({own}))
    made = portals.create(office.manager, "pilots", "Pilots")
    before = read_feed(ctx)
    typed = PortalTyped(brand=made.brand, host="pilots.example")
    portals.save(office.manager, made.id, made.edition, typed)
    after = read_feed(ctx)
    assert after.number > before.number  # or no gateway would read it
    known = [feed.routes[0].forwarding.portal_origins for feed in (before, after)]
    assert known == [{own}, {own, PILOTS}]
    portals.remove(office.manager, made.id)
    assert read_feed(ctx).routes[0].forwarding.portal_origins == known[0]


def test_what_is_no_preflight_is_a_call(office: Office) -> None:
    here = place(office, "https://maps.example")
    assert cors.preflight(here, asked(MAPS)) is None
    assert cors.preflight(here, [(b"access-control-request-method", b"GET")]) is None
    assert cors.preflight(here, asked(b"https://x.example", access_control_request_method="GET")) is None
    assert cors.on_reply(None, asked(MAPS)) == []
