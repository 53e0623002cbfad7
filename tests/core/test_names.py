"""What a name may hold."""

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.names import cut, plain, tags, typed_again


def test_a_name_is_kept_composed_and_without_space_around_it() -> None:
    assert plain("  Cafe\u0301 Marés ", "name") == "Café Marés"
    assert plain("İ" * 150, "name") == "İ" * 150
    assert plain("x" * 200, "name") == "x" * 200


@pytest.mark.parametrize(
    "wrong",
    [
        "",
        "   ",
        "x" * 201,
        "two\nlines",
        "a\ttab",
        "a\x00b",
        "zero\u200bwidth",
        "\u202eback",
        "join\u200dner",
        "a\u2028b",
        "\ufeffmark",
        "a\x7fb",
    ],
)
def test_what_cannot_be_seen_is_refused_by_its_field(wrong: str) -> None:
    with pytest.raises(Invalid) as refused:
        plain(wrong, "organisation")
    assert refused.value.where == "organisation"


def test_a_line_of_several_names_is_shortened_where_it_must_be() -> None:
    assert cut("x" * 200) == "x" * 200
    assert cut("x" * 201) == "x" * 199 + "…"


def test_tags_are_few_short_and_plainly_named() -> None:
    assert tags({"ship": "17", "re-gion_2": "West Côte"}) == {"ship": "17", "re-gion_2": "West Côte"}
    for wrong in (
        {f"t{n}": "x" for n in range(11)},
        {"Ship": "1"},
        {"1st": "x"},
        {"s" * 31: "x"},
        {"": "x"},
        {"ship": "a\nb"},
        {"ship": "x" * 101},
    ):
        with pytest.raises(Invalid) as refused:
            tags(wrong)
        assert refused.value.where == "tags"


def test_a_name_typed_again_is_the_same_however_its_letters_are_composed() -> None:
    typed_again(" Le\u0301onor & Field ", "L\u00e9onor & Field")
    for other in ("l\u00e9onor & field", "Leonor & Field", ""):
        with pytest.raises(Invalid, match="name: type the name as it is: L\u00e9onor & Field"):
            typed_again(other, "L\u00e9onor & Field")
