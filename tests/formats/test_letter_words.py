"""Own words may fill in, leave out and repeat; what else a template language can do is refused by line."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.notices import EXAMPLES, KINDS
from calm_tariff.formats.letter_words import LONGEST, built_in, check, fields_of

KNOWN = frozenset({"name", "office", "link", "changes", "note"})


@pytest.mark.parametrize("kind", KINDS)
def test_the_words_that_ship_with_the_product_are_ones_that_anybody_may_write(kind: str) -> None:
    words = built_in(kind.replace(" ", "_"))
    for part, source in (("subject", words.subject), ("text", words.text)):
        check(source, part, fields_of(source))
        assert fields_of(source) <= {*EXAMPLES, "office", "link"}


@pytest.mark.parametrize(
    "source",
    [
        "Dear {{ name | upper }},",
        "{% if note %}{{ note }}{% elif name == 'Ana' %}x{% else %}y{% endif %}",
        "{% for one in changes %}- {{ one | trim }}\n{% endfor %}",
        "{% if name in ('a', 'b') and not note %}x{% endif %}{# for ourselves #}",
        "{{ note | default('none') }}",
    ],
)
def test_what_fills_in_leaves_out_and_repeats_is_taken(source: str) -> None:
    check(source, "text", KNOWN)


@pytest.mark.parametrize(
    ("source", "why"),
    [
        ("x\n{{ nmae }}", "line 2: there is no nmae here, but changes, link, name, note, office"),
        ("{{ name", "line 1: "),
        ("{% if note %}x", "line 1: "),
        ("{{ name.__class__ }}", "and nothing else"),
        ("{{ name['x'] }}", "and nothing else"),
        ("{{ name() }}", "and nothing else"),
        ("{{ range(9) }}", "and nothing else"),
        ("{{ name * 1000000 }}", "and nothing else"),
        ("{{ 2 ** 99999999 }}", "and nothing else"),
        ("{{ name ~ name }}", "and nothing else"),
        ("{% set x = 1 %}", "and nothing else"),
        ("{% macro x() %}{% endmacro %}", "and nothing else"),
        ("{% include 'letter.html.jinja' %}", "and nothing else"),
        ("{% extends 'x' %}", "and nothing else"),
        ("{% block subject %}{% endblock %}", "and nothing else"),
        ("{% for a in 'abc' %}{% endfor %}", "only what a field holds can be repeated"),
        ("\n\n{{ name | pprint }}", "line 3: must be one of capitalize, default"),
        ("{{ name is string }}", "and nothing else"),
        ("x" * (LONGEST["text"] + 1), "must be at most 20000 characters long"),
        ("{% no such thing %}", "line 1: "),
    ],
)
def test_what_is_more_than_that_is_refused_by_part_and_line(source: str, why: str) -> None:
    with pytest.raises(Invalid) as refused:
        check(source, "text", KNOWN)
    assert why in refused.value.what and refused.value.where == "text"
