"""Questions: a developer asks, others answer, the provider moderates; and ratings."""

from __future__ import annotations

import time

from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious

AT = "/portal/products/harbour-data?view=questions"


def ask(page: Page, title: str) -> None:
    page.goto(AT)
    page.get_by_role("button", name="Ask a question").click()
    page.get_by_label("Your question, in a line").fill(title)
    page.get_by_label("What others need to know to answer it").fill("Is it *held* against us?")
    page.get_by_role("button", name="Ask it").click()
    expect(page.get_by_role("article", name=title)).to_be_visible()


def test_a_question_is_asked_answered_by_two_and_settled(people: People) -> None:
    leonor, tomas = people.member("Leonor"), people.staff("Tomas")
    title = f"Does a late call count? {time.time_ns()}"
    ask(leonor, title)
    assert serious(leonor) == []
    expect(leonor.get_by_label("tell me of new answers")).to_be_checked()
    tomas.goto("/admit/questions?wanted=answer")
    tomas.get_by_role("link", name=title).click()
    tomas.get_by_label("Your answer, for the provider").fill("Only once it was **served**.")
    tomas.get_by_role("button", name="Answer it").click()
    expect(tomas.get_by_text("It is answered; nobody has said yet")).to_be_visible()
    assert serious(tomas) == []

    marta = people.member("Marta")
    marta.goto(AT)
    marta.get_by_label("Find a question").fill(title)
    marta.get_by_role("link", name=title).click()
    expect(marta.get_by_role("article")).to_contain_text("A developer asked", ignore_case=True)
    expect(marta.get_by_role("article")).not_to_contain_text("Gannet")
    marta.get_by_label("Your answer").fill("It does not.")
    marta.get_by_role("button", name="Answer it").click()
    expect(marta.get_by_role("list", name="Answers").get_by_role("listitem")).to_have_count(2)

    leonor.goto("/portal/notices")
    leonor.get_by_text(f"An answer to: {title}").first.click()
    leonor.get_by_role("link", name="Open what it is about").first.click()
    answers = leonor.get_by_role("list", name="Answers").get_by_role("listitem")
    expect(answers.first).to_contain_text("Larkmouth Tide Office answered")
    answers.first.get_by_role("button", name="this helped").click()
    expect(answers.first).to_contain_text("This helped.")
    leonor.get_by_role("link", name="All questions").click()
    expect(leonor.get_by_role("listitem").filter(has_text=title)).to_contain_text("2 answers, one of which helped")
    assert serious(leonor) == []


def test_what_is_reported_is_hidden_and_whoever_wrote_it_reads_why(people: People) -> None:
    marta, duarte, rui = people.member("Marta"), people.member("Duarte"), people.staff("Rui")
    title = f"Cheaper elsewhere {time.time_ns()}"
    ask(marta, title)
    where = marta.url
    duarte.goto(where)
    duarte.get_by_role("button", name="report it").click()
    duarte.get_by_label("Why it should not stand there").fill("It is an advertisement.")
    duarte.get_by_role("dialog").get_by_role("button", name="Report it").click()
    expect(duarte.get_by_text("reported by your organisation")).to_be_visible()
    rui.goto("/admit/questions?wanted=decision")
    rui.get_by_role("link", name=title).click()
    expect(rui.get_by_role("complementary", name="Margin")).to_contain_text("It is an advertisement.")
    rui.get_by_role("button", name="hide it").click()
    dialog = rui.get_by_role("dialog", name="Hide the question and its answers")
    assert serious(rui) == []
    dialog.get_by_label("Why; Marta Vale reads it").fill("Advertising.")
    dialog.get_by_role("button", name="Hide it").click()
    expect(rui.get_by_text("Hidden from others. Advertising.")).to_be_visible()
    duarte.reload()
    expect(duarte.get_by_role("alert")).to_contain_text("there is no such question")
    marta.reload()
    expect(marta.get_by_text("Hidden from others. Advertising.")).to_be_visible()
    marta.get_by_role("button", name="take it back").wait_for(state="hidden")
    rui.get_by_role("button", name="show it again").click()
    expect(rui.get_by_text("Hidden from others. Advertising.")).to_have_count(0)
    duarte.reload()
    expect(duarte.get_by_role("article", name=title)).to_be_visible()


def test_an_organisation_rates_what_it_is_on_and_the_provider_sees_who(people: People) -> None:
    page = people.member("Leonor")
    page.goto(AT)
    ratings = page.get_by_role("complementary", name="Ratings")
    expect(ratings).to_contain_text("organisations.")
    before = ratings.get_by_role("list").inner_text()
    for stars, means in ((2, "poor"), (5, "very good")):
        choice = ratings.get_by_role("radio", name=f"{stars} of 5: {means}")
        expect(choice).to_be_enabled()  # the one before has been taken
        choice.click(force=True)
        expect(ratings.get_by_text(f"Gannet Ferries gives it {stars} of 5: {means}.")).to_be_visible()
    assert ratings.get_by_role("list").inner_text() == before
    ines = people.staff("Ines")
    ines.goto("/admit/questions")
    ines.get_by_role("complementary", name="Margin").get_by_role("button", name="Rated").first.click()
    row = ines.get_by_role("dialog").get_by_role("row").filter(has_text="Gannet Ferries")
    expect(row.get_by_role("cell").first).to_have_text("5")
    assert serious(ines) == []
    stranger = people.page()
    stranger.goto(AT)
    expect(stranger.get_by_role("complementary", name="Ratings")).to_contain_text("Rated")
    stranger.get_by_role("button", name="Ask a question").click()
    expect(stranger.get_by_role("dialog")).to_contain_text("To take part, sign in.")
    assert serious(stranger) == []
