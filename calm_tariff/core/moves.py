"""Moves that a consumer makes with a subscription: to another plan, a pause, its end (docs/arithmetic.md, section 11).

Each is in force from an instant on: now, or *later*, which is the end of a trial that runs, and else of the billing
month. What a move does to the stays is told by `made`; a pause stands beside them.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Literal
from zoneinfo import ZoneInfo

from calm_tariff.core import stays
from calm_tariff.core.errors import Conflict
from calm_tariff.core.lifecycles import SUBSCRIPTION, move
from calm_tariff.core.periods import day_start, local_day, month_of
from calm_tariff.core.stays import Pause, Timeline

Kind = Literal["change plan", "pause", "resume", "end"]
When = Literal["now", "later"]
_SUBJECT = "the subscription"


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """What is done, and when; to the revision of another plan where that is what is done. `by_units` says that units
    can end the trial before its days."""

    kind: Kind
    when: When = "now"
    revision_id: int | None = None
    by_units: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """A subscription as a move finds it. `notice_days` is what its plan asks for before an end; a trial asks for
    none."""

    state: str
    stays: Timeline
    now_us: int
    where: ZoneInfo
    notice_days: int = 0

    @property
    def today(self) -> date:
        """The local day."""
        return local_day(self.now_us, self.where)

    @property
    def trial_end_us(self) -> int | None:
        """Where the trial ends that runs now."""
        stay = stays.in_force(self.stays, self.now_us)
        return stay.end_us if stay is not None and stay.trial else None


def state_after(standing: Standing, kind: Kind) -> str:
    """The state once a move is in force. Raises `Conflict` for one that cannot be made."""
    if kind == "pause":
        if standing.state == "trial":
            raise Conflict("a trial's days pass whatever is done; let it run, or end it", _SUBJECT)
        return move(SUBSCRIPTION, _SUBJECT, standing.state, "paused")
    if kind == "resume":
        if standing.state != "paused":
            raise Conflict(f"it is {standing.state}, not paused", _SUBJECT)
        return "active"
    if kind == "end":
        return move(SUBSCRIPTION, _SUBJECT, standing.state, "ended")
    if standing.state == "ended":
        raise Conflict("it is ended; ask for a plan anew", _SUBJECT)
    return "active" if standing.state == "trial" else standing.state


def instant(standing: Standing, kind: Kind, when: When) -> int:
    """From when on a move is in force. Raises `Conflict` for one that cannot be made then."""
    if when == "now":
        first = earliest_end(standing)
        if kind == "end" and first > standing.now_us:
            day = local_day(first - 1, standing.where)
            words = f"it takes {standing.notice_days} days' notice, and can end with {day:%-d %B %Y} at the earliest"
            raise Conflict(words, _SUBJECT)
        return standing.now_us
    if kind in ("pause", "resume"):
        raise Conflict(f"a {kind} is made at once, or not at all", "when")
    if standing.trial_end_us is not None:
        return standing.trial_end_us
    first = earliest_end(standing) if kind == "end" else standing.now_us
    month = month_of(standing.today)
    while day_start(month.end, standing.where) < first:
        month = month_of(month.end)
    return day_start(month.end, standing.where)


def earliest_end(standing: Standing) -> int:
    """From when on a subscription can be over: now, unless its plan asks for notice. Notice is of whole local days, and
    begins with the day after its word."""
    if standing.state == "trial" or standing.notice_days == 0:
        return standing.now_us
    return day_start(standing.today + timedelta(days=standing.notice_days + 1), standing.where)


def follows_trial(standing: Standing, when: When) -> bool:
    """Whether a move says what follows the trial that runs."""
    return standing.trial_end_us is not None and when == "later"


def made(standing: Standing, wanted: Move, at_us: int) -> Timeline:
    """The stays once a move is made that is in force from an instant on."""
    if wanted.kind in ("pause", "resume"):
        return standing.stays
    revision_id = wanted.revision_id if wanted.kind == "change plan" else None
    if follows_trial(standing, wanted.when):
        return stays.to_follow(standing.stays, revision_id, wanted.by_units)
    if revision_id is None:
        return stays.cut_off(standing.stays, at_us)
    return stays.moved(standing.stays, at_us, revision_id)


def paused(pauses: tuple[Pause, ...], kind: Kind, now_us: int) -> tuple[Pause, ...]:
    """The pauses once a move is made now: one more, or the one that runs is over. One begun in that very instant is
    none."""
    if kind == "pause":
        return (*pauses, Pause(start_us=now_us))
    if kind == "change plan":
        return pauses
    over = (p if p.end_us is not None else Pause(start_us=p.start_us, end_us=now_us) for p in pauses)
    return tuple(p for p in over if p.start_us != p.end_us)
