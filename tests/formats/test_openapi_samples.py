"""What a call begins with: the document's own example, or the plainest value that its schema takes."""

from __future__ import annotations

import json
from typing import Any

import pytest

from calm_tariff.formats.openapi_samples import sample

SHARED = {
    "Berth": {"type": "object", "required": ["id"], "properties": {"id": {"type": "integer", "minimum": 3}}},
    "Again": {"type": "object", "properties": {"next": {"$ref": "Again"}}},
}


def followed(schema: Any) -> dict[str, Any]:
    if not isinstance(schema, dict):
        return {}
    return SHARED[schema["$ref"]] if "$ref" in schema else schema


@pytest.mark.parametrize(
    ("schema", "value"),
    [
        ({"type": "string", "example": "lm-03", "default": "x"}, "lm-03"),
        ({"type": "integer", "default": 0}, 0),
        ({"type": "string", "examples": ["one", "two"]}, "one"),
        ({"type": "string", "enum": ["high", "low"]}, "high"),
        ({"const": False}, False),
        ({"type": "integer"}, 1),
        ({"type": "integer", "minimum": 2.5}, 3),
        ({"type": "integer", "maximum": -4}, -4),
        ({"type": "number", "minimum": 0, "exclusiveMinimum": True, "maximum": 9}, 1),
        ({"type": "number", "exclusiveMinimum": 7}, 8),
        ({"type": "integer", "exclusiveMaximum": 1}, 0),
        ({"type": "integer", "maximum": 1, "exclusiveMaximum": True}, 0),
        ({"type": ["null", "boolean"]}, True),
        ({"type": "string", "format": "date"}, "2026-12-01"),
        ({"type": "string", "minLength": 6}, "textxx"),
        ({"type": "string", "maxLength": 2}, "te"),
        ({"type": "array", "items": {"$ref": "Berth"}, "minItems": 2}, [{"id": 3}, {"id": 3}]),
        ({"anyOf": [{"type": "integer"}, {"type": "string"}]}, 1),
        (
            {"allOf": [{"$ref": "Berth"}, {"properties": {"until": {"type": "boolean"}}, "required": ["until"]}]},
            {"id": 3, "until": True},
        ),
        (
            {"allOf": [{"$ref": "Berth"}, {"example": {"id": 9}, "properties": {"n": {"type": "integer"}}}]},
            {"id": 3},  # an example of one part is none of the whole
        ),
        ({"allOf": [{"type": "string", "enum": ["high"]}, {"description": "Which."}]}, "high"),
        ({"properties": {"a": {"type": "integer", "readOnly": True}, "b": {"type": "string"}}}, {"b": "b"}),
        ({"type": "object", "required": ["b"], "properties": {"a": {}, "b": {"type": "integer"}}}, {"b": 1}),
    ],
)
def test_what_a_document_says_comes_first_and_bounds_are_kept(schema: dict[str, Any], value: Any) -> None:
    made = sample(schema, followed)
    assert made == value and type(made) is type(value)


def test_a_text_is_called_by_its_name_and_nothing_known_is_nothing() -> None:
    assert sample({"type": "string"}, followed, "harbour") == "harbour"
    assert sample(None, followed) is None and sample({}, followed) is None


def test_what_leads_back_to_itself_ends() -> None:
    depth, made = 0, sample({"$ref": "Again"}, followed)
    while made:
        depth, made = depth + 1, made["next"]
    assert depth <= 8


def test_what_would_grow_without_end_is_made_so_far() -> None:
    wide = {f"p{n}": {"$ref": "Wide"} for n in range(50)}
    deep: dict[str, Any] = {"type": "string"}
    for _ in range(8):
        deep = {"type": "array", "minItems": 99, "items": deep}
    shared = {"Wide": {"type": "object", "properties": wide}}
    for schema in ({"$ref": "Wide"}, deep):
        made = sample(schema, lambda one: shared[one["$ref"]] if "$ref" in one else one)
        assert len(json.dumps(made)) < 200_000
