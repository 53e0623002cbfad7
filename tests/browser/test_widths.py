"""Every page of both of the demo's portals, on a phone and on a desk: nothing serious for axe, nothing cut off."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from calm_tariff.demo.scenario import PASSWORD
from tests.browser.conftest import READING, People
from tests.browser.test_views import serious

WIDTHS = (375, 1280)
# What anybody sees, by portal; and what members see besides.
ANYBODY = {
    "/portal": "harbour-data",
    "/portals/pilots": "harbour-data",
}
OPEN = [
    "/",
    "/products/{slug}",
    *(f"/products/{{slug}}?view={view}" for view in ("operations", "notes", "answering", "questions", "terms")),
    "/products/{slug}?view=questions&question=1",
    "/sign-in",
    "/sign-up",
    "/forgotten",
]
OWN = [
    "/applications",
    "/applications/{application}",
    "/subscriptions/{subscription}",
    "/requests/{request}",
    "/usage",
    "/usage?environment=sandbox",
    "/notices",
    "/organisation",
    "/organisation/closing",
    "/invoices",
    "/account",
    "/you",
]
# Who was given something back: what it is charged and what was taken off stand on these.
GIVEN_BACK = "teodora@wrackline.example"
MONEY = ["/invoices", "/invoices/{invoice}", "/credit-notes/{note}", "/account"]
MEMBERS = {"/portal": "leonor@gannet.example", "/portals/pilots": "bento@larkmouth-pilots.example"}


@pytest.mark.parametrize("portal", list(ANYBODY))
def test_every_page_fits_a_phone_and_a_desk_and_axe_finds_nothing_serious(people: People, portal: str) -> None:
    page = people.page()
    wrong = []

    def look(paths: list[str], **filled: object) -> None:
        wrong.extend(unfit(page, [portal + path.format(slug=ANYBODY[portal], **filled) for path in paths]))

    look(OPEN)
    entered = page.request.post(f"{portal}/api/v1/session/demo", data={"email": MEMBERS[portal]})
    assert entered.status == 204
    applications = page.request.get(f"{portal}/api/v1/applications").json()
    which, held = next((each["id"], has) for each in applications for has in each["plans"] if has["subscription_id"])
    look(OWN, application=which, subscription=held["subscription_id"], request=held["request_id"])
    assert wrong == [], "\n".join(wrong)


def test_invoices_and_what_was_taken_off_them_fit_too(people: People) -> None:
    page = people.page()
    entered = page.request.post("/portal/api/v1/session", data={"email": GIVEN_BACK, "password": PASSWORD})
    assert entered.status == 204
    note = page.request.get("/portal/api/v1/credit-notes").json()[0]
    filled = {"invoice": note["invoice_id"], "note": note["id"]}
    wrong = unfit(page, [f"/portal{path.format(**filled)}" for path in MONEY])
    assert wrong == [], "\n".join(wrong)


def unfit(page: Page, paths: list[str]) -> list[str]:
    """What is wrong with some pages on a phone and on a desk."""
    wrong = []
    for path in paths:
        page.goto(path)
        page.get_by_role("heading", level=1).first.wait_for()
        expect(page.get_by_text(READING)).to_have_count(0)
        for width in WIDTHS:
            page.set_viewport_size({"width": width, "height": 800})
            wrong.extend(serious(page))
            if page.evaluate("document.documentElement.scrollWidth") > width:
                wrong.append(f"{page.url} is wider than {width}")
    return wrong
