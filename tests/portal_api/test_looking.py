"""Who looks as a consumer does reads what it reads, and changes nothing, whichever route is asked."""

from __future__ import annotations

from typing import Any

from starlette.testclient import TestClient

from calm_tariff.portal_api import app as portal
from calm_tariff.services.admit import looking
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.edge.test_isolation import BARE, body_for, lived, routes
from tests.office import Office
from tests.services.accounts import signed_in

__all__ = ["lived"]
# Not the consumer's: who signs in or up here, one's own account, the documentation elsewhere, and looking itself.
BEFORE = (
    "/session",
    "/sign-up",
    "/joining",
    "/password",
    "/address",
    "/passkeys",
    "/second-factor",
    "/personal",
    "/looking",
)


def looks(office: Office) -> TestClient:
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    door = looking.ask(signed_in(office), office.consumers[0].member.own_consumer)
    begun = web.post("/portal/api/v1/looking", json={"token": door.address.split("#")[1]})
    assert begun.status_code == 204, begun.text
    return web


def test_it_reads_as_the_owner_does_and_is_told_to_be_looking(office: Office) -> None:
    web = looks(office)
    me = web.get("/portal/api/v1/me").json()
    assert (me["consumer"], me["role"], me["looking"]) == ("Ferries", "owner", "product manager")
    assert [a["name"] for a in web.get("/portal/api/v1/applications").json()] == ["Ferries app"]
    assert web.delete("/portal/api/v1/looking").status_code == 204
    assert web.get("/portal/api/v1/me").json()["consumer"] == ""


def test_no_route_changes_anything(lived: dict[str, Any]) -> None:
    office: Office = lived["office"]
    web, made, refused = looks(office), portal.create_app(office.ctx, Settings()), 0
    for method, path in sorted(routes(made)):
        if method == "GET" or path.startswith(BEFORE):
            continue
        body = {"content": b"x"} if path in BARE else {"json": body_for(made, method, path, lived)}
        answer = web.request(method, "/portal/api/v1" + path.format(**lived), headers={"If-Match": '"1"'}, **body)
        refused += "you look at this as Ferries does" in answer.text
        assert answer.status_code == 403 and "nothing can be changed" in answer.text, (method, path, answer.text)
    assert refused > 30
