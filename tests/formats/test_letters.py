"""A notice reads the same as text and as HTML, and what is filled in stays text whatever it holds."""

from __future__ import annotations

from pathlib import Path

import jinja2
import pytest

from calm_tariff.formats import letters
from calm_tariff.formats.letters import Address, Prose, letter

KINDS = sorted(p.name.removesuffix(".jinja") for p in (Path(letters.__file__).parent / "notices").glob("[!l]*.jinja"))
KINDS += ["limit_changed"]
FIELDS = {
    "office": "Larkmouth Marine",
    "name": "Ana",
    "link": Address("https://portal.example/portal/applications/3"),
    "offer": "Harbour · Ketch",
    "product": "Harbour",
    "plan": "Ketch",
    "before": "Skiff",
    "application": "Timetable",
    "day": "1 October 2026",
    "changes": ["Rate: up to 20 at once → up to 40 at once", "Notes: none → For all."],
    "number": "2026-0007",
    "period": "September 2026",
    "total": "40.29",
    "currency": "EUR",
    "due": "14 October 2026",
    "paid": "by transfer, order number PO 7",
    "version": "Tides v1",
    "goes_on": True,
    "limit": "Rate",
    "rule": "10 calls a second",
    "note": "Welcome.",
    "by": "Ines",
    "portal": "The Pilot Room",
    "days": 14,
    "organisation": "Gulls",
    "said": "Harbour · Ketch is paused",
    "who": "Rui",
    "role": "billing",
    "may": "Sees invoices.",
    "last": "November 2026",
    "what": "factor on",
    "key": "calmkey-live-7m3x…",
    "label": "server",
    "about": "80% of Forecast calls",
    "at": "on 3 September at 12:00:01",
    "follows": "Harbour · Schooner",
    "title": "Which datum?",
    "terms": Prose("Be *fair*."),
    "roles": "reviewer and finance",
}


def test_under_a_letter_stands_who_it_is_from_and_not_in_its_text() -> None:
    made = letter("role_changed", FIELDS, "Larkmouth <Marine>\nPier 3")
    assert "Pier 3" not in made.text and made.body == f"{made.text}\n-- \nLarkmouth <Marine>\nPier 3\n"
    assert "Larkmouth &lt;Marine&gt;\nPier 3</p>" in made.html
    bare = letter("role_changed", FIELDS)
    assert bare.body == bare.text and "pre-line" not in bare.html


@pytest.mark.parametrize("kind", KINDS)
def test_every_kind_is_a_letter_of_one_subject_and_two_bodies(kind: str) -> None:
    made = letter(kind, FIELDS)
    assert made.subject and "\n" not in made.subject
    assert made.text.endswith(("\n", ".\n")) and "{" not in made.text and "\n\n\n" not in made.text
    assert made.html.startswith("<!doctype html>") and "Larkmouth Marine" in made.html and "{" not in made.html


def test_an_invoices_letter_says_how_it_is_paid_where_that_was_said() -> None:
    asked = "due on 14 October 2026, to be paid by transfer, order number PO 7."
    assert asked in letter("invoice_issued", FIELDS).text
    assert "due on 14 October 2026.\n" in letter("invoice_issued", {**FIELDS, "paid": ""}).text


def test_changes_stand_in_a_list_and_an_address_of_ours_is_a_link() -> None:
    made = letter("plan_changes", FIELDS)
    assert "change:\n\n- Rate: up to 20 at once → up to 40 at once\n- Notes: none → For all.\n\nUntil" in made.text
    assert made.html.count("<li>") == 2
    granted = letter("request_granted", FIELDS)
    assert f'<a href="{FIELDS["link"]}">' in granted.html and "The reviewer writes: Welcome." in granted.text
    assert "The reviewer writes" not in letter("request_granted", {**FIELDS, "note": ""}).text


@pytest.mark.parametrize(
    "name",
    [
        "[a](https://evil.example)",
        "<b>x</b>",
        "https://evil.example",
        "<https://evil.example>",
        "# Big",
        "*x*",
        "x\n\n- y",
        "&amp;",
        "{{ office }}",
        "a_b_c",
        "`x`",
        "1. x",
        "| x |",
    ],
)
def test_a_name_stays_a_name(name: str) -> None:
    made = letter("request_granted", {**FIELDS, "name": name, "note": name})
    plain = letter("request_granted", {**FIELDS, "name": "Ana", "note": "Ana"})
    assert f"Dear {name}," in made.text
    for tag in ("<a ", "<b>", "<h1", "<h2", "<em>", "<ul>", "<ol>", "<li>", "<code>", "<table"):
        assert made.html.count(tag) == plain.html.count(tag), tag
    assert "Larkmouth" not in made.html.partition("Dear")[2].partition("</div>")[0]


def test_the_providers_own_prose_keeps_its_markdown() -> None:
    assert "<em>fair</em>" in letter("terms_of_use_changed", FIELDS).html
    assert "Be *fair*." in letter("terms_of_use_changed", FIELDS).text


def test_a_subject_is_one_line_and_a_missing_field_is_told() -> None:
    assert letter("version_ends", {**FIELDS, "version": "a\nline"}).subject == "a line ends on 1 October 2026"
    with pytest.raises(jinja2.UndefinedError):
        letter("version_ends", {"name": "Ana"})
