"""Notices, letters and endpoints over HTTP: what is refused and where, what two do at once, and what is saved."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.services.house import service_tokens
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.office import Office

HOOK = {"name": "Ledger", "url": "http://93.184.215.14/hook", "wants": ["key.*", "invoice.issued"]}


class Web:
    """The console's API as one of the provider's scripts uses it."""

    def __init__(self, office: Office, role: str) -> None:
        ctx = replace(office.ctx, sealing_secret="the one that seals")
        self.http = TestClient(create_app(ctx, Settings()), base_url="http://127.0.0.1:8400")
        self.token = service_tokens.make_for_machine(office.ctx, f"script of {role}", role)

    def __call__(self, method: str, path: str, *, edition: int | None = None, **more: Any) -> Any:
        headers = {"Authorization": f"Bearer {self.token}"}
        if edition is not None:
            headers["If-Match"] = f'"{edition}"'
        return self.http.request(method, f"/api/v1{path}", headers=headers, **more)


@pytest.fixture
def operations(office: Office) -> Web:
    return Web(office, "operations")


@pytest.fixture
def manager(office: Office) -> Web:
    return Web(office, "product manager")


def test_an_endpoint_is_made_with_its_secret_shown_once_and_found_in_the_list(operations: Web) -> None:
    made = operations("POST", "/endpoints", json=HOOK)
    assert made.status_code == 201 and made.json()["secret"].startswith("whsec_")
    one = made.json()["endpoint"]
    assert one["wants"] == ["key.*", "invoice.issued"] and one["on"] and one["shown"] == HOOK["url"]
    listed = operations("GET", "/endpoints")
    assert [each["id"] for each in listed.json()] == [one["id"]] and "whsec_" not in listed.text
    assert operations("GET", f"/endpoints/{one['id']}/next").json() is None
    topics = {each["topic"]: each["types"] for each in operations("GET", "/event-topics").json()}
    assert "key.revoked" in topics["key"] and topics["allowance"][:2] == ["allowance.nearly_spent", "allowance.spent"]


@pytest.mark.parametrize(
    ("changed", "where"),
    [
        ({"url": "nowhere"}, "url"),
        ({"url": None}, "url"),
        ({"wants": ["key.eaten"]}, "wants"),
        ({"wants": []}, "wants"),
        ({"name": " "}, "name"),
        ({"name": "a\u202eb"}, "name"),
    ],
)
def test_what_is_no_endpoint_is_refused_at_its_field(operations: Web, changed: dict[str, Any], where: str) -> None:
    answer = operations("POST", "/endpoints", json={**HOOK, **changed})
    assert answer.status_code == 422 and where in answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    assert operations("GET", "/endpoints").json() == []


def test_two_who_change_an_endpoint_at_once_do_not_overwrite_each_other(operations: Web) -> None:
    one = operations("POST", "/endpoints", json=HOOK).json()["endpoint"]
    path, typed = f"/endpoints/{one['id']}", {**HOOK, "url": None, "wants": ["*"]}
    assert operations("PUT", path, json=typed).status_code == 422
    assert operations("PUT", path, json=typed, edition=one["edition"]).json()["wants"] == ["*"]
    assert operations("PUT", path, json={**typed, "name": "Late"}, edition=one["edition"]).status_code == 412
    assert operations("GET", path).json()["name"] == "Ledger"


def test_what_is_gone_or_of_another_turn_is_told(operations: Web) -> None:
    one = operations("POST", "/endpoints", json=HOOK).json()["endpoint"]
    path = f"/endpoints/{one['id']}"
    assert operations("POST", f"{path}/events/9999999/again").status_code == 404
    assert operations("POST", f"{path}/events/9999999/passing-over").status_code == 409
    assert operations("PUT", f"{path}/on", json={"on": False}).json()["on"] is False
    assert operations("POST", f"{path}/test").status_code == 409
    assert operations("POST", f"{path}/trying").status_code == 409
    assert operations("DELETE", path).status_code == 204
    for method, rest in (("GET", ""), ("GET", "/deliveries"), ("GET", "/next"), ("POST", "/secret"), ("DELETE", "")):
        assert operations(method, path + rest).status_code == 404, (method, rest)


def test_words_are_kept_from_an_edition_and_refused_by_part(manager: Web) -> None:
    path = "/notice-kinds/request_granted"
    shown = manager("GET", path).json()
    assert shown["edition"] == 0 and shown["words"] == shown["shipped"] and "application" in shown["fields"]
    words = {"subject": "{{ offer }} is yours", "text": "{{ link }}", "html": ""}
    assert manager("PUT", path, json={"words": words}).status_code == 422
    kept = manager("PUT", path, json={"words": words}, edition=0)
    assert kept.status_code == 200 and kept.json()["kind"]["own"] and kept.json()["edition"] == 1
    assert manager("PUT", path, json={"words": None}, edition=0).status_code == 412
    wrong = manager("PUT", path, json={"words": {**words, "text": "x\n{{ total }}"}}, edition=1)
    assert wrong.status_code == 422 and "line 2: there is no total here" in wrong.text
    assert manager("POST", f"{path}/preview", json={**words, "html": "{{ link() }}"}).status_code == 422
    assert manager("POST", f"{path}/preview", json=words).json()["subject"].endswith(" is yours")
    assert manager("PUT", path, json={"words": None}, edition=1).json()["words"] == shown["shipped"]
    assert manager("GET", "/notice-kinds/no_such_kind").status_code == 404


def test_the_mail_log_is_narrowed_and_saved_as_it_is_shown(manager: Web) -> None:
    everything = manager("GET", "/letters").json()
    assert everything["total"] > 0 and {row["state"] for row in everything["rows"]} == {"waiting"}
    granted = manager("GET", "/letters?kind=request granted").json()
    assert 0 < granted["total"] < everything["total"]
    assert {row["kind"] for row in granted["rows"]} == {"request granted"}
    saved = list(csv.DictReader(io.StringIO(manager("GET", "/letters.csv?kind=request granted").text)))
    assert [row["recipient"] for row in saved] == [row["recipient"] for row in granted["rows"]]
    one = manager("GET", f"/letters/{granted['rows'][0]['id']}").json()
    assert "may now call" in one["text"] and one["html"].startswith("<!doctype html>")
    assert manager("GET", "/letters?state=lost").status_code == 422
    assert manager("GET", "/letters/9999999").status_code == 404


def test_letters_that_open_an_account_are_read_by_nobody_here(office: Office, manager: Web) -> None:
    made = {"organisation": "Puffins", "name": "Pia", "email": "pia@puffins.example"}
    assert manager("POST", "/consumers", json=made).status_code == 201
    (row,) = manager("GET", "/letters?words=pia@puffins.example").json()["rows"]
    assert row["confidential"] and row["kind"] == "password forgotten"
    shown = manager("GET", f"/letters/{row['id']}")
    assert (shown.json()["text"], shown.json()["html"]) == ("", "") and "/password" not in shown.text
    assert "Another password" in row["subject"] and "token" not in manager("GET", "/letters.csv").text
