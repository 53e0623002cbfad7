"""OpenAPI documents as they are in the world, and as they should not be."""

from __future__ import annotations

import gc
import json
import re
from dataclasses import replace
from typing import Any

import pytest
import yaml

from calm_tariff.core.errors import Invalid
from calm_tariff.core.paths import Router
from calm_tariff.formats.documents import read_document
from calm_tariff.formats.openapi import describe
from calm_tariff.formats.openapi_excerpt import Proofs, as_yaml, excerpt, sketch

BOMB = "a: &a [x,x,x,x,x,x,x,x,x]\n" + "".join(
    f"{chr(98 + n)}: &{chr(98 + n)} [{','.join(['*' + chr(97 + n)] * 9)}]\n" for n in range(9)
)
MERGED = "a: &a {x: 1}\n" + "".join(
    f"{chr(98 + n)}: &{chr(98 + n)} {{<<: [{','.join(['*' + chr(97 + n)] * 9)}]}}\n" for n in range(9)
)


@pytest.mark.parametrize("broken", [False, True])
def test_nothing_looks_for_cycles_while_a_document_is_read(broken: bool) -> None:
    text = yaml.dump(large("3.1.0"), Dumper=yaml.CSafeDumper) + ("  - [" if broken else "")
    looked: list[str] = []
    gc.callbacks.append(lambda phase, info: looked.append(phase))
    try:
        gc.collect(0)
        assert looked == ["start", "stop"]  # it would be noticed
        looked.clear()
        if broken:
            with pytest.raises(Invalid, match="YAML"):
                read_document(text)
        else:
            assert len(read_document(text)["paths"]) > 100
        assert looked.count("start") <= 1 and gc.isenabled()  # one, once it is on again
    finally:
        gc.callbacks.pop()


@pytest.mark.parametrize(
    ("text", "where", "what"),
    [
        (BOMB, "", "unfolds to more than"),
        (MERGED, "", "unfolds to more than"),
        ("a: &a [*a]", "", "contains itself"),
        ("[" * 100_000, "line 1", "not JSON"),
        ("- " * 5_000 + "x", "", "nested too deeply"),
        ("x: " + "[" * 5_000, "", "nested too deeply"),
        ('{"a": [1,}', "line 1, column 10", "not JSON"),
        ("a: {b: [}\n", "line 1", "not YAML"),
        ("!!python/object/apply:os.system [id]", "line 1", "not YAML"),
        ("x" * (20 * 1024 * 1024 + 1), "", "larger than 20 MB"),
    ],
)
def test_a_text_that_cannot_or_must_not_be_read_is_refused_with_its_place(text: str, where: str, what: str) -> None:
    with pytest.raises(Invalid) as refused:
        read_document(text)
    assert what in refused.value.what
    assert refused.value.where.startswith(where)


def test_yaml_is_read_as_json_would_be() -> None:
    text = "on: 2026-01-01\n200: yes\nbase: &b {x: 1, y: 2}\nmerged: {<<: *b, y: 3}\n'n': ~\nf: 0.5\n"
    assert read_document(text) == {
        "on": "2026-01-01",
        "200": "yes",
        "base": {"x": 1, "y": 2},
        "merged": {"x": 1, "y": 3},
        "n": None,
        "f": 0.5,
    }


@pytest.mark.parametrize(
    ("document", "what"),
    [
        ([], "must be an object"),
        ({"info": {}}, "neither `openapi` nor `swagger`"),
        ({"openapi": "4.0.0"}, "is OpenAPI 4.0.0"),
        ({"swagger": "1.2"}, "is OpenAPI 1.2"),
        ({"openapi": "3.0.0", "paths": []}, "an object of paths"),
    ],
)
def test_what_is_no_openapi_document_is_refused(document: Any, what: str) -> None:
    with pytest.raises(Invalid, match=re.escape(what)):
        describe(document)


def test_each_thing_that_is_wrong_is_found_at_its_place_and_the_rest_is_taken() -> None:
    document = {
        "openapi": "3.0.3",
        "info": {"title": 7},
        "paths": {
            "/good": {"get": {"operationId": "a", "tags": ["One", "One"]}},
            "/same/{x}": {"get": {"parameters": [{"in": "path", "name": "x"}]}},
            "/same/{y}": {"get": {}, "post": {"parameters": [{"in": "path", "name": "y"}]}},
            "no-slash": {"get": {}},
            "/brace/{x": {"get": {}},
            "/twice": {"get": {"operationId": "a"}, "post": 5, "trace": {}},
            "/remote": {"$ref": "other.yaml#/x"},
            "/loop": {"$ref": "#/paths/~1loop"},
            "/missing": {"$ref": "#/components/pathItems/none"},
            "/inner": {"get": {"responses": {"200": {"$ref": "http://elsewhere.example/x"}}}},
            "/undescribed/{id}": {"get": {"servers": [{"url": "/elsewhere"}]}},
            "x-extension": 3,
        },
        "webhooks": {"called": {"post": {}}},
        "components": {"schemas": {"A": {"$ref": "#/components/schemas/None"}}},
    }
    found = describe(document)
    assert [f"{o.method} {o.path}" for o in found.operations] == [
        "GET /good",
        "GET /same/{x}",
        "POST /same/{y}",
        "GET /twice",
        "GET /undescribed/{id}",
    ]
    assert found.operations[0].groups == ("One",)
    left_out = {f.where: f.what for f in found.findings if f.weight == "left out"}
    assert {where: what.split(",")[0] for where, what in left_out.items()} == {
        "/paths/~1same~1{y}/get": "leads to the same place as GET /same/{x}",
        "/paths/no-slash": "must begin with a slash",
        "/paths/~1brace~1{x": "has a brace without its partner",
        "/paths/~1twice/post": "must be an object",
        "/paths/~1twice/trace": "TRACE is not served",
        "/paths/~1remote/$ref": "refers to other.yaml#/x",
        "/paths/~1loop/$ref": "#/paths/~1loop refers back to itself",
        "/paths/~1missing/$ref": "#/components/pathItems/none is not in the document",
        "/paths/~1inner/get/responses/200/$ref": "refers to http://elsewhere.example/x",
    }
    doubtful = {f.where for f in found.findings if f.weight == "doubtful"}
    assert doubtful >= {
        "/paths/~1good/get/tags",
        "/paths/~1twice/get/operationId",
        "/paths/~1undescribed~1{id}/get/parameters",
        "/paths/~1undescribed~1{id}/get/servers",
        "/webhooks",
        "/components/schemas/A/$ref",
    }


def large(dialect: str) -> dict[str, Any]:
    """A document of 1,000 operations with what large public ones have."""
    paths: dict[str, Any] = {}
    old = dialect == "2.0"
    schema = {"$ref": "#/definitions/Node"} if old else {"$ref": "#/components/schemas/Node"}
    string = {"type": "string"} if old else {"schema": {"type": "string"}}

    def operation(n: int, parameters: list[str], **more: Any) -> dict[str, Any]:
        body = {"schema": schema} if old else {"content": {"application/json": {"schema": schema}}}
        made = {
            "tags": [f"Group {n % 17}", *([f"Group {n % 17}"] if n % 50 == 0 else [])],
            "x-internal": {"n": n},
            "parameters": [{"name": p, "in": "path", "required": True, **string} for p in parameters],
            "responses": {"200": {"description": "fine", **body}},
            **more,
        }
        if n % 3 == 0:
            made["operationId"] = f"op{n}"
        if n % 90 == 0 and not old:
            made["callbacks"] = {"done": {"{$request.body#/url}": {"post": {"responses": {}}}}}
            made["servers"] = [{"url": "https://uploads.example"}]
        return made

    shapes = (
        "/things/{}/parts/{{part}}",
        "/{{owner}}/{}/compare/{{base}}...{{head}}",
        "/a{}/{{b}}:cancel",
        "/a{}/{{b}}",
        "/a{}/fixed",
        "/files{}/{{name}}.{{ext}}",
        "/files{}/{{name}}",
        "/deep/{}/{{x}}/y/{{z}}",
        "/deep/{}/p/y/{{z}}",
        "/deep/{}/{{x}}/y/q",
    )
    n = 0
    while n < 1000:
        for shape in shapes:
            path = shape.format(n // 20)
            names = re.findall(r"\{(\w+)\}", path)
            item = paths.setdefault(path, {"x-shared": True, "parameters": []})
            for method in ("get", "post"):
                item[method] = operation(n, names)
                n += 1
    node = {
        "type": "object",
        "discriminator": "kind" if old else {"propertyName": "kind"},
        "properties": {"kind": {"type": "string"}, "child": schema, "default": schema},
        "allOf": [{"type": "object"}],
    }
    document: dict[str, Any] = {"info": {"title": "Large", "version": "1"}, "paths": paths, "x-vendor": {"$ref": 5}}
    if old:
        return {"swagger": "2.0", "host": "a.example", "basePath": "/v1", **document, "definitions": {"Node": node}}
    node["oneOf"] = [{"$ref": "#/components/schemas/Leaf"}]
    components = {"schemas": {"Node": node, "Leaf": {"type": "object"}, "Unused": {"type": "string"}}}
    more = {"webhooks": {"hook": {"post": {}}}} if dialect.startswith("3.1") else {}
    servers = [{"url": "https://{region}.example", "variables": {"region": {"default": "west"}}}]
    return {"openapi": dialect, **document, "components": components, "servers": servers, **more}


def best(paths: list[str], called: str) -> str | None:
    """Which template a path leads to, by trying all: literal before template, segment by segment."""
    found = []
    for path in paths:
        mine, theirs = path.split("/"), called.split("/")
        if len(mine) != len(theirs):
            continue
        pieces = [re.split(r"\{[^{}]*\}", segment) for segment in mine]
        if all(re.fullmatch("(.+?)".join(map(re.escape, p)), t) for p, t in zip(pieces, theirs, strict=True)):
            found.append((tuple(1000 if len(p) == 1 else sum(map(len, p)) for p in pieces), path))
    return max(found)[1] if found else None


@pytest.mark.parametrize("dialect", ["2.0", "3.0.3", "3.1.0"])
def test_a_large_document_is_read_whole_and_every_path_leads_to_its_operation(dialect: str) -> None:
    document = large(dialect)
    text = json.dumps(document) if dialect != "3.0.3" else yaml.dump(document, Dumper=yaml.CSafeDumper)
    told: list[tuple[int, int]] = []
    found = describe(read_document(text), lambda done, total: told.append((done, total)))
    assert (len(found.operations), told[0], told[-1]) == (1000, (0, 1000), (1000, 1000))
    assert [f for f in found.findings if f.weight == "left out"] == []
    assert found.servers == (("https://a.example/v1",) if dialect == "2.0" else ("https://west.example",))
    router = Router([(n, o.method, o.path) for n, o in enumerate(found.operations)])
    templates = list(dict.fromkeys(o.path for o in found.operations))
    for template in templates[::7]:  # 7 and the ten shapes share no divisor: every shape is tried
        for filling in ("v", "p", "fixed", "x.y", "1...2"):
            called = re.sub(r"\{[^{}]*\}", filling, template)
            for method in ("GET", "POST"):
                match = router.match(method, called)
                assert match is not None
                assert match.operation_id is not None
                assert found.operations[match.operation_id].path == best(templates, called), called


KEYS = Proofs(("key",), "X-API-Key", "", "https://gw.example/oauth2/token")


@pytest.mark.parametrize("dialect", ["2.0", "3.0.3"])
def test_an_excerpt_says_how_callers_prove_who_they_are(dialect: str) -> None:
    def schemes(*kinds: str, query: str = "") -> dict[str, Any]:
        proofs = replace(KEYS, kinds=kinds, key_header="X-Tide-Key", key_query=query)
        cut = excerpt(large(dialect), [("GET", "/a0/{b}:cancel")], "Sold", "https://gw.example", proofs)
        found = cut["securityDefinitions"] if dialect == "2.0" else cut["components"]["securitySchemes"]
        assert cut["security"] == [{name: []} for name in found]  # any one of them
        return {name: (s["type"], s.get("name") or s.get("scheme") or "") for name, s in found.items()}

    in_query = {"apiKey": ("apiKey", "X-Tide-Key"), "apiKeyInQuery": ("apiKey", "key")}
    assert schemes("key", query="key") == in_query
    assert schemes("basic", "client") == {
        "basic": ("basic", "") if dialect == "2.0" else ("http", "basic"),
        "clientCredentials": ("oauth2", ""),
    }
    bearer = ("apiKey", "Authorization") if dialect == "2.0" else ("http", "bearer")
    assert schemes("token") == {"issuerToken": bearer}


def test_yaml_says_what_json_says_without_aliases() -> None:
    cut = excerpt(large("3.0.3"), [("GET", "/a0/{b}:cancel")], "Gezeiten · ü", "https://gw.example", KEYS)
    shared = {"type": "string"}
    cut["components"]["schemas"]["Two"] = {"properties": {"a": shared, "b": shared}}
    text = as_yaml(cut)
    assert yaml.safe_load(text) == cut and list(yaml.safe_load(text)) == list(cut)
    assert "&id" not in text and "ü" in text


def test_an_excerpt_keeps_what_is_sold_and_what_that_refers_to_alone() -> None:
    for dialect in ("2.0", "3.0.3"):
        document = large(dialect)
        cut = excerpt(document, [("GET", "/a0/{b}:cancel")], "Sold", "https://gw.example/base", KEYS)
        assert list(cut["paths"]) == ["/a0/{b}:cancel"]
        assert set(cut["paths"]["/a0/{b}:cancel"]) == {"x-shared", "parameters", "get"}
        if dialect == "2.0":
            assert (cut["schemes"], cut["host"], cut["basePath"]) == (["https"], "gw.example", "/base")
            assert list(cut["definitions"]) == ["Node"]
        else:
            assert set(cut["components"]["schemas"]) == {"Node", "Leaf"}
            assert cut["servers"] == [{"url": "https://gw.example/base"}]
        again = describe(cut)
        assert [f"{o.method} {o.path}" for o in again.operations] == ["GET /a0/{b}:cancel"]
    typed = sketch("Typed", "v1", [("GET", "/a/{b}", "words", ("G",))])
    assert [(o.path, o.groups) for o in describe(typed).operations] == [("/a/{b}", ("G",))]
    assert describe(typed).findings == ()
