"""Which operation a path is."""

from __future__ import annotations

import pytest

from calm_tariff.gateway.compiled.routing import Match, Router, is_odd


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


def test_another_case_names_the_operations_a_lax_back_end_would_take_it_for() -> None:
    router = Router(
        [
            (1, "GET", "/s/{id}"),
            (2, "GET", "/s/admin"),
            (3, "POST", "/s/Admin"),
            (4, "GET", "/S/{id}/x"),
            (5, "GET", "/s/{id}/X"),
            (6, "GET", "/s/v{n}"),
        ]
    )
    cases: dict[tuple[str, str], Match] = {
        ("GET", "/s/one"): Match(1, ("GET",)),
        ("GET", "/s/admin"): Match(2, ("GET",)),
        ("GET", "/s/ADMIN"): Match(1, ("GET",), frozenset({2})),
        ("HEAD", "/s/%41dmin"): Match(None, ("POST",)),  # literal of another method
        ("POST", "/s/Admin"): Match(3, ("POST",)),
        ("GET", "/s/V7"): Match(1, ("GET",), frozenset({6})),
        ("GET", "/S/a/x"): Match(4, ("GET",), frozenset({5})),
        ("GET", "/s/a/X"): Match(5, ("GET",), frozenset({4})),
    }
    assert {asked: router.match(*asked) for asked in cases} == cases
    assert router.match("GET", "/S/one") is None
