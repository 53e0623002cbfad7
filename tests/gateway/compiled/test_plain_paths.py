"""Paths that back ends may differ over."""

from __future__ import annotations

import pytest

from calm_tariff.gateway.compiled.plain_paths import is_odd


@pytest.mark.parametrize(
    ("path", "odd"),
    [
        ("/a/b", False),
        ("/a/%20b", False),
        ("/a/b.c", False),
        ("/a/%C3%A9", False),
        ("/a/;b", True),
        ("/a/..;/b", True),
        ("/a%3b", True),
        ("/a%3B", True),
        ("/a%253b", True),
        ("/a%3fb", True),
        ("/a%23", True),
        ("/a%25253fb", True),
        ("/a/%c0%ae", True),
        ("/a/%ff", True),
        ("/a/100%", False),
        ("/a%2525", False),
    ],
)
def test_a_path_is_odd_where_back_ends_differ_over_it(path: str, odd: bool) -> None:
    assert is_odd(path) is odd
