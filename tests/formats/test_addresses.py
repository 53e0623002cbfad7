"""Mail addresses by their form, and names by their look."""

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.addresses import looks, mail_address


def test_a_mail_address_is_kept_in_small_letters() -> None:
    assert mail_address(" Marta@Driftline.Example ") == "marta@driftline.example"


@pytest.mark.parametrize(
    "wrong",
    ["(x@b.cc", "x@b", "a b@c.dd", "x@b.cc\nBcc: y@z.cc", "İ" * 150 + "@x.example", "x@@b.cc", "", "x" * 300 + "@b.cc"],
)
def test_what_no_letter_could_be_sent_to_is_refused(wrong: str) -> None:
    with pytest.raises(Invalid) as refused:
        mail_address(wrong, "email")
    assert refused.value.where == "email"


@pytest.mark.parametrize(
    ("one", "other", "alike"),
    [
        ("Gannet Ferries", "G\u0430nnet Ferries", True),  # a Cyrillic a
        ("Pelorus Cover", "PeIorus Cover", True),  # a capital i for an l
        ("Modern Tides", "Rnodern Tides", True),
        ("Ferries", "FERRIES", True),
        ("Ferries", "\uff26erries", True),  # full width
        ("Quay  Side", "Quay Side", True),
        ("Stra\u00dfe", "STRASSE", True),
        ("Ferries", "Ferry", False),
        ("Larkmouth Pilots", "Saltgrave Pilots", False),
        ("Guest 2", "Guest 3", False),
    ],
)
def test_names_that_can_be_taken_for_each_other_share_a_look(one: str, other: str, alike: bool) -> None:
    assert bool(set(looks(one)) & set(looks(other))) is alike
