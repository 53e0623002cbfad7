from __future__ import annotations

import pytest

from calm_tariff.core.erasing import Trace, forms, mail_addresses, without

FATHOM = Trace(text="Fathom & Field", instead="erased consumer 7")
ANA = Trace(text="Ana Vaz", instead="erased member 3")
MAIL = Trace(text="ana@fathom.example", instead="erased 3")


@pytest.mark.parametrize(
    ("text", "then"),
    [
        ("Ana Vaz, Fathom & Field asked", "erased member 3, erased consumer 7 asked"),
        ("<p>Fathom &amp; Field</p>", "<p>erased consumer 7</p>"),
        ("/record?words=Fathom%20%26%20Field", "/record?words=erased consumer 7"),
        ("/record?words=Fathom+%26+Field&page=2", "/record?words=erased consumer 7&page=2"),
        ("to ANA@fathom.example.", "to erased 3."),
        ("Joana Vaz and Ana Vazques", "Joana Vaz and Ana Vazques"),  # other people's names hold it
        ("diana@fathom.example", "diana@fathom.example"),
        ("", ""),
    ],
)
def test_whole_names_give_way_in_each_form(text: str, then: str) -> None:
    assert without(text, [FATHOM, ANA, MAIL]) == then


def test_a_document_keeps_its_shape_its_names_and_its_figures() -> None:
    document = {"Ana Vaz": [{"who": "Ana Vaz", "sum": "12.50", "n": 3, "none": None, "yes": True}]}
    assert without(document, [ANA]) == {
        "Ana Vaz": [{"who": "erased member 3", "sum": "12.50", "n": 3, "none": None, "yes": True}]
    }
    assert document["Ana Vaz"][0]["who"] == "Ana Vaz"  # the one given is as it was


def test_what_stands_instead_is_taken_as_it_is() -> None:
    assert without("Ana Vaz", [Trace(text="Ana Vaz", instead=r"\1 \g<0>")]) == r"\1 \g<0>"


def test_a_plain_name_has_few_forms() -> None:
    assert forms("Skiff") == ["Skiff"]


def test_mail_addresses_are_seen_in_what_was_written() -> None:
    text = 'invited Ana.Vaz+bill@fathom.example as billing; "to": "m@x.co.uk", user@ host, @name, a@b'
    assert mail_addresses(text) == ["Ana.Vaz+bill@fathom.example", "m@x.co.uk"]
