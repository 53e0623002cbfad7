"""What each of the provider's roles gets from every route of the console: from the one table that the documentation is
made from, and no route is left out."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.console_api import app as console
from calm_tariff.console_api.roles import ALSO_WHO_MUST_AGREE, EVERYBODY, MAY, OUTSIDE, OWN, may, scopes_of
from calm_tariff.core.scopes import SCOPES, covers
from calm_tariff.services.base.context import ROLES
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.settings import Settings
from calm_tariff.web import create_app, roles_page
from tests.edge.test_isolation import BARE, NEEDED, SIGNING_IN, body_for, lived, routes
from tests.office import PASSWORD, Office

__all__ = ["lived"]

DOCUMENT = Path(__file__).parents[2] / "docs" / "roles.md"
# It goes on for as long as somebody listens: read by everybody, as the tests of the traffic page show.
LIVE = "GET /traffic/live"


def named(method: str, path: str) -> str:
    return f"{method} {path}"


def sent(web: TestClient, made: Any, method: str, path: str, *, lived: dict[str, Any], token: str) -> Any:
    """A route asked with the smallest body that it takes, by a service token."""
    body = {"content": b"x"} if path in BARE else {"json": body_for(made, method, path, lived)}
    headers = {"Authorization": f"Bearer {token}", "If-Match": '"1"'}
    return web.request(method, "/api/v1" + path.format(**lived) + NEEDED.get(path, ""), headers=headers, **body)


@pytest.mark.parametrize("role", sorted(EVERYBODY))
def test_each_role_gets_what_the_table_gives_it_and_is_told_whose_the_rest_is(lived: dict[str, Any], role: str) -> None:
    office: Office = lived["office"]
    made = console.create_app(office.ctx, Settings())
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    token = service_tokens.make_for_machine(office.ctx, f"script of {role}", role)
    tried = set()
    # What is taken away last, so that it is there for what is read.
    for method, path in sorted(routes(made), key=lambda route: route[0] == "DELETE"):
        route = named(method, path)
        if path in SIGNING_IN or route == LIVE:
            continue
        tried.add(route)
        answer = sent(web, made, method, path, lived=lived, token=token)
        assert answer.status_code < 500, (route, answer.text)
        if route in OWN | OUTSIDE:
            assert answer.status_code in (401, 403), (route, answer.text)  # no script has a password or sessions
            continue
        assert (answer.status_code == 403) == (role not in may(route)), (route, answer.status_code, answer.text)
        if answer.status_code == 403:
            assert f"you are signed in as {role}" in answer.text or route in ALSO_WHO_MUST_AGREE, (route, answer.text)
    assert tried >= MAY.keys() | OWN | OUTSIDE | ALSO_WHO_MUST_AGREE  # none of the table is a route no more


def test_a_token_gets_what_its_scopes_take_in_and_is_told_what_the_rest_needs(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    made = console.create_app(office.ctx, Settings())
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    needs = scopes_of(each.router for each in console.ROUTERS)
    asked = [(m, p) for m, p in sorted(routes(made), key=lambda route: route[0] == "DELETE") if p not in SIGNING_IN]
    counted: Counter[str] = Counter()
    for scope in SCOPES:
        token = service_tokens.make_for_machine(office.ctx, f"to {scope}", *sorted(EVERYBODY), scopes=[scope])
        for method, path in asked:
            route = named(method, path)
            if route == LIVE or route in OWN | OUTSIDE:
                continue
            answer = sent(web, made, method, path, lived=lived, token=token)
            assert answer.status_code < 500, (route, answer.text)
            if covers([scope], needs[route]):
                assert answer.status_code != 403, (scope, route, answer.text)
                counted[scope] += 1
            else:
                assert answer.status_code == 403, (scope, route, answer.text)
                assert f"needs the scope “{needs[route]}”; the token has {scope}" in answer.json()["detail"]
    assert set(needs.values()) - {""} <= counted.keys() == set(SCOPES)  # each opens something
    me = web.get("/api/v1/me", headers={"Authorization": f"Bearer {token}"})
    assert me.json()["roles"] == list(ROLES)  # who one is may be asked with any


def test_what_is_ones_own_opens_to_a_person_of_any_role(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    web.cookies.set("calm_console", sessions.sign_in(office.ctx, PEOPLE, "finance@test.example", PASSWORD))
    read = {route: web.get(f"/api/v1{route[4:]}").status_code for route in OWN if route.startswith("GET ")}
    assert len(read) == 7 and set(read.values()) == {200}
    made = web.post("/api/v1/service-tokens", json={"label": "month end", "days": 2})
    assert made.status_code == 201 and service_tokens.who_by(office.ctx, made.json()["token"]).roles == {"finance"}


def test_the_documentation_is_made_of_the_table() -> None:
    assert DOCUMENT.read_text(encoding="utf-8") == roles_page(), "make it anew: ./calm roles > docs/roles.md"
