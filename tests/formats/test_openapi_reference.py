"""An operation as people read it, from documents of each dialect and from odd ones."""

from __future__ import annotations

import json
import time
from typing import Any

import pytest
import yaml

from calm_tariff.demo.load import DOCUMENTS
from calm_tariff.formats.openapi_reference import Node, deprecated, reference_of, words_of


def document(name: str) -> Any:
    return yaml.safe_load((DOCUMENTS / f"{name}.yaml").read_text())


def outline(node: Node | None) -> Any:
    """A node as name, type and parts."""
    assert node is not None
    return (node.name, node.type, [outline(part) for part in node.parts]) if node.parts else (node.name, node.type)


def of(operation: dict[str, Any], **more: Any) -> Any:
    made = reference_of({"openapi": "3.1.0", "paths": {"/a": {"get": operation}}, **more}, "GET", "/a")
    assert made
    return made


def schema(given: Any, **schemas: Any) -> Node:
    content = {"application/json": {"schema": given}}
    made = of({"responses": {"200": {"content": content}}}, components={"schemas": schemas})
    found = made.answers[0].bodies[0].schema
    assert found
    return found


def test_an_operation_has_its_parameters_its_answers_and_what_they_are_made_of() -> None:
    made = reference_of(document("tides-v2"), "GET", "/stations/{id}/extremes")
    assert made
    station, days = made.parameters
    assert (station.place, station.value.required, station.value.example) == ("path", True, "lm-03")
    assert (days.place, days.value.required, days.value.default) == ("query", False, "2")
    assert days.value.rules == ["at least 1", "at most 30"]
    well, unknown = made.answers
    assert outline(well.bodies[0].schema) == (
        "",
        "Extremes",
        [
            ("station", "string"),
            ("unit", "string"),
            (
                "extremes",
                "list of object",
                [("each", "object", [("at", "string, date-time"), ("height_m", "number"), ("kind", "string")])],
            ),
        ],
    )
    each = well.bodies[0].schema.parts[2].parts[0]
    assert [(part.name, part.required, part.choices) for part in each.parts] == [
        ("at", True, []),
        ("height_m", True, []),
        ("kind", False, ["high", "low"]),
    ]
    assert '"kind":"low"' in (well.bodies[0].example or "")
    assert (unknown.status, outline(unknown.bodies[0].schema)) == ("404", ("", "Problem", [("detail", "string")]))


def test_a_document_of_2_0_reads_the_same_way() -> None:
    made = reference_of(document("sea-state-v1"), "GET", "/buoys/{buoy}/latest")
    assert made
    [buoy] = made.parameters
    assert (buoy.place, buoy.value.type, buoy.value.example) == ("path", "string", "b-1")
    [body] = made.answers[0].bodies
    assert body.media_type == "application/json" and '"wave_m":1.62' in (body.example or "")
    assert [part.name for part in body.schema.parts] == ["buoy", "wave_m", "period_s", "wind_ms", "wind_from"]
    summary = reference_of(document("sea-state-v1"), "GET", "/areas/{area}:summarise")
    assert summary and [(h.name, h.type) for h in summary.answers[0].headers] == [("X-Cells", "integer")]
    posted = {
        "swagger": "2.0",
        "consumes": ["application/xml"],
        "paths": {
            "/a": {
                "post": {"parameters": [{"in": "body", "name": "b", "required": True, "schema": {"type": "object"}}]},
                "put": {"parameters": [{"in": "formData", "name": "f", "required": True, "type": "file"}]},
            }
        },
    }
    post, put = reference_of(posted, "POST", "/a"), reference_of(posted, "PUT", "/a")
    assert post and put and post.body_required and post.bodies[0].media_type == "application/xml"
    assert put.bodies[0].media_type == "application/x-www-form-urlencoded" and put.parameters == []
    assert outline(put.bodies[0].schema) == ("", "object", [("f", "file")]) and put.bodies[0].schema.parts[0].required


def test_a_schema_that_holds_itself_is_named_and_not_unfolded_again() -> None:
    tree = {"type": "object", "properties": {"left": {"$ref": "#/components/schemas/Tree"}, "name": {"type": "string"}}}
    assert outline(schema({"$ref": "#/components/schemas/Tree"}, Tree=tree)) == (
        "",
        "Tree",
        [("left", "Tree"), ("name", "string")],
    )
    itself = {"allOf": [{"$ref": "#/components/schemas/Own"}, {"type": "object", "properties": {"a": {}}}]}
    assert outline(schema({"$ref": "#/components/schemas/Own"}, Own=itself)) == ("", "Own", [("a", "any")])
    ring = {"$ref": "#/components/schemas/Ring"}
    assert outline(schema(ring, Ring=ring)) == ("", "Ring")


def test_choices_maps_words_beside_a_reference_and_older_bounds() -> None:
    several = schema({"oneOf": [{"type": "string"}, {"type": ["integer", "null"]}]})
    assert outline(several) == ("", "one of several", [("either", "string"), ("or", "integer or null")])
    named = schema({"type": "object", "additionalProperties": {"type": "number"}})
    assert outline(named) == ("", "object", [("any other name", "number")])
    beside = schema({"$ref": "#/components/schemas/A", "description": "Here *only*."}, A={"description": "Anywhere."})
    assert "<em>only</em>" in beside.description
    older = schema({"type": "number", "minimum": 0, "exclusiveMinimum": True, "nullable": True, "const": 3})
    assert (older.rules, older.type, older.choices) == (["at least 0"], "number or null", ["3"])


def test_a_script_in_a_description_stays_text() -> None:
    made = of({"description": "<script>alert(1)</script>", "responses": {}})
    assert "<script" not in made.description


@pytest.mark.parametrize(
    "odd",
    [
        {"responses": None},
        {"responses": []},
        {"responses": {"200": None}},
        {"responses": {"200": {"$ref": "#/nowhere"}}},
        {"responses": {"200": {"$ref": "http://evil.example/x"}}},
        {"responses": {"200": {"content": {"a/b": None}}}},
        {"responses": {"200": {"content": {"a/b": {"schema": 7}}}}},
        {"responses": {"200": {"headers": {"X": None}}}},
        {"parameters": [None, 7, {"name": "x"}, {"$ref": "#/paths"}]},
        {"parameters": [{"in": "query", "name": "q", "schema": {"enum": "no list", "type": {}}}]},
        {"requestBody": {"content": {"a/b": {"examples": {"one": {"$ref": "#/gone"}}}}}},
    ],
)
def test_what_is_odd_is_left_out_and_breaks_nothing(odd: dict[str, Any]) -> None:
    assert of({"x": 1, **odd}) is not None
    assert words_of({"paths": {"/a": {"get": {"x": 1, **odd}}}}, "GET", "/a") is not None


def test_what_is_not_there_is_none() -> None:
    for given in (None, [], {}, {"paths": []}, {"paths": {"/a": None}}, {"paths": {"/a": {"get": None}}}):
        assert reference_of(given, "GET", "/a") is None and words_of(given, "GET", "/a") == ""
        assert not deprecated(given, "GET", "/a")
    assert deprecated({"paths": {"/a": {"get": {"deprecated": True}}}}, "GET", "/a")


def test_what_would_unfold_without_end_is_shown_so_far() -> None:
    wide = {
        f"S{n}": {"properties": {f"p{k}": {"$ref": f"#/components/schemas/S{n + 1}"} for k in range(40)}}
        for n in range(9)
    }
    begun = time.process_time()
    assert schema({"$ref": "#/components/schemas/S0"}, **wide, S9={}).parts
    assert time.process_time() - begun < 20


def test_all_that_is_said_can_be_searched() -> None:
    words = words_of(document("tides-v2"), "GET", "/stations/{id}/extremes")
    for said in ("high", "height_m", "days", "look ahead", "no such station"):
        assert said in words
    assert "<" not in words


def test_a_call_begins_with_what_its_document_gives() -> None:
    made = reference_of(document("tides-v2"), "GET", "/stations/{id}/extremes")
    assert made
    assert [(p.sample, p.repeats) for p in made.parameters] == [("lm-03", False), ("2", False)]
    several = {"type": "array", "items": {"enum": ["high", "low"]}}
    made = of(
        {
            "parameters": [
                {"name": "kind", "in": "query", "schema": several},
                {"name": "near", "in": "query", "schema": several, "explode": False, "example": ["low", "high"]},
                {"name": "X-Kind", "in": "header", "schema": several},
                {"name": "page", "in": "query", "schema": {"$ref": "#/components/schemas/Page"}},
            ],
            "requestBody": {
                "content": {
                    "text/csv": {"example": "a,b"},
                    "application/json": {"schema": {"properties": {"until": {"format": "date", "type": "string"}}}},
                }
            },
            "responses": {"200": {"content": {"application/json": {"schema": {"type": "integer"}}}}},
        },
        components={"schemas": {"Page": {"type": "integer", "minimum": 1}}},
    )
    assert [(p.sample, p.repeats) for p in made.parameters] == [
        ("high", True),
        ("low,high", False),
        ("high", False),
        ("1", False),
    ]
    assert [(b.media_type, b.sample) for b in made.bodies] == [
        ("text/csv", "a,b"),
        ("application/json", '{"until":"2026-12-01"}'),
    ]
    assert made.answers[0].bodies[0].sample is None  # an answer is not made up


def test_a_call_of_2_0_begins_with_what_its_document_gives() -> None:
    several = {"name": "id", "in": "query", "type": "array", "items": {"type": "string"}}
    form = {"name": "berth", "in": "formData", "type": "integer", "required": True}
    paths = {"/a": {"get": {"parameters": [several, {**several, "name": "n", "collectionFormat": "multi"}, form]}}}
    made = reference_of({"swagger": "2.0", "paths": paths}, "GET", "/a")
    assert made and [(p.sample, p.repeats) for p in made.parameters] == [("id", False), ("n", True)]
    assert [(b.media_type, b.sample) for b in made.bodies] == [("application/x-www-form-urlencoded", '{"berth":1}')]


def test_what_a_call_begins_with_is_whole_however_long_and_what_is_shown_is_cut() -> None:
    many = {"ships": [f"ship {n:04}" for n in range(1000)]}
    once = {"examples": {"fleet": {"value": many}}, "schema": {"type": "object"}}
    kinds = {"examples": {"two": {"value": ["high", "low"]}}, "schema": {"type": "array", "items": {}}}
    made = of(
        {
            "parameters": [{"name": "kind", "in": "query", **kinds}],
            "requestBody": {"content": {"application/json": once}},
        }
    )
    (body,) = made.bodies
    assert json.loads(body.sample) == many
    assert body.example and body.example.endswith("…") and len(body.example) < len(body.sample)
    assert made.parameters[0].sample == "high,low"  # values, and not the list's JSON


@pytest.mark.parametrize("example", [0, False, "", []])
def test_an_example_that_says_little_is_one_all_the_same(example: Any) -> None:
    content = {"application/json": {"example": example, "schema": {"type": "integer", "minimum": 7}}}
    (body,) = of({"requestBody": {"content": content}}).bodies
    assert body.sample == body.example == (example if isinstance(example, str) else json.dumps(example))
