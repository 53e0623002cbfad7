"""Answers made of an example."""

from __future__ import annotations

import json
import time

import pytest

from calm_tariff.core.errors import Conflict
from calm_tariff.formats.openapi_examples import TooLarge, example_of
from calm_tariff.services.compose.apis import operations
from calm_tariff.store.compose.apis import ApiDocument
from tests.office import Office


def unfolding(width: int, depth: int) -> dict:
    """A document of a few lines whose example would have width^depth parts."""
    schemas = {
        f"S{n}": {
            "type": "object",
            "properties": {f"p{k}": {"$ref": f"#/components/schemas/S{n + 1}"} for k in range(width)},
        }
        for n in range(depth)
    }
    schemas[f"S{depth}"] = {"type": "string", "example": "x"}
    content = {"application/json": {"schema": {"$ref": "#/components/schemas/S0"}}}
    paths = {"/a": {"get": {"responses": {"200": {"description": "", "content": content}}}}}
    return {
        "openapi": "3.0.3",
        "info": {"title": "T", "version": "1"},
        "paths": paths,
        "components": {"schemas": schemas},
    }


def test_an_example_is_made_within_a_budget(office: Office) -> None:
    assert example_of(unfolding(3, 3), "GET", "/a")
    begun = time.process_time()
    for width, depth in ((8, 7), (200, 3), (2, 11 * 2)):
        with pytest.raises(TooLarge):
            example_of(unfolding(width, depth), "GET", "/a") or _raise()
    assert time.process_time() - begun < 10  # it unfolds for ever otherwise
    with office.ctx.transaction() as session:
        text = json.dumps(unfolding(8, 7)).replace('"/a"', '"/stations"')
        session.add(ApiDocument(api_version_id=office.api, name="x.json", text=text, imported_at=office.ctx.now))
    with pytest.raises(Conflict) as refused:
        operations.set_answers(office.manager, office.operations["GET /stations"], "example")
    assert "too large" in str(refused.value)


def _raise() -> None:
    raise TooLarge  # deeper than any example goes: nothing was found, and quickly


@pytest.mark.parametrize("kind", ["text/plain\r\nX: y", "no type", "text/plain; a=\u0007", "tëxt/plain"])
def test_a_media_type_that_is_none_makes_no_answer(kind: str) -> None:
    content = {kind: {"example": "x"}}
    document = {"paths": {"/a": {"get": {"responses": {"200": {"content": content}}}}}}
    assert example_of(document, "GET", "/a") is None
    content["text/plain; charset=utf-8"] = {"example": "fine"}
    found = example_of(document, "GET", "/a")
    assert found and (found.type, found.body) == ("text/plain; charset=utf-8", "fine")


def test_a_status_that_is_none_is_no_status() -> None:
    content = {"text/plain": {"example": "x"}}
    for status, code in (("2²", 200), ("2XX", 200), ("201", 201), ("default", 200)):
        found = example_of({"paths": {"/a": {"get": {"responses": {status: {"content": content}}}}}}, "GET", "/a")
        assert found and found.status == code
