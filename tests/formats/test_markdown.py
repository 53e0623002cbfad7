"""Markdown of strangers: nothing runs, nothing is fetched, and links lend nothing."""

from __future__ import annotations

import re

import pytest

from calm_tariff.formats.markdown import html, html_of_others

SAMPLES = [
    "<script>alert(1)</script>",
    "<img src=x onerror=alert(1)>",
    "![x](https://evil.example/x.png)",
    "[x](javascript:alert(1))",
    "[x](data:text/html;base64,PHNjcmlwdD4=)",
    "[x](vbscript:x)",
    "<a href='https://evil.example' onclick='x()'>x</a>",
    "<https://evil.example>",
    "[x]: javascript:alert(1)\n\n[x]",
    '[x](https://evil.example "onmouseover=alert(1)")',
    "```html\n<script>\n```",
]


@pytest.mark.parametrize("text", SAMPLES)
def test_nothing_of_it_runs_or_is_fetched(text: str) -> None:
    made = html_of_others(text)
    tags = re.findall(r"<(\w+)([^>]*)>", made)
    assert {name for name, _ in tags} <= {"p", "a", "pre", "code", "em", "strong", "ul", "ol", "li"}
    for name, attributes in tags:
        assert "onclick" not in attributes and "onerror" not in attributes
        if name == "a":
            assert re.search(r'href="https?://', attributes), attributes


def test_every_link_of_others_lends_nothing_and_the_providers_own_stay_as_they_are() -> None:
    text = "[a](https://one.example), <https://two.example> and\n\n- [b](mailto:x@three.example)"
    made = html_of_others(text)
    assert made.count("<a ") == 3 == made.count('rel="nofollow ugc noopener"')
    assert "rel=" not in html(text)
    assert re.sub(r' rel="[^"]*"', "", made) == html(text)
