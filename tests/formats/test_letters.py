"""A notice reads the same as text and as HTML, and what is filled in stays text whatever it holds."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import jinja2
import pytest

from calm_tariff.core.notices import EXAMPLES, Words
from calm_tariff.formats import letters
from calm_tariff.formats.letter_words import built_in
from calm_tariff.formats.letters import Address, Letter, Prose

KINDS = sorted(p.name.removesuffix(".jinja") for p in (Path(letters.__file__).parent / "notices").glob("[!l]*.jinja"))
KINDS += ["limit_changed"]
FIELDS: dict[str, Any] = {
    **EXAMPLES,
    "office": "Larkmouth Marine",
    "name": "Ana",
    "note": "Welcome.",
    "link": Address("https://portal.example/portal/applications/3"),
    "terms": Prose("Be *fair*."),
}


def letter(template: str, fields: dict[str, Any], foot: str = "") -> Letter:
    """A notice of a kind in the words that ship with the product."""
    return letters.letter(built_in(template), fields, foot)


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


OWN = Words(
    subject="{{ application }}: yes",
    text="Dear {{ name }},\n\nread {{ terms }} at {{ link }}\n",
    html='<p>Dear <b>{{ name }}</b>, read {{ terms }} <a href="{{ link }}">here</a>.</p>',
)


def test_html_of_ones_own_stands_in_the_letter_and_what_is_filled_in_stays_text_there() -> None:
    made = letters.letter(OWN, {**FIELDS, "name": "<i>Ana</i>", "link": Address('https://x.example/"><b>')})
    assert "<p>Dear <b>&lt;i&gt;Ana&lt;/i&gt;</b>, read <p>Be <em>fair</em>.</p>" in made.html
    assert '<a href="https://x.example/&#34;&gt;&lt;b&gt;">here</a>' in made.html
    assert made.subject == "Timetable: yes" and made.text.startswith("Dear <i>Ana</i>,\n\nread Be *fair*. at")


def test_fields_that_are_kept_fill_in_the_same_letter_later() -> None:
    kept = json.loads(json.dumps(letters.plain({**FIELDS, "days": 14, "total": Decimal("40.29")})))
    assert letters.given(kept)["days"] == 14 and letters.given(kept)["total"] == "40.29"
    for template in ("terms_of_use_changed", "plan_changes", "trial_over", "request_granted"):
        assert letter(template, letters.given(kept)) == letter(template, FIELDS)
