"""OpenAPI documents are read, compared and applied with consent."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest

from calm_tariff.core.errors import Conflict, Stale
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.services.compose.apis import documents, operations
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.serve import gateway_feed
from tests.office import Office

DOCUMENT = {
    "openapi": "3.1.0",
    "info": {"title": "Tides", "version": "2"},
    "paths": {
        "/stations": {"get": {"summary": "All stations", "tags": ["Stations"], "responses": {}}},
        "/stations/{id}/tides": {
            "parameters": [{"name": "id", "in": "path", "schema": {"$ref": "#/components/schemas/Id"}}],
            "get": {"summary": "Heights", "tags": ["Heights"], "responses": {}},
        },
        "/alerts": {"post": {"summary": "Ask to be told", "responses": {}}},
        "/broken": {"get": {"responses": {"200": {"$ref": "https://elsewhere.example/answers.json"}}}},
    },
    "components": {"schemas": {"Id": {"type": "string"}, "Unused": {"type": "string"}}},
}


def brought_in(office: Office, document: object = None) -> int:
    text = document if isinstance(document, str) else json.dumps(document or DOCUMENT)
    reading = documents.begin(office.manager, "tides.json", text)
    documents.read(office.ctx, reading.id)
    return reading.id


def settings(version: str, **more: object) -> ApiTyped:
    return replace(ApiTyped("Tides", version, "", f"/tides/{version}", "http://127.0.0.1:9/tides"), **more)


def test_a_document_is_read_compared_and_applied_only_with_consent(office: Office) -> None:
    reading = documents.one(office.manager, brought_in(office))
    assert (reading.stage, reading.operations, reading.left_out) == ("read", 3, 1)
    finding = reading.findings[0]
    assert finding.where == "/paths/~1broken/get/responses/200/$ref"
    assert "is not fetched" in finding.what
    against = documents.compare(office.manager, reading.id, office.api)
    assert against.added == ["POST /alerts"]
    assert [(r.operation, r.meters, r.plans, r.subscriptions) for r in against.removed] == [
        ("GET /stations/{id}", ["Forecast calls"], ["Harbour Data · Skiff", "Harbour Data · Ketch"], 2)
    ]
    with pytest.raises(Conflict, match="1 parts would be left out"):
        documents.apply_to(office.manager, reading.id, office.api, 1, False)
    with pytest.raises(Stale):
        documents.apply_to(office.manager, reading.id, office.api, 7, True)
    documents.apply_to(office.manager, reading.id, office.api, 1, True)
    labels = [f"{o.method} {o.path}" for o in operations.page(office.manager, office.api).operations]
    assert labels == ["POST /alerts", "GET /stations", "GET /stations/{id}/tides"]
    assert [o.path for o in operations.page(office.manager, office.api, standing="unsold").operations] == ["/alerts"]
    assert [o.path for o in operations.page(office.manager, office.api, "heights").operations] == [
        "/stations/{id}/tides"
    ]
    sold = documents.sold_by(office.manager, office.plans["Ketch"], "http://gateway")
    assert (list(sold["paths"]), list(sold["components"]["schemas"])) == (["/stations", "/stations/{id}/tides"], ["Id"])
    assert sold["servers"] == [{"url": "http://gateway/tides/v1"}]
    # The retired operation is there again once a document has it again.
    again = brought_in(office, {**DOCUMENT, "paths": {"/stations/{id}": DOCUMENT["paths"]["/stations"]}})
    documents.apply_to(office.manager, again, office.api, 2, False)
    assert operations.page(office.manager, office.api).operations[0].id == office.operations["GET /stations/{id}"]


def test_a_document_that_cannot_be_read_says_where_and_one_that_is_stopped_changes_nothing(office: Office) -> None:
    broken = documents.one(office.manager, brought_in(office, "openapi: 3.0.0\npaths: [\n"))
    assert (broken.stage, broken.findings[0].where) == ("failed", "line 3, column 1")
    begun = documents.begin(office.manager, "", json.dumps(DOCUMENT))
    documents.stop(office.manager, begun.id)
    with pytest.raises(Conflict, match="stopped"):
        documents.apply_as_new(office.manager, begun.id, settings("v2"), True)


def test_two_paths_of_one_place_are_both_kept_each_with_its_methods(office: Office) -> None:
    paths = {
        "/stations/{id}": {"get": {"parameters": [{"in": "path", "name": "id"}], "responses": {}}},
        "/stations/{name}": {"post": {"parameters": [{"in": "path", "name": "name"}], "responses": {}}},
    }
    reading = brought_in(office, {**DOCUMENT, "paths": paths})
    typed = ApiTyped(
        name="Places",
        version="v1",
        description="",
        base_path="/places/v1",
        back_end_url="http://127.0.0.1:9/places",
        capacity_per_second=50,
    )
    made = documents.apply_as_new(office.manager, reading, typed, True)
    found = {f"{o.method} {o.path}" for o in operations.page(office.manager, made.id).operations}
    assert found == {"GET /stations/{id}", "POST /stations/{name}"}
    snapshot = Snapshot(gateway_feed.read_feed(office.ctx))
    for method, other in (("GET", "POST"), ("POST", "GET")):
        place = snapshot.place(method, "/places/v1/stations/x")
        assert place and place.match.operation_id and set(place.match.methods) == {method, other}
