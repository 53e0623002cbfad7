"""What stands before everything the web process answers."""

from __future__ import annotations

import asyncio
import re

import httpx
import pytest
import uvicorn
from starlette.testclient import TestClient

from calm_tariff.formats.csv_cells import cell
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.base import auditing
from calm_tariff.services.compose import products
from calm_tariff.settings import Settings
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.compose.products import Product
from calm_tariff.web import SERVED, create_app
from tests.office import PASSWORD, Office
from tests.ports import free_port
from tests.processes import awaited

HERE = "http://127.0.0.1:8400"


def web(office: Office, address: str = HERE, **settings: object) -> TestClient:
    return TestClient(create_app(office.ctx, Settings(**settings)), base_url=address, raise_server_exceptions=False)


@pytest.mark.parametrize("host", ["evil.example", "127.0.0.1", "127.0.0.1:8401", "localhost.evil.example:8400", ""])
def test_a_host_that_is_not_ours_is_refused_everywhere(office: Office, host: str) -> None:
    client = web(office)
    for path in ("/api/v1/me", "/portal/api/v1/me", "/", "/portal", "/oauth2/jwks.json", "/healthz"):
        answer = client.get(path, headers={"host": host}, follow_redirects=False)
        assert answer.status_code == 421, path
    assert client.post("/api/v1/session/demo", headers={"host": host}).status_code == 421


def test_ours_is_this_machine_the_address_and_what_the_settings_name(office: Office) -> None:
    named = {"web_address": "https://tariff.example", "web_hosts": "inside.example:8400, Other.example"}
    for host in ("127.0.0.1:8400", "localhost:8400", "tariff.example", "inside.example:8400", "other.example"):
        assert web(office, f"http://{host}", **named).get("/api/v1/me").status_code == 200


def test_more_than_may_be_sent_is_refused_before_it_is_read(office: Office) -> None:
    client = web(office)
    typed = {"email": "x@consumer.example", "password": "p" * 2_000_000}
    refused = client.post("/portal/api/v1/session", json=typed)
    assert (refused.status_code, refused.headers["content-type"]) == (413, "application/problem+json")

    def drip():
        for _ in range(30):
            yield b" " * 100_000

    assert client.post("/portal/api/v1/session", content=drip()).status_code == 413
    # A document may be larger.
    assert client.post("/api/v1/documents", content=b" " * 2_000_000).status_code != 413


def test_what_an_api_answers_is_kept_nowhere_and_read_as_what_it_is(office: Office) -> None:
    for path in ("/api/v1/me", "/portal/api/v1/me", "/api/v1/nothing", "/oauth2/jwks.json"):
        headers = web(office).get(path).headers
        assert (headers["cache-control"], headers["x-content-type-options"]) == ("no-store", "nosniff"), path
        assert "strict-transport-security" not in headers
    secure = web(office, "https://tariff.example", web_address="https://tariff.example").get("/api/v1/me")
    assert secure.headers["strict-transport-security"].startswith("max-age=")


def test_a_session_over_https_is_bound_to_https_and_this_host(office: Office) -> None:
    typed = {"email": "product@test.example", "password": PASSWORD}
    plain = web(office).post("/api/v1/session", json=typed)
    assert plain.headers["set-cookie"].startswith("calm_console=") and "Secure" not in plain.headers["set-cookie"]
    client = web(office, "https://tariff.example", web_address="https://tariff.example")
    cookie = client.post("/api/v1/session", json=typed).headers["set-cookie"]
    assert cookie.startswith("__Host-calm_console=")
    assert {"Secure", "HttpOnly", "Path=/", "SameSite=strict"} <= {part.strip() for part in cookie.split(";")}
    assert client.get("/api/v1/me").json()["name"] == "product manager"
    assert client.delete("/api/v1/session").status_code == 204
    assert client.get("/api/v1/me").json()["name"] == ""


def test_a_page_from_elsewhere_can_sign_nobody_in(office: Office) -> None:
    elsewhere = {"origin": "https://evil.example"}
    typed = {"email": "product@test.example", "password": PASSWORD}
    for path in ("/api/v1/session", "/portal/api/v1/session", "/api/v1/session/demo", "/portal/api/v1/session/demo"):
        assert web(office).post(path, json=typed, headers=elsewhere).status_code == 403, path
    letter = {"token": "x", "password": PASSWORD, "name": "Gull", "organisation": "Gulls"}
    for path in ("/sign-up/confirm", "/session/forgotten", "/session/reset", "/sign-up"):
        sent = web(office).post("/portal/api/v1" + path, json={**typed, **letter}, headers=elsewhere)
        assert sent.status_code == 403, path


def test_who_tries_too_often_hears_when_to_come_again(office: Office) -> None:
    wrong = {"email": "product@test.example", "password": "not the password"}
    for path in ("/api/v1/session", "/portal/api/v1/session"):
        answers = [web(office).post(path, json=wrong) for _ in range(6)]
        assert [a.status_code for a in answers] == [401] * 5 + [429], path
        assert 0 < int(answers[-1].headers["retry-after"]) <= 61
        office.clock.forward(hours=2)
    form = {"grant_type": "client_credentials", "client_secret": "wrong", "token": "any"}
    for path, client in (("/oauth2/token", "app-nobody"), ("/oauth2/revoke", "app-" + "n" * 5000)):
        answers = [web(office).post(path, data={**form, "client_id": client}) for _ in range(6)]
        assert [a.status_code for a in answers] == [401] * 5 + [429], path
        assert int(answers[-1].headers["retry-after"]) > 0
    said = [e.action for e in auditing.entries(office.manager, PageQuery("token endpoint", rows=20)).rows]
    assert said == ["was turned away at the token endpoint"] * 10


def test_who_shows_the_right_secret_does_not_try_too_often_however_the_answer_is(office: Office) -> None:
    own = office.acting(office.consumers[0])
    made = credentials.make_key(own, office.consumers[0].application, "", kind="secret")
    client = applications.own(own)[0].client_id
    form = {"grant_type": "client_credentials", "client_id": client, "client_secret": made.secret}
    answers = [web(office).post("/oauth2/token", data=form) for _ in range(8)]  # its plan takes keys alone
    assert {(a.status_code, a.json()["error"]) for a in answers} == {(400, "unauthorized_client")}


@pytest.mark.parametrize("edition", ["²", '"²"', "9" * 5000, "-1", "x", ""])
def test_an_edition_that_is_none_is_refused_by_its_field(office: Office, edition: str) -> None:
    client = web(office)
    client.post("/api/v1/session", json={"email": "product@test.example", "password": PASSWORD})
    answer = client.put(
        f"/api/v1/products/{office.product}",
        json={"name": "X", "operations": []},
        headers={"if-match": edition.encode()},
    )
    assert (answer.status_code, answer.json()["where"]) == (422, "If-Match")


@pytest.mark.parametrize(
    "path",
    [
        "/api/v1/consumers?cursor=" + "9" * 5000,
        "/api/v1/periods/9999-12-31",
        "/api/v1/periods/9999-12-01",
        "/api/v1/allowances?cursor=" + "9" * 5000,
        "/api/v1/bench/recorded?consumer_id=1&calls=-5",
    ],
)
def test_what_makes_no_sense_is_refused_and_never_a_500(office: Office, path: str) -> None:
    client = web(office)
    client.post("/api/v1/session", json={"email": "product@test.example", "password": PASSWORD})
    assert client.get(path).status_code == 422


def test_a_name_begins_no_formula_wherever_a_spreadsheet_cuts(office: Office) -> None:
    for risky in ("=1+1", "Gulls;=cmd()", "Gulls\t@SUM(A1)", "a; +1b", ["x", "=y"], "-x"):
        assert cell(risky).startswith("'"), risky
    for plain in ("Gulls", "Sea; Sand", "-5", "-5.25", "a=b", ["Ketch", "Skiff"]):
        assert not cell(plain).startswith("'"), plain


def test_a_taken_name_answers_409_and_says_which(office: Office) -> None:
    client = web(office)
    client.post("/api/v1/session", json={"email": "product@test.example", "password": PASSWORD})
    other = products.clone(office.manager, office.product, "Other")
    with office.ctx.transaction() as session:
        operations = [o.id for o in session.get_one(Product, other.id).operations]
    answer = client.put(
        f"/api/v1/products/{other.id}",
        json={"name": "Harbour Data", "operations": operations},
        headers={"if-match": f'"{other.edition}"'},
    )
    assert (answer.status_code, answer.json()["where"]) == (409, "name")


def test_a_page_runs_no_script_but_ours_and_stands_in_no_frame_of_others(office: Office) -> None:
    for path in ("/", "/portal/", "/compose/products/1", "/portal/reset"):
        answer = web(office).get(path)
        assert answer.status_code == 200
        policy = dict(part.strip().split(" ", 1) for part in answer.headers["content-security-policy"].split(";"))
        assert policy["default-src"] == "'self'" and "script-src" not in policy  # so scripts are 'self', none inline
        framed_by = "'self'" if path.startswith("/portal") else "'none'"  # the console shows a portal beside its page
        assert (policy["frame-ancestors"], policy["base-uri"], policy["form-action"]) == (framed_by, "'none'", "'self'")
        scripts = re.findall(r"<script\b([^>]*)>(.*?)</script>", answer.text, re.DOTALL)
        assert scripts and all('src="/assets/' in attributes and not text.strip() for attributes, text in scripts)
        assert not re.search(r"\son\w+=|javascript:", answer.text)


def test_no_redirect_leads_to_another_host(office: Office) -> None:
    for path in (
        "/portal",
        "/api/v1",
        "/portal/api/v1",
        "/oauth2",
        "/api/v1/me/",
        "//evil.example/x",
        "/\\evil.example",
    ):
        answer = web(office).get(path, follow_redirects=False, headers={"x-forwarded-host": "evil.example"})
        leads = answer.headers.get("location", "/")
        assert leads.startswith(("/", HERE)) and not leads.startswith(("//", "/\\")), (path, leads)


def test_nobody_says_that_they_come_from_somewhere_else() -> None:
    seen: list[tuple[str, int]] = []

    async def app(scope, receive, send) -> None:
        seen.append(scope["client"])
        await send({"type": "http.response.start", "status": 204, "headers": []})
        await send({"type": "http.response.body", "body": b""})

    async def run() -> None:
        server = uvicorn.Server(uvicorn.Config(app, port=free_port(), **SERVED))
        task = asyncio.create_task(server.serve())
        while not server.started:
            await asyncio.sleep(0.01)
        async with httpx.AsyncClient() as client:
            await client.get(f"http://127.0.0.1:{server.config.port}/", headers={"x-forwarded-for": "203.0.113.9"})
        server.should_exit = True
        await task

    awaited(run())
    assert [address for address, _ in seen] == ["127.0.0.1"]
