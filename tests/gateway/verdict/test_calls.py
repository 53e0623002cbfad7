"""What is known of a call, step by step."""

from __future__ import annotations

import pytest

from calm_tariff.gateway.verdict import calls
from calm_tariff.gateway.verdict.calls import Judged, Outcome
from tests.gateway.ends import Ends, ends

__all__ = ["ends"]
STEPS = (calls.shown, calls.identified, calls.routed, calls.admitted)


@pytest.mark.parametrize(
    ("call", "came"),
    [
        ({}, 0),
        ({"x_api_key": "lt_live_nobody"}, 1),
        ({"path": "/tides/v1/nothing", "x_api_key": "own"}, 2),
        ({"x_api_key": "own", "content_length": "99999999999"}, 4),
        ({"x_api_key": "own"}, 4),
    ],
)
def test_a_verdict_knows_every_step_its_call_came_to_and_no_further(
    ends: Ends, call: dict[str, str], came: int
) -> None:
    asked = {k: ends.key if v == "own" else v for k, v in call.items()}
    verdict = ends.judged(**asked)
    known = [step(verdict) for step in STEPS]
    assert [step is not None for step in known] == [n < came for n in range(len(STEPS))]
    assert calls.located(verdict).call is verdict.call
    for later, earlier in zip(known[1:came], known[:came], strict=False):
        assert later is not None and later[0] is earlier  # each holds the one before it
    assert isinstance(verdict, Judged) is (call == {"x_api_key": "own"})


def test_names_of_calls_follow_their_instants_and_are_never_alike() -> None:
    instants = [1_789_000_000_000_000 + 1000 * n for n in range(50)]
    names = [calls.new_id(at) for at in instants]
    assert names == sorted(names)
    assert len({calls.new_id(instants[0]) for _ in range(200)}) == 200


def test_what_the_caller_is_told_is_kept_without_the_kind_of_body() -> None:
    outcome = Outcome()
    outcome.tells([(b"content-type", b"application/problem+json"), (b"retry-after", b"2"), (b"x", b"\xe9")])
    assert outcome.told == {"retry-after": "2", "x": "\u00e9"}
