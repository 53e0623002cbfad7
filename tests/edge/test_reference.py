"""The references of our own APIs: whole, led through by links that lead somewhere, and running nothing."""

from __future__ import annotations

import re

import pytest
from starlette.testclient import TestClient

from calm_tariff.console_api import app as console
from calm_tariff.edge.reference import page
from calm_tariff.portal_api import app as portal
from calm_tariff.services.base.context import Context
from calm_tariff.settings import Settings
from calm_tariff.web import create_app


@pytest.mark.parametrize(("base", "made"), [("/api/v1", console), ("/portal/api/v1", portal)])
def test_a_reference_has_every_operation_and_shape_and_runs_nothing(ctx: Context, base: str, made) -> None:
    web = TestClient(create_app(ctx, Settings()), base_url="http://127.0.0.1:8400")
    answer = web.get(f"{base}/docs")
    assert answer.status_code == 200 and answer.headers["content-type"].startswith("text/html")
    assert "default-src 'self'" in answer.headers["content-security-policy"]
    html = answer.text
    document = web.get(f"{base}/openapi.json").json()
    for path, item in document["paths"].items():
        for method in item:
            assert f"<b>{method.upper()} {path}</b>" in html
    assert all(f"<b>{name}</b>" in html for name in document["components"]["schemas"])
    assert "<script" not in html and not re.search(r"<[^>]*\son\w+=", html) and "://" not in html
    led, there = set(re.findall(r'href="?#([\w-]+)', html)), set(re.findall(r'id="?([\w-]+)', html))
    assert led - there == set() and len(led) > 10


def test_words_of_a_document_stay_words() -> None:
    hostile = "<img src=x onerror=alert(1)>"
    shape = {"type": "object", "description": hostile, "properties": {hostile: {"enum": [hostile]}}}
    operation = {
        "description": hostile,
        "tags": [hostile],
        "parameters": [{"name": hostile, "in": hostile, "schema": {"type": hostile}}],
        "responses": {hostile: {"content": {"x": {"schema": {"const": hostile}}}}},
    }
    document = {
        "info": {"title": hostile},
        "paths": {f"/{hostile}": {"get": operation}},
        "components": {"schemas": {hostile: shape}},
    }
    html = page(document, hostile)
    assert "<img" not in html and html.count("&lt;img") > 10
