"""Which stay a call belongs to."""

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.stays import Stay, TrialUnits, after, belongs, boundaries, following, holds, in_force, laid_out

TRIAL = Stay(id=1, revision_id=1, start_us=0, end_us=100, trial=True, units=TrialUnits(meter="calls", units=5))
CHARGED = Stay(id=2, revision_id=1, start_us=100, end_us=200)
REVISED = Stay(id=3, revision_id=2, start_us=200)
ALL = (TRIAL, CHARGED, REVISED)


@given(st.integers(-50, 300))
def test_exactly_one_stay_holds_every_instant_from_the_first_on(at: int) -> None:
    held = [stay for stay in ALL if holds(stay, at)]
    assert held == ([] if at < 0 else [TRIAL] if at < 100 else [CHARGED] if at < 200 else [REVISED])
    assert in_force(ALL, at) == next(iter(held), None)


def test_what_follows_a_stay_begins_where_it_ends() -> None:
    assert [after(ALL, stay, stay.start_us) for stay in ALL] == [CHARGED, REVISED, None]
    assert after((TRIAL, REVISED), TRIAL, 50) is None  # nothing follows at once
    assert boundaries(ALL) == [0, 100, 200]


# Terms announced for days within a trial that its units can end: due at 30 and at 60.
AGREED = Stay(id=2, revision_id=1, start_us=100, end_us=100, due_us=0)
FIRST = Stay(id=3, revision_id=2, start_us=100, end_us=100, due_us=30)
SECOND = Stay(id=4, revision_id=3, start_us=100, due_us=60)
CHAIN = (TRIAL, AGREED, FIRST, SECOND)


def test_what_follows_a_trial_of_units_is_what_is_due_when_it_ends() -> None:
    assert following(CHAIN, TRIAL) == [AGREED, FIRST, SECOND]
    found = [after(CHAIN, TRIAL, at) for at in (0, 29, 30, 59, 60, 99, 500)]
    assert found == [AGREED, AGREED, FIRST, FIRST, SECOND, SECOND, SECOND]
    assert [in_force(CHAIN, at) for at in (99, 100)] == [TRIAL, SECOND]
    # Decided after its units were used, whoever has not heard of that yet believes it.
    for stay, at in ((AGREED, 20), (FIRST, 40), (SECOND, 70)):
        assert belongs(CHAIN, stay.id, at) == stay


@given(st.integers(1, 200), st.lists(st.integers(1, 200), max_size=5, unique=True))
def test_nothing_begins_before_it_is_due_nor_before_the_trial_ends(end: int, due: list[int]) -> None:
    chain = [0, *sorted(due)]
    lies = laid_out(end, chain)
    for at in range(end, 260):
        (held,) = [n for n, (start, stop) in enumerate(lies) if start <= at and (stop is None or at < stop)]
        assert held == max(n for n, each in enumerate(chain) if each <= at)
    assert min(start for start, _ in lies) == end
    assert laid_out(end, []) == []  # nothing follows it


def test_a_call_belongs_to_the_stay_of_its_instant_whatever_it_was_decided_under() -> None:
    assert belongs(ALL, 2, 200) == REVISED  # the gateway had not heard of it yet
    assert belongs(ALL, 3, 199) == CHARGED
    assert belongs(ALL, 99, 150) == CHARGED  # a stay that is no more
    assert belongs(ALL, None, 150) == CHARGED
    assert belongs((CHARGED,), 2, 250) is None  # the subscription had ended


def test_which_calls_were_the_trials_the_decisions_know_alone() -> None:
    # Its units were used at 40, and so it ended before its days: what was decided after that is charged.
    assert belongs(ALL, 2, 40) == CHARGED
    # A decision of the trial that came a little after the end that was found for it stays free.
    spent = replace(TRIAL, spent=True)
    assert belongs((spent, CHARGED, REVISED), 1, 101) == spent
    assert belongs(ALL, 1, 101) == CHARGED  # it ended otherwise: with its days, or by a move
    by_days = Stay(id=1, revision_id=1, start_us=0, end_us=100, trial=True)
    assert belongs((by_days, CHARGED), 1, 101) == CHARGED  # where no units end it, the instant says it
    assert belongs(ALL, 3, 40) == TRIAL  # what follows later has no say
