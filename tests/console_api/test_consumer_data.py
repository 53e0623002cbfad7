"""Consumers' files, details, closing and erasing over HTTP: what scripts and browsers are answered."""

from __future__ import annotations

import csv
import io
import zipfile

import pytest
from starlette.testclient import TestClient

from calm_tariff.services.admit.importing import going_on
from calm_tariff.services.house import service_tokens
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.office import Office

FILE = "organisation,owner,email\n=Weir,Ana Vaz,ana@weir.example\nLock,Rui Sal,none\n"


def script(office: Office, *roles: str) -> TestClient:
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    token = service_tokens.make_for_machine(office.ctx, f"script of {roles}", *roles)
    web.headers["Authorization"] = f"Bearer {token}"
    return web


@pytest.fixture
def manager(office: Office) -> TestClient:
    return script(office, "product manager")


def test_a_script_takes_a_file_in_and_what_is_left_out_can_be_taken_in_again(
    office: Office, manager: TestClient
) -> None:
    made = manager.post("/api/v1/imports", json={"kind": "consumers", "name": "a.csv", "text": FILE})
    assert made.status_code == 201 and made.json()["stage"] == "checking"
    here = f"/api/v1/imports/{made.json()['id']}"
    going_on.go_on(office.ctx, made.json()["id"])
    assert manager.get(here).json()["good"] == 1
    begun = manager.put(f"{here}/running", json={"letters": False})
    assert begun.json()["stage"] == "running"
    going_on.go_on(office.ctx, made.json()["id"])
    assert manager.get(here).json()["made"] == 1  # by the token, with the roles it has
    (good, wrong) = manager.get(f"{here}/rows").json()["rows"]
    assert (good["state"], wrong["state"]) == ("made", "wrong") and good["consumer_id"]
    assert [r["line"] for r in manager.get(f"{here}/rows?state=wrong").json()["rows"]] == [3]
    left = manager.get(f"{here}/left-out.csv")
    assert 'filename="left-out-' in left.headers["content-disposition"]
    (row,) = csv.DictReader(io.StringIO(left.text))
    assert row["organisation"] == "Lock" and row["why"].startswith("email: is not an e-mail address")
    again = manager.post("/api/v1/imports", json={"kind": "consumers", "name": "b.csv", "text": left.text})
    assert again.status_code == 201
    # A name that a spreadsheet would take for a formula is handed out as text.
    assert "'=Weir" in manager.get(f"{here}/rows.csv").text
    assert manager.delete(here).status_code == 204 and manager.get(here).status_code == 404


def test_a_file_of_another_shape_names_its_place(manager: TestClient) -> None:
    for body, where in (
        ({"kind": "ships", "name": "a.csv", "text": "a\n1"}, "kind"),
        ({"kind": "members", "name": "a.csv", "text": "a\n1"}, "text"),
        ({"kind": "members", "name": "", "text": "a\n1"}, "name"),
    ):
        answer = manager.post("/api/v1/imports", json=body)
        assert (answer.status_code, answer.json()["where"]) == (422, where)
    assert manager.get("/api/v1/imports").json()["total"] == 0


def test_details_are_kept_and_refused_by_their_place(office: Office, manager: TestClient) -> None:
    consumer = office.consumers[0].member.own_consumer
    there = f"/api/v1/consumers/{consumer}/details"
    whole = {"address": "Quay 1", "country": "PT", "references": [{"system": "Ledger", "reference": "7"}]}
    assert manager.put(there, json=whole).json()["references"] == whole["references"]
    refused = manager.put(there, json={**whole, "tax_number": "1"})
    assert (refused.status_code, refused.json()["where"]) == (422, "tax_number")
    twice = {"references": [{"system": "Ledger", "reference": "7"}, {"system": "Ledger", "reference": "8"}]}
    assert manager.put(there, json=twice).json()["where"] == "references.1.system"
    assert manager.get(f"/api/v1/consumers/{consumer}").json()["details"]["address"] == "Quay 1"
    assert manager.get("/api/v1/countries").json()["PT"] == "Portugal"


def test_an_account_is_closed_by_its_name_and_its_data_handed_out_and_erased(
    office: Office, manager: TestClient
) -> None:
    made = {"organisation": "Quoin", "name": "Ivo Cais", "email": "ivo@quoin.example"}
    consumer = manager.post("/api/v1/consumers", json=made).json()["consumer_id"]
    there = f"/api/v1/consumers/{consumer}"
    archive = manager.get(f"{there}/data.zip")
    assert archive.headers["content-type"] == "application/zip"
    assert "ivo@quoin.example" in zipfile.ZipFile(io.BytesIO(archive.content)).read("member.jsonl").decode()
    said = manager.get(f"{there}/closing").json()
    assert said["name"] == "Quoin" and said["hindered"] is False
    assert manager.post(f"{there}/closing", json={"name": "quoin"}).json()["where"] == "name"
    assert manager.post(f"{there}/closing", json={"name": "Quoin"}).status_code == 204
    assert manager.post(f"{there}/closing", json={"name": "Quoin"}).status_code == 403
    assert manager.get(f"{there}/erasing").status_code == 403  # that is for an owner of the house
    owner = script(office, "owner")
    assert owner.get(f"{there}/erasing").json()["hindered"] == []
    assert owner.post(f"{there}/erasing", json={"name": "Quoin"}).status_code == 204
    assert owner.post(f"{there}/erasing", json={"name": f"erased consumer {consumer}"}).status_code == 409
    read = manager.get(there).json()
    assert read["line"]["name"] == f"erased consumer {consumer}" and read["erased_at"] and read["letters"] == []
    member = read["members"] or read["left"]
    assert member == []


def test_a_new_product_has_the_houses_target_unless_it_says_another(office: Office, manager: TestClient) -> None:
    owner = script(office, "owner")
    kept = owner.get("/api/v1/house/settings").json()
    changed = {**kept, "target_days": 9}
    headers = {"If-Match": f'"{kept["edition"]}"'}
    assert owner.put("/api/v1/house/settings", json=changed, headers=headers).json()["target_days"] == 9
    body = {"name": "Silent", "operations": list(office.operations.values())}
    assert manager.post("/api/v1/products", json=body).json()["target_days"] == 9
    body = {**body, "name": "Said", "target_days": None}
    assert manager.post("/api/v1/products", json=body).json()["target_days"] is None


def test_ones_own_notices_are_for_people(office: Office, manager: TestClient) -> None:
    for path in ("/notices", "/notices/unread", "/notice-choices"):
        assert manager.get(f"/api/v1{path}").status_code == 401
    assert manager.get("/api/v1/counts").json()["unread"] == 0
