"""Several portals of one installation: each at its path and by its own name, with nothing of the others."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from starlette.testclient import TestClient

from calm_tariff.core.portals import Brand, Page
from calm_tariff.portal_api import by_host
from calm_tariff.services.admit import groups
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.admit.portals.portals import PortalTyped, PortalView
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.formats.test_pictures import encoded
from tests.office import PASSWORD, Office

HOST = "quay.example"
TYPED = PortalTyped(
    brand=Brand(name='The "Quay" <b>', main_colour="#7B2D26", accent_colour="#F3D9B1"),
    host=HOST,
    everything=False,
    pages=[Page(prefix="watch", title="The watch", text="Channel 12")],
)


@pytest.fixture
def quay(office: Office) -> PortalView:
    made = portals.create(office.manager, "quay", "Quay")
    return portals.save(office.manager, made.id, made.edition, TYPED)


def browser(office: Office, host: str = "127.0.0.1:8400", demo: bool = False) -> TestClient:
    return TestClient(create_app(office.ctx, Settings(demo=demo)), base_url=f"http://{host}")


def head(text: str, name: str) -> str:
    found = re.search(rf'<meta name="{name}" content="([^"]*)"', text)
    assert found
    return found[1]


def test_a_portal_is_at_its_path_and_by_its_name_and_its_pages_know_where(office: Office, quay: PortalView) -> None:
    portals.set_picture(office.manager, quay.id, "icon", encoded("PNG"))
    for web, begins in ((browser(office), "/portals/quay"), (browser(office, HOST), "")):
        for path in ("/", "/products/x", "/sign-in"):
            page = web.get(begins + path).text
            assert head(page, "portal") == begins
            assert "<title>The &quot;Quay&quot; &lt;b&gt;</title>" in page
        found = re.search(r'<link rel="icon" href="([^"]+)"', page)
        assert found
        icon = web.get(found[1])
        assert icon.headers["content-type"] == "image/png" and "immutable" in icon.headers["cache-control"]
        assert icon.headers["x-content-type-options"] == "nosniff"
        look = web.get(f"{begins}/api/v1/me")
        assert look.json()["look"]["name"] == TYPED.brand.name and look.headers["cache-control"] == "no-store"
        assert web.get(f"{begins}/api/v1/pages/watch").json()["title"] == "The watch"
        assert web.get(f"{begins}/api/v1/products").json() == []
    first = browser(office).get("/portal/").text
    assert head(first, "portal") == "/portal" and "<title>Test Office</title>" in first


def test_a_portals_name_leads_to_no_console_and_an_unknown_name_nowhere(office: Office, quay: PortalView) -> None:
    web = browser(office, HOST)
    assert head(web.get("/compose/products").text, "portal") == ""
    assert web.get("/api/v1/apis").status_code == 404  # the console's API is not below the portal's
    assert web.get("/healthz").text == "well"
    assert web.get("/oauth2/jwks.json").status_code == 200
    for host in ("other.example", "quay.example:8400", "quay.example.evil.example", ""):
        assert browser(office, host or "x").get("/", headers={"host": host}).status_code == 421, host
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(by_host, "FRESH_SECONDS", -1.0)  # as a moment later
        web = browser(office, HOST)
        assert web.get("/").status_code == 200
        portals.save(office.manager, quay.id, quay.edition, replace(TYPED, host=""))
        assert web.get("/").status_code == 421


def test_a_portal_that_is_not_there_is_nowhere(office: Office) -> None:
    web = browser(office)
    for path in ("/portals/none", "/portals/none/", "/portals/none/products/x", "/portals/%2e%2e/"):
        assert web.get(path).status_code == 404, path
    answer = web.get("/portals/none/api/v1/me")
    assert (answer.status_code, answer.json()["detail"]) == (404, "there is no such portal")


def test_one_session_serves_each_portal_that_serves_its_member_and_changes_come_from_its_pages(
    office: Office, quay: PortalView
) -> None:
    web = browser(office)
    token = sessions.sign_in(office.ctx, MEMBERS, "kayaks@consumer.example", PASSWORD)
    web.cookies.set("calm_portal", token)
    assert web.get("/portals/quay/api/v1/me").json()["consumer"] == "Kayaks"
    assert web.get("/portal/api/v1/products").json() and web.get("/portals/quay/api/v1/products").json() == []
    named = browser(office, HOST)
    named.cookies.set("calm_portal", token)
    for origin, status in ((f"http://{HOST}", 201), ("http://127.0.0.1:8400", 403)):
        answer = named.post("/api/v1/applications", json={"name": origin}, headers={"Origin": origin})
        assert answer.status_code == status


def test_a_hidden_product_is_told_from_none_by_no_answer(office: Office, quay: PortalView) -> None:
    web = browser(office)
    ferries = office.consumers[0]
    web.cookies.set("calm_portal", sessions.sign_in(office.ctx, MEMBERS, ferries.email, PASSWORD))
    office.join("Strangers")
    application = web.post("/portals/quay/api/v1/applications", json={"name": "Any"}).json()["id"]

    def same(one: tuple[str, str, dict | None], other: tuple[str, str, dict | None]) -> None:
        answers = [web.request(m, f"/portals/quay/api/v1{path}", json=body) for m, path, body in (one, other)]
        told = [(a.status_code, {**a.json(), "where": ""}) for a in answers]
        assert told[0] == told[1] and answers[0].status_code == 404, (one, told)

    same(("GET", "/products/harbour-data", None), ("GET", "/products/never-was", None))
    asked = {"application_id": application, "purpose": "To have it all the same.", "terms_accepted": True}
    hidden, none = ({**asked, "plan_id": plan} for plan in (office.plans["Skiff"], 10**6))
    same(("POST", "/requests", hidden), ("POST", "/requests", none))
    web.cookies.set("calm_portal", sessions.sign_in(office.ctx, MEMBERS, "strangers@consumer.example", PASSWORD))
    same(("POST", "/products/harbour-data/terms", None), ("POST", "/products/never-was/terms", None))


def test_a_picture_is_taken_by_what_it_holds(office: Office, quay: PortalView) -> None:
    web = browser(office)
    typed = {"email": "product@test.example", "password": PASSWORD}
    assert web.post("/api/v1/session", json=typed).status_code == 204
    address = f"/api/v1/portals/{quay.id}/pictures/logo"
    kept = web.put(address, content=encoded("WEBP"), headers={"content-type": "text/html"})
    assert kept.status_code == 200
    shown = browser(office).get(f"/portals/quay/api/v1/pictures/{kept.json()['logo']['digest']}.png")
    assert shown.headers["content-type"] == "image/png" and shown.content.startswith(b"\x89PNG")
    svg = web.put(address, content=b"<svg xmlns='http://www.w3.org/2000/svg'/>")
    assert (svg.status_code, svg.json()["where"]) == (422, "logo") and "SVG" in svg.json()["detail"]
    assert web.put(address, content=b"x" * 2_100_000).status_code == 422
    assert web.put(address, content=b"x" * 4_100_000).status_code == 413
    assert web.put(address.replace("logo", "banner"), content=encoded("PNG")).status_code == 422


def test_only_who_may_come_in_is_offered_in_a_demo(office: Office, quay: PortalView) -> None:
    group = groups.create(office.manager, "Pilots")
    groups.set_members(office.manager, group.id, [office.consumers[1].member.own_consumer])
    portals.save(office.manager, quay.id, quay.edition, replace(TYPED, groups=[group.id]))
    web = browser(office, demo=True)
    assert [one["role"] for one in web.get("/portals/quay/api/v1/me").json()["demo"]] == ["Kayaks, owner"]
    for email, status in ((office.consumers[0].email, 403), (office.consumers[1].email, 204)):
        assert web.post("/portals/quay/api/v1/session/demo", json={"email": email}).status_code == status
