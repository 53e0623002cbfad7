"""A timeline of stays stays whole whatever is done to it, in whatever order: no gap, no overlap, the past untouched."""

from __future__ import annotations

from itertools import count

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import stays
from calm_tariff.core.stays import NEW, Stay, Timeline

END = 300
ahead = st.integers(0, 60)
moves = st.lists(st.tuples(st.sampled_from(("change", "move", "pause")), ahead, st.integers(0, 30)), max_size=8)


def kept(timeline: Timeline) -> Timeline:
    """The same as the store would give it back: everything has an id of its own."""
    ids = count(max((stay.id for stay in timeline), default=0) + 1)
    made = [Stay(**{**_fields(stay), "id": next(ids)}) if stay.id == NEW else stay for stay in timeline]
    return tuple(sorted(made, key=lambda stay: (stay.start_us, stay.id)))


def _fields(stay: Stay) -> dict[str, object]:
    return {name: getattr(stay, name) for name in stay.__slots__}


def in_force(timeline: Timeline) -> list[tuple[int, bool] | None]:
    """The revision, and whether it is free, at every instant; fails where two are in force at once."""
    found: list[tuple[int, bool] | None] = []
    for at in range(END):
        held = [stay for stay in timeline if stays.holds(stay, at)]
        assert len(held) <= 1, (at, held)
        found.append((held[0].revision_id, held[0].trial) if held else None)
    return found


@given(st.none() | st.tuples(st.integers(1, 80), st.booleans()), moves)
def test_every_instant_has_the_terms_that_were_last_said_for_it(trial: tuple[int, bool] | None, done) -> None:
    now, revision = 0, 1
    timeline = kept(stays.begun(revision, 0, trial))
    expected: list[tuple[int, bool] | None] = [(1, False)] * END
    if trial is not None:
        end, goes_on = trial
        expected = [(1, True) if at < end else (1, False) if goes_on else None for at in range(END)]
    assert in_force(timeline) == expected
    for what, wait, before in done:
        now, revision = now + wait, revision + 1
        if now >= END - 40:
            break
        if what == "change":  # of a day ahead, or now
            at = now + before
            timeline = kept(stays.changed(timeline, at, revision))
            for n in range(at, END):
                known = expected[n]
                expected[n] = known if known is None or known[1] else (revision, False)
        elif what == "move":
            timeline = kept(stays.moved(timeline, now, revision))
            expected[now:] = [(revision, False)] * (END - now)
        else:
            timeline = kept(stays.cut_off(timeline, now))
            expected[now:] = [None] * (END - now)
        assert in_force(timeline) == expected


@given(st.integers(50, 100), st.lists(st.integers(1, 120), max_size=4, unique=True), st.integers(0, 99))
def test_what_was_announced_within_a_trial_of_units_holds_from_its_day_whenever_they_are_used(
    days: int, changes: list[int], last: int
) -> None:
    timeline = kept(stays.begun(1, 0, (days, True), by_units=True))
    for revision, at in enumerate(sorted(changes), 2):
        timeline = kept(stays.changed(timeline, at, revision))
    over = min(last + 1, days)
    ended = stays.settled(stays.spent(timeline, last) if last + 1 < days else timeline)
    found = in_force(ended)
    for at in range(END):
        announced = sum(each <= at for each in changes) + 1
        assert found[at] == ((1, True) if at < over else (announced, False)), at
    assert all(stay.due_us is None for stay in ended)


def test_a_change_for_a_day_replaces_what_was_announced_for_later() -> None:
    timeline = kept(stays.changed(kept(stays.begun(1, 0)), 200, 2))
    sooner = stays.changed(timeline, 100, 3)
    assert [(s.revision_id, s.start_us, s.end_us) for s in kept(sooner)] == [(1, 0, 100), (3, 100, None)]


def test_the_first_charged_stay_is_the_first_that_is_neither_free_nor_empty() -> None:
    trial = Stay(id=1, revision_id=1, start_us=0, end_us=10, trial=True)
    overtaken = Stay(id=2, revision_id=1, start_us=10, end_us=10)
    charged = Stay(id=3, revision_id=2, start_us=10)
    assert stays.first_charged((trial, overtaken, charged)) == charged
    assert stays.first_charged((trial,)) is None
