"""What a portal may be, and who may sign up there."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core import portals
from calm_tariff.core.errors import Invalid
from calm_tariff.core.portals import Brand, Entrance, Page

BRAND = Brand(name="Harbour")


@pytest.mark.parametrize(
    ("changed", "field"),
    [
        ({"name": " "}, "name"),
        ({"name": "a\nb"}, "name"),
        ({"main_colour": "navy"}, "main_colour"),
        ({"main_colour": "#C98A4B"}, "main_colour"),
        ({"accent_colour": "#163C5C"}, "accent_colour"),
        ({"title_font": "Papyrus"}, "title_font"),
        ({"text_font": ""}, "text_font"),
    ],
)
def test_a_look_that_cannot_be_is_refused_by_its_field(changed: dict, field: str) -> None:
    with pytest.raises(Invalid) as refused:
        portals.checked(replace(BRAND, **changed))
    assert refused.value.where == field


def test_a_contrast_that_is_refused_is_said_with_its_measure_and_what_would_do() -> None:
    with pytest.raises(Invalid, match=r"2\.90 to 1, where 4\.5 is the least.*#9D6C3A would do"):
        portals.checked(replace(BRAND, main_colour="#c98a4b"))
    assert portals.checked(replace(BRAND, main_colour="#9d6c3a", accent_colour="#000000")).main_colour == "#9D6C3A"


@pytest.mark.parametrize(
    ("typed", "kept"),
    [
        ("", None),
        (" Data.Larkmouth.Example ", "data.larkmouth.example"),
        ("pilots.localhost:8400", "pilots.localhost:8400"),
        *((wrong, Invalid) for wrong in ("https://a.example", "a.example/x", "localhost", "10.0.0.1", "10.0.0.1:80")),
        *(
            (wrong, Invalid)
            for wrong in ("-a.example", "a..example", "a_b.example", "a.example:", "ä.example", "a" * 300)
        ),
    ],
)
def test_a_host_name_is_as_browsers_send_it(typed: str, kept: str | type[Invalid] | None) -> None:
    if kept is Invalid:
        with pytest.raises(Invalid):
            portals.host_name(typed)
    else:
        assert portals.host_name(typed) == kept


@pytest.mark.parametrize(
    ("rule", "email", "invited", "may"),
    [
        (Entrance(), "a@x.example", False, True),
        (Entrance(sign_up="mail domains", domains=("x.example",)), "a@x.example", False, True),
        (Entrance(sign_up="mail domains", domains=("x.example",)), "a@y.x.example", False, False),
        (Entrance(sign_up="mail domains", domains=("x.example",)), "x.example@y.example", False, False),
        (Entrance(sign_up="mail domains", domains=("x.example",)), "a@y.example", True, True),
        (Entrance(sign_up="by invitation"), "a@x.example", False, False),
        (Entrance(sign_up="by invitation"), "a@x.example", True, True),
        (Entrance(sign_up="nobody"), "a@x.example", False, False),
    ],
)
def test_who_may_sign_up(rule: Entrance, email: str, invited: bool, may: bool) -> None:
    why_not = portals.refusal(rule, email, invited)
    assert (why_not is None) == may
    # Whose addresses may is nobody's business: it would name the organisations that come here.
    assert not any(domain in (why_not or "") for domain in rule.domains if not email.endswith(domain))


def test_domains_and_pages_are_refused_by_their_place() -> None:
    domains = Entrance(sign_up="mail domains", domains=("x.example", "@Y.example ", "x.example"))
    assert portals.entrance(domains).domains == ("x.example", "y.example")
    for given, field in ((("x.example", "no domain"), "mail_domains.1"), ((), "mail_domains")):
        with pytest.raises(Invalid) as refused:
            portals.entrance(replace(domains, domains=given))
        assert refused.value.where == field
    begin = Page(prefix=" How-To ", title="How to", text=" *go* ")
    assert portals.pages([begin]) == [Page(prefix="how-to", title="How to", text="*go*")]
    for page, field in (
        (replace(begin, prefix="a/b"), "pages.1.prefix"),
        (replace(begin, prefix="how-to"), "pages.1.prefix"),
        (replace(begin, prefix="b", title=""), "pages.1.title"),
    ):
        with pytest.raises(Invalid) as refused:
            portals.pages([begin, page])
        assert refused.value.where == field
