"""What each kind of limit makes of a count: the ways a count is kept, restored, foretold and forgotten agree."""

from copy import copy

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.compiled_limits import FAR, REFUSED, CompiledLimit, compile_limit
from calm_tariff.core.limits import Limit, trial_quota
from tests.core.drawn_limits import LISBON, T0, call, gaps, instants, paces, quotas, rates, windows

limits = st.one_of(rates, windows, paces, quotas)
strides = st.lists(st.integers(0, 20_000_000), min_size=1, max_size=30)


def counted(compiled: CompiledLimit, steps: list[int]) -> list[tuple[int, object]]:
    """The counts that a run of calls leaves behind, each with its instant."""
    state, found = None, []
    for at in instants(steps):
        needs, after, _ = compiled.step(state, at, call(at))
        if needs != REFUSED:
            state = compiled.commit(after, at)
        found.append((at, copy(state)))
    return found


@given(limits, gaps)
def test_a_count_restored_call_by_call_is_the_one_that_was_decided_by(limit: Limit, steps: list[int]) -> None:
    deciding, restoring = (compile_limit(limit, "s", LISBON, T0) for _ in range(2))
    decided = restored = None
    for at in instants(steps):
        needs, after, left = deciding.step(decided, at, call(at))
        if needs == REFUSED:
            continue
        decided = deciding.commit(after, at)
        restored, left_then = restoring.take(restored, at, 1)
        assert deciding.left(decided, at) == restoring.left(restored, at) == left
        assert restored == decided  # once looked at: a rolling window throws away only then what has left it
        if not deciding.grows:
            assert left_then == left


@given(limits, gaps)
def test_a_refused_call_is_let_in_at_the_instant_said_and_not_before(limit: Limit, steps: list[int]) -> None:
    compiled = compile_limit(limit, "s", LISBON, T0)
    for at, state in counted(compiled, steps):
        opens = compiled.opens(copy(state), at, call(at))
        assert opens is not None and opens >= at
        assert compiled.test(copy(state), opens, call(opens)) != REFUSED
        if opens > at:
            assert compiled.test(copy(state), opens - 1, call(opens - 1)) == REFUSED


@given(limits, strides, st.integers(0, 7_200_000_000))
def test_a_count_is_forgotten_only_once_it_says_no_more_than_none(limit: Limit, steps: list[int], later: int) -> None:
    compiled = compile_limit(limit, "s", LISBON, T0)
    at, state = counted(compiled, steps)[-1]
    if state is None or not compiled.stale(copy(state), at + later):
        return
    now = at + later
    needs, after, left = compiled.step(copy(state), now, call(now))
    fresh = compiled.step(None, now, call(now))
    assert (needs, left) == (fresh[0], fresh[2])
    assert compiled.commit(after, now) == compiled.commit(fresh[1], now)
    assert compiled.left(copy(state), now) == compiled.left(None, now)


@given(limits, strides)
def test_every_count_is_forgotten_in_the_end(limit: Limit, steps: list[int]) -> None:
    compiled = compile_limit(limit, "s", LISBON, T0)
    at, state = counted(compiled, steps)[-1]
    assert state is None or compiled.stale(state, at + 2 * 3600 * 1_000_000)


def test_a_trials_units_are_one_window_that_never_ends() -> None:
    compiled = compile_limit(trial_quota("calls", 2), "trial/1", LISBON, T0)
    state = None
    for at in (T0, FAR - 1):
        needs, state, _ = compiled.step(state, at, call(at))
        assert needs == 0
    assert compiled.step(state, FAR - 1, call(FAR - 1))[0] == REFUSED
    assert compiled.opens(state, T0, call(T0)) == FAR
    assert not compiled.stale(state, FAR - 1)
