"""A consumer's page: its details, its portal seen through its eyes, a move worked out before, its data taken along, its
account closed, and what is personal erased."""

from __future__ import annotations

import json
import zipfile

from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious


def made(page: Page, organisation: str, name: str, email: str) -> int:
    body = {"organisation": organisation, "name": name, "email": email}
    answer = page.request.post("/api/v1/consumers", data=body)
    assert answer.ok, answer.text()
    return answer.json()["consumer_id"]


def test_details_are_held_to_their_form(people: People) -> None:
    ines = people.staff("Ines")
    consumer = made(ines, "Pellow Papers", "Vasco Bruma", "vasco@pellow-papers.example")
    ines.goto(f"/admit/consumers/{consumer}")
    expect(ines.get_by_text("No address and no tax number is known.")).to_be_visible()
    ines.get_by_role("button", name="change its details…").click()
    dialog = ines.get_by_role("dialog", name="Details of Pellow Papers")
    dialog.get_by_label("Its address").fill("Cais Novo 3\n9010-001 Larkmouth")
    dialog.get_by_role("combobox", name="Country").select_option(label="Portugal")
    dialog.get_by_label("Tax number").fill("501964844")
    dialog.get_by_label("What other systems know it by").fill("Ledger: 10423")
    assert serious(ines) == []
    dialog.get_by_role("button", name="Keep its details").click()
    expect(dialog).to_contain_text("no tax number of Portugal: the number's checksum or check digit is invalid")
    dialog.get_by_label("Tax number").fill("501 964 843")
    dialog.get_by_role("button", name="Keep its details").click()
    expect(dialog).to_contain_text("Ledger knows Gannet Ferries by 10423")
    dialog.get_by_label("What other systems know it by").fill("Ledger: 20001\nPost: P-7")
    dialog.get_by_role("button", name="Keep its details").click()
    expect(dialog).to_have_count(0)
    for words in ("Cais Novo 3", "Portugal", "Tax number PT501964843", "Ledger knows it by 20001"):
        expect(ines.get_by_text(words)).to_be_visible()


def test_the_portal_is_seen_through_a_consumers_eyes_and_nothing_can_be_changed(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/admit/consumers?words=Gannet")
    ines.get_by_role("link", name="Gannet Ferries").click()
    with ines.context.expect_page() as opened:
        ines.get_by_role("button", name="see the portal as it does").click()
    seen = opened.value
    expect(seen.get_by_role("heading", name="My applications")).to_be_visible()
    expect(seen.get_by_role("status")).to_contain_text("Ines, you look at this as Gannet Ferries does")
    expect(seen.get_by_role("link", name="Skipper app")).to_be_visible()
    assert serious(seen) == []
    seen.get_by_role("button", name="Register an application").click()
    dialog = seen.get_by_role("dialog")
    dialog.get_by_label("Name").first.fill("Not by us")
    dialog.get_by_role("button", name="Register").click()
    expect(dialog).to_contain_text("You look at this as Gannet Ferries does: nothing can be changed")
    seen.keyboard.press("Escape")
    seen.get_by_role("button", name="Look no more").click()
    expect(seen.get_by_role("link", name="Sign in")).to_be_visible()
    ines.reload()
    record = ines.get_by_role("region", name="On the record")
    expect(record).to_contain_text("Ines looked at the portal as a consumer does")


def test_a_move_is_worked_out_before_it_is_made_and_the_account_is_closed(people: People) -> None:
    ines = people.staff("Ines")
    consumer = made(ines, "Spindrift Laundry", "Rosa Vela", "rosa@spindrift.example")
    sheet = ines.request.get("/api/v1/products").json()["rows"]
    product = next(p["id"] for p in sheet if p["name"] == "Harbour Data")
    plans = {p["name"]: p["id"] for p in ines.request.get(f"/api/v1/products/{product}/sheet").json()["plans"]}
    body = {"name": "Drying board", "purpose": "When to hang it out."}
    application = ines.request.post(f"/api/v1/consumers/{consumer}/applications", data=body).json()["id"]
    body = {"plan_id": plans["Skiff"], "purpose": "When to hang it out.", "expected": {}}
    assert ines.request.post(f"/api/v1/applications/{application}/subscriptions", data=body).ok
    ines.goto(f"/admit/consumers/{consumer}")
    course = ines.get_by_role("region", name="Subscriptions")
    expect(course).to_contain_text("Drying board on Harbour Data · Skiff, active")
    expect(course.get_by_role("figure", name="Its course")).to_contain_text("Skiff, revision")
    course.get_by_role("link", name="its history, and moving it").click()
    ines.get_by_role("button", name="move, pause or end it for Drying board…").click()
    moving = ines.get_by_role("region", name="Moving it")
    moving.get_by_role("combobox", name="The plan").select_option(label="Ketch")
    expect(moving.get_by_role("region", name="What it comes to")).to_contain_text(
        "a whole month without a call costs €40"
    )
    moving.get_by_label("Why it is moved").fill("They asked by telephone.")
    assert serious(ines) == []
    moving.get_by_role("button", name="Move it to Ketch now").click()
    expect(ines.get_by_role("heading", name="Drying board on Harbour Data · Ketch")).to_be_visible()
    ines.get_by_role("link", name="all of Spindrift Laundry").click()
    expect(ines.get_by_role("region", name="Subscriptions")).to_contain_text("Drying board on Harbour Data · Ketch")

    ines.get_by_role("button", name="close its account…").click()
    dialog = ines.get_by_role("dialog", name="Close the account of Spindrift Laundry")
    expect(dialog).to_contain_text("Harbour Data · Ketch of Drying board ends at once.")
    assert serious(ines) == []
    dialog.get_by_label("The organisation's name").fill("Spindrift Laundry")
    dialog.get_by_role("button", name="Close the account for good").click()
    expect(dialog).to_have_count(0)
    expect(ines.get_by_text("The account was closed")).to_be_visible()
    ines.get_by_role("button", name="erase what is personal…").click()
    erase = ines.get_by_role("dialog", name="Erase what is personal")
    expect(erase).to_contain_text("the last month it is charged for, is not charged yet.")
    expect(erase.get_by_role("button", name="Erase all of them for good")).to_have_count(0)


def test_all_is_taken_along_and_then_erased(people: People) -> None:
    ines = people.staff("Ines")
    consumer = made(ines, "Brack & Brine", "Aldo Sal", "aldo@brack.example")
    ines.goto(f"/admit/consumers/{consumer}")
    with ines.expect_download() as taken:
        ines.get_by_role("link", name="take all of it along").click()
    with zipfile.ZipFile(taken.value.path()) as archive:
        (member,) = (json.loads(line) for line in archive.read("member.jsonl").splitlines())
        assert (member["name"], member["email"]) == ("Aldo Sal", "aldo@brack.example")
    ines.get_by_role("button", name="close its account…").click()
    ines.get_by_label("The organisation's name").fill("Brack & Brine")
    ines.get_by_role("button", name="Close the account for good").click()
    expect(ines.get_by_text("The account was closed")).to_be_visible()
    ines.get_by_role("button", name="erase what is personal…").click()
    erase = ines.get_by_role("dialog", name="Erase what is personal")
    erase.get_by_label("The organisation's name").fill("Brack and Brine")
    assert serious(ines) == []
    erase.get_by_role("button", name="Erase all of them for good").click()
    expect(erase).to_contain_text("Type the name as it is: Brack & Brine")
    erase.get_by_label("The organisation's name").fill("Brack & Brine")
    erase.get_by_role("button", name="Erase all of them for good").click()
    expect(ines.get_by_role("heading", name=f"erased consumer {consumer}")).to_be_visible()
    expect(ines.get_by_text("What was personal in it was erased")).to_be_visible()
    record = ines.get_by_role("region", name="On the record")
    expect(record).to_contain_text("Ines erased the personal data of an organisation")
    ines.goto("/record?words=Brack")
    expect(ines.get_by_text("Nothing here has these words.")).to_be_visible()


def test_two_organisations_become_one(people: People) -> None:
    ines = people.staff("Ines")
    there = made(ines, "Tern Towage", "Ilda Quaresma", "ilda@tern.example")
    consumer = made(ines, "Little Tern", "Caio Brandal", "caio@little-tern.example")
    body = {"name": "Tow board", "purpose": "Who pulls whom."}
    for of in (there, consumer):
        assert ines.request.post(f"/api/v1/consumers/{of}/applications", data=body).ok
    ines.goto(f"/admit/consumers/{consumer}")
    ines.get_by_role("button", name="merge it into another…").click()
    dialog = ines.get_by_role("dialog", name="Merge Little Tern into another organisation")
    into = dialog.get_by_label("Into, which goes on in its place")
    into.fill("Little Tern")
    expect(dialog).to_contain_text("They cannot be merged. An organisation is not merged into itself.")
    into.fill("Tern Towage")
    expect(dialog).to_contain_text("Caio Brandal belongs to Tern Towage from then on, as a developer.")
    expect(dialog).to_contain_text("“Tow board” is called “Tow board (2)” there.")
    assert serious(ines) == []
    dialog.get_by_label("The name of Little Tern").fill("Tern Towage")
    dialog.get_by_role("button", name="Merge it into Tern Towage for good").click()
    expect(dialog).to_contain_text("Type the name as it is: Little Tern")
    dialog.get_by_label("The name of Little Tern").fill("Little Tern")
    dialog.get_by_role("button", name="Merge it into Tern Towage for good").click()
    expect(dialog).to_have_count(0)
    expect(ines.get_by_text("Merged into Tern Towage on")).to_be_visible()
    ines.get_by_role("link", name="Tern Towage").click()
    expect(ines.get_by_role("heading", name="Tern Towage")).to_be_visible()
    expect(ines.get_by_text("Caio Brandal, developer")).to_be_visible()
    expect(ines.get_by_role("region", name="Applications and keys")).to_contain_text("Tow board (2)")
    expect(ines.get_by_role("region", name="On the record")).to_contain_text("Ines took another organisation in")
    expect(ines.get_by_role("region", name="Letters")).to_contain_text("Little Tern is part of Tern Towage")
