"""The reference of what a product sells, and the search over a portal's operations."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import timedelta

import pytest

from calm_tariff.core.errors import NotFound
from calm_tariff.services.admit.portals import portals, reference
from calm_tariff.services.admit.portals.portals import PortalTyped
from calm_tariff.services.compose import issuers, products
from calm_tariff.services.compose.apis import described, sunsets
from calm_tariff.services.compose.issuers import IssuerTyped
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.store.compose.apis import ApiDocument, ApiVersion, Operation
from tests.office import START, Office

SLUG = "harbour-data"


def bring(office: Office, **operations: dict) -> None:
    """A document of the office's API."""
    paths = {
        "/stations": {"get": {"description": "Every one of the *piers*.", **operations.get("stations", {})}},
        "/stations/{id}": {"get": {"deprecated": True, **operations.get("station", {})}},
    }
    with office.ctx.transaction() as session:
        text = json.dumps({"openapi": "3.1.0", "paths": paths})
        session.merge(ApiDocument(api_version_id=office.api, name="tides", text=text, imported_at=START))


def test_every_operation_is_listed_and_one_in_full_says_what_counts_and_limits_it(office: Office) -> None:
    bring(office)
    lines = reference.operations(office.ctx, SLUG)
    assert [(line.method, line.url_path, line.deprecated) for line in lines] == [
        ("GET", "/tides/v1/stations", False),
        ("GET", "/tides/v1/stations/{id}", True),
        ("GET", "/tides/v1/stations/{id}/tides", False),
    ]
    assert lines[0].version == "Tides v1"
    free, counted = (reference.operation(office.ctx, SLUG, line.id) for line in lines[:2])
    assert free.described and "<em>piers</em>" in free.described.description
    assert (free.meters, counted.meters) == ([], ["Forecast calls"])
    assert free.plans[0].limits == ["2 calls a second, up to 5 at once, for each key"]
    assert counted.plans[0].limits == [
        "2 calls a second, up to 5 at once, for each key",
        "Forecast calls: 30 a month, then refuse, for each subscription",
    ]
    assert counted.credentials == ["an API key in the header X-API-Key"]
    assert reference.operation(office.ctx, SLUG, lines[2].id).described is None  # its document is silent


def test_a_call_needs_what_chooses_its_version_and_proves_who_calls(office: Office) -> None:
    first = reference.operations(office.ctx, SLUG)[0].id

    def seen() -> reference.OperationView:
        return reference.operation(office.ctx, SLUG, first)

    assert (seen().host, seen().headers, seen().sandbox, seen().kinds, seen().issuers) == ("", {}, False, ["key"], [])
    with office.ctx.transaction() as session:
        version = session.get_one(ApiVersion, office.api)
        version.chosen_by, version.chosen_name, version.chosen_value = "header", "api-version", "2"
        version.sandbox_url = "http://try.example"
    assert (seen().host, seen().headers, seen().sandbox) == ("", {"api-version": "2"}, True)
    with office.ctx.transaction() as session:
        version = session.get_one(ApiVersion, office.api)
        version.chosen_by, version.chosen_name, version.chosen_value = "host", "", "two.example"
        version.sandbox_url = ""
        session.get_one(Operation, first).answers = "sandbox example"  # and there is none to give
    assert (seen().host, seen().headers, seen().sandbox) == ("two.example", {}, False)
    with office.ctx.transaction() as session:
        session.get_one(Operation, first).example = {"status": 200, "type": "text/plain", "body": "x"}
    assert seen().sandbox

    typed = IssuerTyped("Coast", "https://id.example", "https://id.example/jwks", "tides", ("ES256",), "app")
    issuers.add(office.manager, typed)
    assert seen().issuers == []  # the product takes none
    edition = products.one(office.manager, office.product).edition
    products.set_credentials(office.manager, office.product, edition, CredentialsTyped(("key", "token")))
    assert [(i.issuer, i.audience, i.claim) for i in seen().issuers] == [("https://id.example", "tides", "app")]


def test_operations_of_a_version_that_ends_are_marked_and_of_one_that_is_gone_not_there(
    office: Office,
) -> None:
    [first, *_] = reference.operations(office.ctx, SLUG)
    sunsets.set_state(office.manager, office.api, "sunset", START.date() + timedelta(days=30))
    assert all(line.deprecated for line in reference.operations(office.ctx, SLUG))
    assert reference.operation(office.ctx, SLUG, first.id).ends_at is not None
    sunsets.set_state(office.manager, office.api, "gone", None)
    assert reference.operations(office.ctx, SLUG) == []
    with pytest.raises(NotFound):
        reference.operation(office.ctx, SLUG, first.id)


def test_words_are_found_wherever_they_are_said_and_those_near_first(office: Office) -> None:
    bring(office)

    def found(words: str) -> list[str]:
        return [one.line.url_path.removeprefix("/tides/v1") for one in reference.search(office.ctx, words)]

    assert found("PIERS") == ["/stations"] and found("piers get") == ["/stations"]
    assert found("stations tides") == ["/stations", "/stations/{id}", "/stations/{id}/tides"]
    assert found("id} tides") == ["/stations/{id}", "/stations/{id}/tides"]
    assert found("") == found("  ") == found("piers submarine") == []
    bring(office, station={"description": "Beside the piers."})  # another document says something else
    assert found("piers") == ["/stations", "/stations/{id}"]


def test_what_is_hidden_is_neither_read_nor_found(office: Office) -> None:
    bring(office)
    made = portals.create(office.manager, "quay", "Quay")
    empty = replace(PortalTyped(brand=made.brand), everything=False)
    portals.save(office.manager, made.id, made.edition, empty)
    here = office.ctx.acting(replace(office.consumers[0].member, portal_id=made.id))
    operation = reference.operations(office.ctx, SLUG)[0].id
    assert reference.search(here, "stations") == []
    for ask in (lambda: reference.operations(here, SLUG), lambda: reference.operation(here, SLUG, operation)):
        with pytest.raises(NotFound):
            ask()
    with pytest.raises(NotFound):  # one of another product, or of none
        reference.operation(office.ctx, SLUG, 10**9)


def test_documents_are_kept_by_what_they_say_and_only_so_many(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(described, "MOST_DOCUMENTS", 2)
    for n in range(5):
        bring(office, stations={"description": f"Number {n}."})
        with office.ctx.transaction() as session:
            found = described.document_of(session, office.api)
        assert found and found[1]["paths"]["/stations"]["get"]["description"] == f"Number {n}."
    assert len(described._documents) <= 2
