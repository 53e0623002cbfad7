"""Which operation a path is."""

from __future__ import annotations

from calm_tariff.core.paths import Match, Router


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
