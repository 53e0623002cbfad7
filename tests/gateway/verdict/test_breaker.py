"""A back end that fails is left alone for a while."""

from __future__ import annotations

from calm_tariff.gateway.verdict.breaker import Breaker


def test_a_breaker_opens_rests_tries_once_and_closes() -> None:
    breaker = Breaker(3, 10)
    for _ in range(2):
        breaker.end(False, 0.0)
    assert breaker.wait(0.0) == 0
    breaker.end(False, 0.0)
    assert breaker.wait(4.0) == 6.0
    assert breaker.wait(10.0) == 0
    breaker.begin()
    assert breaker.wait(10.0) > 0  # one call tries; the others wait for what becomes of it
    breaker.end(False, 11.0)
    assert breaker.wait(20.0) == 1.0
    breaker.begin()
    breaker.end(True, 21.0)
    assert breaker.wait(21.0) == 0
    never = Breaker(0, 10)
    for _ in range(9):
        never.end(False, 0.0)
    assert never.wait(0.0) == 0
