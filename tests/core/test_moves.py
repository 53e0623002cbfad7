"""Moves of a subscription: when each is in force, what it makes of the stays, and that nothing is charged twice or lost
whatever is done in whatever order."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import moves, stays
from calm_tariff.core.errors import Conflict
from calm_tariff.core.moves import Move, Standing
from calm_tariff.core.periods import Period, day_start, instant_of, moment_of
from calm_tariff.core.prices import Fee, PerUnit
from calm_tariff.core.rating import Paused, Pricing, RatingCase, Segment, rate, share_of
from calm_tariff.core.stays import Pause, Timeline
from tests.core.test_timelines import kept

LISBON = ZoneInfo("Europe/Lisbon")
NOVEMBER = Period(date(2026, 11, 1), date(2026, 12, 1))


def at(text: str) -> int:
    return instant_of(datetime.fromisoformat(text).replace(tzinfo=LISBON))


NOW = at("2026-11-10T15:00")


def standing(state: str = "active", timeline: Timeline | None = None, notice: int = 0, now: int = NOW) -> Standing:
    own = timeline if timeline is not None else kept(stays.begun(1, at("2026-10-05T09:00")))
    return Standing(state=state, stays=own, now_us=now, where=LISBON, notice_days=notice)


def on_trial(goes_on: bool = True) -> Timeline:
    return kept(stays.begun(1, at("2026-11-05T09:00"), (at("2026-11-19"), goes_on)))


@pytest.mark.parametrize(
    ("here", "kind", "when", "expected"),
    [
        (standing(), "change plan", "now", NOW),
        (standing(), "change plan", "later", at("2026-12-01")),
        (standing(), "end", "later", at("2026-12-01")),
        (standing(notice=20), "end", "later", at("2026-12-01")),  # its last day is the last of the month
        (standing(notice=21), "end", "later", at("2027-01-01")),
        (standing(notice=30), "change plan", "later", at("2026-12-01")),  # notice is of an end alone
        (standing("trial", on_trial(), notice=30), "end", "now", NOW),  # and none of a trial's
        (standing("trial", on_trial()), "change plan", "later", at("2026-11-19")),
        (standing(now=at("2026-10-24T12:00"), notice=1), "end", "later", at("2026-11-01")),  # clocks change meanwhile
    ],
)
def test_a_move_is_in_force_now_or_with_the_trial_or_the_month(here, kind, when, expected) -> None:
    assert moves.instant(here, kind, when) == expected


@pytest.mark.parametrize(
    ("here", "kind", "when", "says"),
    [
        (standing("trial", on_trial()), "pause", "now", "a trial's days pass"),
        (standing("ended"), "change plan", "now", "ask for a plan anew"),
        (standing("ended"), "end", "now", "it is ended"),
        (standing(), "resume", "now", "it is active, not paused"),
        (standing("paused"), "pause", "now", "it is paused"),
        (standing(), "pause", "later", "a pause is made at once"),
        (standing(notice=20), "end", "now", "20 days' notice, and can end with 30 November 2026 at the earliest"),
    ],
)
def test_what_cannot_be_done_is_refused_with_its_reason(here, kind, when, says) -> None:
    def done() -> None:
        moves.state_after(here, kind)
        moves.instant(here, kind, when)

    with pytest.raises(Conflict) as refused:
        done()
    assert says in str(refused.value)


def test_states_follow_from_what_is_done() -> None:
    after = {
        (state, kind): moves.state_after(standing(state), kind)
        for state, kind in (
            ("active", "pause"),
            ("paused", "resume"),
            ("paused", "change plan"),
            ("trial", "change plan"),
            ("paused", "end"),
        )
    }
    assert list(after.values()) == ["paused", "active", "paused", "active", "ended"]


def test_what_follows_a_trial_is_chosen_beforehand_and_can_be_chosen_anew() -> None:
    here = standing("trial", on_trial())
    end = at("2026-11-19")
    ends = moves.made(here, Move(kind="end", when="later"), end)
    assert [(s.trial, s.end_us) for s in ends] == [(True, end)]
    again = replace(here, stays=kept(ends))
    other = moves.made(again, Move(kind="change plan", when="later", revision_id=7), end)
    assert [(s.revision_id, s.trial, s.start_us, s.end_us) for s in other[1:]] == [(7, False, end, None)]
    # Where units can end it, what follows is due from its beginning: it comes whenever they are used.
    spent = moves.made(again, Move(kind="change plan", when="later", revision_id=7, by_units=True), end)
    last = at("2026-11-12T10:00")
    assert [(s.revision_id, s.start_us) for s in stays.spent(spent, last)] == [
        (1, here.stays[0].start_us),
        (7, last + 1),
    ]
    # Now means that the trial is over.
    over = moves.made(here, Move(kind="change plan", revision_id=7), NOW)
    assert [(s.trial, s.end_us) for s in over] == [(True, NOW), (False, None)]


def test_a_pause_begins_and_is_over_and_one_of_no_length_is_none() -> None:
    running = moves.paused((), "pause", 10)
    assert moves.paused(running, "change plan", 15) == running
    assert moves.paused(running, "resume", 20) == (Pause(start_us=10, end_us=20),)
    assert moves.paused(running, "end", 10) == ()
    twice = moves.paused(moves.paused(running, "resume", 20), "pause", 30)
    assert twice == (Pause(start_us=10, end_us=20), Pause(start_us=30))


@pytest.mark.parametrize("kind", ["change plan", "end"])
def test_what_is_taken_back_leaves_everything_as_it_was(kind) -> None:
    before = kept(stays.changed(kept(stays.begun(1, 0)), 300, 2))  # a new revision is announced for later
    for moment in (100, 300, 400):
        rest = stays.beyond(before, moment)
        move = Move(kind=kind, when="later", revision_id=9)
        moved = kept(moves.made(Standing(state="active", stays=before, now_us=50, where=LISBON), move, moment))
        assert stays.in_force(moved, moment - 1) and stays.in_force(moved, moment) != stays.in_force(before, moment)
        back = stays.put_back(moved, moment, rest)
        assert [(s.revision_id, s.start_us, s.end_us) for s in back] == [(1, 0, 300), (2, 300, None)]


DONE = st.lists(
    st.tuples(
        st.sampled_from(("change plan", "pause", "resume", "end", "publish", "take back")),
        st.sampled_from(("now", "later")),
        st.integers(1, 20 * 24 * 60),
    ),
    max_size=9,
)


class Kept:
    """A subscription as services keep it: what a move cuts off is put back when it is taken back."""

    def __init__(self) -> None:
        self.now = at("2026-11-01T08:00")
        self.stays = kept(stays.begun(1, self.now))
        self.pauses: tuple[Pause, ...] = ()
        self.state = "active"
        self.coming: tuple[int, str, Timeline] | None = None
        self.revisions = 1
        # What holds from each instant on, as (instant, revision or None): the plain account of all that was said.
        self.said: list[tuple[int, int | None]] = [(self.now, 1)]

    def pass_by(self, minutes: int) -> None:
        self.now += minutes * 60_000_000
        if self.coming and self.coming[0] <= self.now:
            if self.coming[1] == "end":
                self.state, self.pauses = "ended", moves.paused(self.pauses, "end", self.coming[0])
            self.coming = None

    def do(self, kind: str, when: str) -> None:
        if kind == "publish":
            return self.publish()
        if kind == "take back":
            return self.take_back()
        here = Standing(state=self.state, stays=self.stays, now_us=self.now, where=LISBON)
        try:
            state = moves.state_after(here, kind)
            from_us = moves.instant(here, kind, when)
        except Conflict:
            return None
        if kind in ("change plan", "end"):
            if self.coming:
                here = replace(here, stays=kept(stays.put_back(self.stays, self.coming[0], self.coming[2])))
                self.take_back()
            rest = stays.beyond(here.stays, from_us)
            self.revisions += kind == "change plan"
            revision = self.revisions if kind == "change plan" else None
            self.before = list(self.said)
            self.stays = kept(moves.made(here, Move(kind=kind, when=when, revision_id=revision), from_us))
            self.said = [*(s for s in self.said if s[0] < from_us), (from_us, revision)]
            self.coming = (from_us, kind, rest) if when == "later" else None
        if when == "now":
            self.state, self.pauses = state, moves.paused(self.pauses, kind, self.now)
        return None

    def take_back(self) -> None:
        if self.coming:
            self.stays = kept(stays.put_back(self.stays, self.coming[0], self.coming[2]))
            self.said, self.coming = self.before, None

    def publish(self) -> None:
        """A new revision of the plan that it is on, in force from now on."""
        if self.state == "ended":
            return
        old = stays.in_force(self.stays, self.now).revision_id
        self.revisions += 1
        self.stays = kept(stays.changed(self.stays, self.now, self.revisions, {old}))
        later = [s for s in self.said if s[0] > self.now]
        self.said = [*(s for s in self.said if s[0] < self.now), (self.now, self.revisions), *later]
        if self.coming:
            moment, kind, rest = self.coming
            self.coming = moment, kind, stays.changed(rest, self.now, self.revisions, {old})
            self.before = [*(s for s in self.before if s[0] < self.now), (self.now, self.revisions)]


def held(subscription: Kept, at_us: int) -> int | None:
    return next((revision for start, revision in reversed(subscription.said) if start <= at_us), None)


@given(DONE)
def test_every_instant_is_under_what_was_said_last_for_it_and_under_one_thing_alone(done) -> None:
    own = Kept()
    for kind, when, minutes in done:
        own.pass_by(minutes)
        own.do(kind, when)
        edges = stays.boundaries(own.stays)
        for each in [*edges, *(e - 1 for e in edges[1:]), own.now, at("2026-12-01"), at("2027-06-01")]:
            found = [s.revision_id for s in own.stays if stays.holds(s, each)]
            said = held(own, each)
            assert found == ([] if said is None else [said]), (kind, when, moment_of(each))
        ids = [s.id for s in own.stays if s.end_us != s.start_us and s.start_us < own.now]
        assert len(ids) == len(set(ids))
        for one, other in zip(own.pauses, own.pauses[1:], strict=False):
            assert one.end_us is not None and one.end_us <= other.start_us
        assert (own.state == "paused") == any(p.end_us is None for p in own.pauses)


@given(DONE, st.lists(st.integers(0, 30 * 24 * 60 - 1), max_size=30))
def test_no_day_and_no_unit_is_charged_twice_or_lost(done, calls: list[int]) -> None:
    own = Kept()
    for kind, when, minutes in done:
        own.pass_by(minutes)
        own.do(kind, when)
    begin = day_start(NOVEMBER.start, LISBON)
    instants = [begin + minute * 60_000_000 for minute in calls]
    mine = [stays.in_force(own.stays, i) for i in instants]
    segments = []
    for stay in own.stays:
        segments.append(
            Segment(
                start=moment_of(stay.start_us, LISBON),
                end=None if stay.end_us is None else moment_of(stay.end_us, LISBON),
                plan=Pricing(prices=(PerUnit(meter="calls", unit=Decimal("0.01")),)),
                usage={"calls": Decimal(sum(s is stay for s in mine))},
                pauses=tuple(
                    Paused(start=moment_of(p.start_us, LISBON), end=moment_of(p.end_us, LISBON) if p.end_us else None)
                    for p in own.pauses
                ),
            )
        )
    case = RatingCase(
        currency="EUR", time_zone="Europe/Lisbon", period=NOVEMBER, tax_percent=Decimal(0), segments=tuple(segments)
    )
    charge = rate(case)
    assert charge.subtotal == Decimal("0.01") * sum(s is not None for s in mine)
    last_instants = [day_start(NOVEMBER.start + timedelta(days=n + 1), LISBON) - 1 for n in range(NOVEMBER.days)]
    open_days = [i for i in last_instants if stays.in_force(own.stays, i) and stays.in_force(own.pauses, i) is None]
    assert sum(share_of(case, segment)[0] for segment in segments) == len(open_days)


def test_a_pause_stops_the_fee_by_whole_days_and_no_longer() -> None:
    def fee(prorate: bool, *pauses: tuple[str, str | None]) -> Decimal:
        segment = Segment(
            start=moment_of(at("2026-11-03T10:00"), LISBON),
            end=moment_of(at("2026-11-28T10:00"), LISBON),
            plan=Pricing(prices=(Fee(amount=Decimal(30)),), prorate=prorate),
            pauses=tuple(
                Paused(start=moment_of(at(a), LISBON), end=moment_of(at(b), LISBON) if b else None) for a, b in pauses
            ),
        )
        case = RatingCase(
            currency="EUR", time_zone="Europe/Lisbon", period=NOVEMBER, tax_percent=Decimal(0), segments=(segment,)
        )
        return rate(case).subtotal

    assert fee(True) == 25
    assert fee(True, ("2026-11-10T09:00", "2026-11-10T18:00")) == 25  # the day ends unpaused
    assert fee(True, ("2026-11-10T09:00", "2026-11-12T18:00")) == 23
    assert fee(True, ("2026-11-01T00:00", "2026-11-05T00:00"), ("2026-11-27T00:00", None)) == 22
    assert fee(False, ("2026-11-10T09:00", "2026-11-12T18:00")) == 30
    assert fee(False, ("2026-11-02T00:00", None)) == 0
