"""Portals: one is made and given a look with itself beside it, and each lets in whom it is for."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Locator, Page, expect

from calm_tariff.demo import load as demo
from tests.browser.conftest import People
from tests.browser.test_house import letter_link
from tests.browser.test_views import serious
from tests.processes import Processes

PILOTS = "/portals/pilots"
OPEN = ("/portal/", "/portal/pages/how-to-begin", f"{PILOTS}/", f"{PILOTS}/sign-up", f"{PILOTS}/pages/the-watch")


def choose(page: Page, word: str, choice: str) -> None:
    """Choose another word in a sentence."""
    page.get_by_role("button", name=f"{word}, change").click()
    page.locator("select:focus").select_option(label=choice)


def colour(of: Locator) -> str:
    return of.evaluate("found => getComputedStyle(found).backgroundColor")


def test_a_portal_is_made_and_its_look_refused_where_it_is_hard_to_see(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/admit/portals")
    page.get_by_role("button", name="Make another portal").click()
    page.get_by_label("Name").fill("Dive Desk")
    page.get_by_label("It will be at /portals/…").fill("pilots")
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("alert")).to_have_text("There is a portal at this address already.")
    page.get_by_label("It will be at /portals/…").fill("divers")
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Dive Desk", level=1)).to_be_visible()
    shown = page.frame_locator("iframe")
    expect(shown.get_by_text("Nothing is on sale yet.")).to_be_visible()

    page.get_by_label("Main colour", exact=True).fill("#C98A4B")
    expect(page.get_by_text("2.90 to 1, too little: 4.5 is the least")).to_be_visible()
    expect(shown.locator("header")).to_have_css("background-color", "rgb(201, 138, 75)")  # worn, not kept
    page.get_by_role("button", name="Keep it so").click()
    alert = page.get_by_role("alert").first
    expect(alert).to_contain_text("have a contrast of 2.90 to 1, where 4.5 is the least (WCAG 2.2)")
    visitor = people.page()
    visitor.goto("/portals/divers/")
    expect(visitor.locator("header")).to_have_css("background-color", "rgb(21, 59, 91)")

    page.get_by_role("button", name="Take #9D6C3A").click()
    page.get_by_label("Accent", exact=True).fill("#000000")
    choose(page, "these products", "everything on sale")
    choose(page, "everything on sale", "these products")
    page.get_by_label("Sea Watch").check()
    choose(page, "Nobody", "Anyone")
    page.get_by_label("All else in").select_option("Literata")
    page.get_by_label("What it says first").fill("Waves, **for divers**.")
    page.get_by_role("button", name="Add a page").click()
    page.get_by_label("Title", exact=True).fill("Before you dive")
    page.get_by_label("Its address ends in").fill("before")
    page.get_by_label("Text", exact=True).fill("Ask the *buoys*.")
    expect(shown.get_by_role("link", name="Before you dive")).to_be_visible()
    page.get_by_role("button", name="Keep it so").click()
    expect(page.get_by_text("Kept: this is what visitors see.")).to_be_visible()

    visitor.goto("/portals/divers/")
    expect(visitor.locator("header")).to_have_css("background-color", "rgb(157, 108, 58)")
    expect(visitor.get_by_text("Waves, for divers.")).to_have_css(
        "font-family", '"Literata Variable", Literata, sans-serif'
    )
    expect(visitor.get_by_role("heading", level=2)).to_have_text(["Sea Watch"])
    visitor.get_by_role("link", name="Before you dive").click()
    expect(visitor.get_by_text("Ask the buoys.")).to_be_visible()
    visitor.goto("/portals/divers/products/harbour-data")
    expect(visitor.get_by_role("alert")).to_have_text("Harbour-data: there is no such product.")

    page.get_by_role("button", name="Take this portal away…").click()
    expect(page.get_by_text("No organisation came by it.")).to_be_visible()
    page.get_by_role("button", name="Take it away").click()
    expect(page.get_by_role("heading", name="Portals", level=1)).to_be_visible()
    assert visitor.goto("/portals/divers/").status == 404


def test_a_logo_is_what_it_holds(people: People, tmp_path: Path) -> None:
    page = people.staff("Ines")
    page.goto("/admit/portals/2")
    drawing = tmp_path / "logo.png"
    drawing.write_text("<svg xmlns='http://www.w3.org/2000/svg'/>")
    page.get_by_label("Logo", exact=True).set_input_files(drawing)
    expect(page.get_by_role("alert")).to_contain_text("SVG is not taken, for it can hold programs")
    page.get_by_label("Logo", exact=True).set_input_files(demo.PICTURES / "pilots-logo.png")
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(page.get_by_text("148 × 96")).to_be_visible()
    worn = page.frame_locator("iframe").locator("header img")
    expect(worn).to_have_count(1)
    page.get_by_role("button", name="take it away").first.click()
    expect(worn).to_have_count(0)  # the portal beside it shows what is kept
    page.get_by_label("Logo", exact=True).set_input_files(demo.PICTURES / "pilots-logo.png")
    expect(worn).to_have_count(1)


def test_who_signs_up_at_the_pilots_portal_waits_until_a_person_lets_them_in(
    people: People, product: Processes
) -> None:
    page = people.page()
    page.goto(f"{PILOTS}/sign-up")
    page.get_by_label("E-mail address").fill("nils@elsewhere.example")
    page.get_by_role("button", name="Send me a letter").click()
    expect(page.get_by_role("alert")).to_have_text("Accounts are not made here for addresses at elsewhere.example.")
    page.get_by_label("E-mail address").fill("nils@tugs.example")
    page.get_by_role("button", name="Send me a letter").click()
    expect(page.get_by_role("status")).to_contain_text("A letter to nils@tugs.example is on its way")
    link = letter_link(product, "nils@tugs.example")
    assert f"{PILOTS}/confirm#" in link
    page.goto(link)
    page.get_by_label("Your name").fill("Nils Esteira")
    page.get_by_label("Your organisation").fill("Outer Bar Tugs")
    page.get_by_label("New password").fill("under the pier")
    page.get_by_role("button", name="Make the account").click()
    expect(page.get_by_role("status")).to_contain_text("Once Outer Bar Tugs is, you get a letter")
    expect(page.get_by_role("button", name="Register an application")).to_have_count(0)

    rui = people.staff("Rui")
    rui.get_by_role("link", name="See who").click()
    rui.get_by_role("link", name="Outer Bar Tugs").click()
    rui.get_by_role("button", name="Turn it away").click()
    expect(rui.get_by_role("alert")).to_have_text("Say why, so that they can act on it.")
    rui.get_by_role("button", name="Let Outer Bar Tugs in").click()
    expect(rui.get_by_role("button", name="Let Outer Bar Tugs in")).to_have_count(0)

    page.reload()
    expect(page.get_by_role("button", name="Register an application")).to_be_visible()
    expect(page.get_by_role("status")).to_have_count(0)


def test_the_two_portals_look_unlike_each_other_and_each_serves_its_own(people: People) -> None:
    office, pilots = people.page(), people.page()
    office.goto("/portal/")
    pilots.goto(f"{PILOTS}/")
    for page, name, products in (
        (office, "Larkmouth Tide Office", ["Chart Tiles", "Harbour Data", "Sea Watch"]),
        (pilots, "The Pilot Room", ["Harbour Data"]),
    ):
        expect(page.get_by_role("heading", level=1)).to_have_text(name)
        expect(page).to_have_title(name)
        for product in products:
            expect(page.get_by_role("heading", level=2, name=product)).to_be_visible()
    expect(pilots.get_by_role("heading", level=2)).to_have_count(1)
    assert colour(office.locator("header")) != colour(pilots.locator("header"))
    fonts = [page.locator("h1").evaluate("found => getComputedStyle(found).fontFamily") for page in (office, pilots)]
    assert "Newsreader" in fonts[0] and "Bitter" in fonts[1]
    pilots.goto(f"{PILOTS}/sign-in")
    expect(pilots.get_by_role("button", name="Bento")).to_be_visible()
    expect(pilots.get_by_role("button", name="Leonor")).to_have_count(0)
    pilots.get_by_label("E-mail address").fill("leonor@gannet.example")
    pilots.get_by_label("Password").fill("larkmouth-demo")
    pilots.get_by_role("button", name="Sign in", exact=True).click()
    expect(pilots.get_by_role("alert")).to_have_text("The e-mail address or the password is not right.")
    pilots.get_by_role("button", name="Bento").click()
    expect(pilots.get_by_role("heading", name="My applications")).to_be_visible()
    pilots.goto(f"{PILOTS}/products/harbour-data")
    expect(pilots.get_by_role("columnheader", name="Pilot boat")).to_be_visible()


def test_axe_finds_nothing_serious_in_either_portal_at_any_width(people: People) -> None:
    page = people.page()
    found = []
    for width in (375, 1280):
        page.set_viewport_size({"width": width, "height": 800})
        for path in (
            "/portal/",
            "/portal/pages/how-to-begin",
            f"{PILOTS}/",
            f"{PILOTS}/sign-up",
            f"{PILOTS}/pages/the-watch",
        ):
            page.goto(path)
            page.get_by_role("heading", level=1).wait_for()
            found += serious(page)
            assert page.evaluate("document.documentElement.scrollWidth <= innerWidth"), (path, width)
    assert found == []
