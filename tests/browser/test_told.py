"""What one of the provider's people was told, and settings that others take up."""

from __future__ import annotations

import time

from playwright.sync_api import expect

from tests.browser.conftest import People
from tests.browser.test_desk import asked
from tests.browser.test_views import serious


def test_a_colleague_reads_what_was_handed_to_them(people: People) -> None:
    marta = people.member("Marta")
    name = f"Handed {time.time_ns()}"
    _, request = asked(marta, name, "harbour-data", "Schooner")
    ines, rui = people.staff("Ines"), people.staff("Rui")
    rui.goto("/house/told")
    expect(rui.get_by_role("heading", name="Your notices")).to_be_visible()
    told = rui.get_by_role("region", name="What you were told")
    expect(told.get_by_text(name)).to_have_count(0)
    people_ids = {p["name"]: p["id"] for p in ines.request.get("/api/v1/people").json()}
    handed = ines.request.put(f"/api/v1/requests/{request}/hands", data={"person_id": people_ids["Rui"]})
    assert handed.ok, handed.text()
    rui.reload()
    mine = told.get_by_role("group").filter(has_text=name)
    expect(mine).to_contain_text("unread")
    assert serious(rui) == []
    mine.locator("summary").click()
    expect(mine).not_to_contain_text("unread")
    mine.get_by_role("link", name="Open what it is about").click()
    expect(rui).to_have_url(f"{people.product.web}/admit/desk/{request}")
    rui.goto("/house/told")
    by_mail = rui.get_by_label("Requests handed to you, and answers to what you asked back")
    by_mail.uncheck()
    rui.reload()
    expect(by_mail).not_to_be_checked()
    by_mail.check()
    rui.reload()
    expect(by_mail).to_be_checked()
    assert marta.request.delete(f"/portal/api/v1/requests/{request}").ok


def test_a_new_product_takes_the_houses_target_up(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/house/settings")
    target = ines.get_by_label("Working days to answer a request")
    before = target.input_value()
    ines.get_by_label("Numbers of invoices begin with").fill("inv")
    ines.get_by_role("button", name="Keep these settings").click()
    expect(ines.get_by_text("Must be one to ten capital letters and digits, a letter first")).to_be_visible()
    ines.get_by_label("Numbers of invoices begin with").fill("INV")
    target.fill("5")
    ines.get_by_role("button", name="Keep these settings").click()
    expect(ines.get_by_role("status").get_by_text("Kept.")).to_be_visible()
    assert serious(ines) == []
    ines.goto("/compose/products/new")
    expect(ines.get_by_label("To be answered within so many working days")).to_have_value("5")
    ines.goto("/house/settings")
    target.fill(before)
    ines.get_by_role("button", name="Keep these settings").click()
    expect(ines.get_by_role("status").get_by_text("Kept.")).to_be_visible()
