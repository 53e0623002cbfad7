"""Stays: which terms a subscription is under at any instant, those to come as well (docs/arithmetic.md, section 1).

A call belongs to the stay in force at its instant, whoever was awake then. The decision, the shipper and the
charging all ask here.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Protocol, TypeVar

from calm_tariff.core.limits import Units


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialUnits:
    """What a trial gives for nothing: `units` of `meter`, after which it is over."""

    meter: str
    units: Units


class Span(Protocol):
    """A stretch of time [start, end) in µs since the epoch; without an end it goes on."""

    @property
    def start_us(self) -> int:
        """Its first instant."""

    @property
    def end_us(self) -> int | None:
        """The instant after its last."""


NEW = 0
S = TypeVar("S", bound=Span)


class Following(Span, Protocol):
    """A stretch that may follow a trial which its units can end at any call: from `due_us` on, should that be earlier.
    None where it follows no such trial."""

    @property
    def due_us(self) -> int | None:
        """The instant from which it is due."""


F = TypeVar("F", bound=Following)


@dataclass(frozen=True, slots=True, kw_only=True)
class Stay:
    """A stretch of a subscription under one revision. `trial` marks a free one, `units` what ends it early, and
    `spent` that they did; `due_us` marks one that follows such a trial (see `Following`). One that is not kept yet has
    the id `NEW`."""

    id: int
    revision_id: int
    start_us: int
    end_us: int | None = None
    trial: bool = False
    units: TrialUnits | None = None
    spent: bool = False
    due_us: int | None = None


Timeline = tuple[Stay, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Pause:
    """A stretch in which a subscription lets no calls through, whichever stay it is in."""

    start_us: int
    end_us: int | None = None


def holds(span: Span, at_us: int) -> bool:
    """Whether an instant lies in a stretch."""
    return span.start_us <= at_us and (span.end_us is None or at_us < span.end_us)


def in_force(spans: Iterable[S], at_us: int) -> S | None:
    """The stretch that holds an instant; None where none does."""
    return next((span for span in spans if holds(span, at_us)), None)


def following(spans: Iterable[S], span: S) -> list[S]:
    """What begins where a stretch ends. Several, of which all but the last are empty, where a trial that its units can
    end was to be followed by terms announced for days within it."""
    return [each for each in spans if each.start_us == span.end_us and each is not span]


def after(spans: Iterable[F], span: F, at_us: int) -> F | None:
    """What follows a stretch that ended before an instant, at that instant; None where it is followed by nothing."""
    due = [each for each in following(spans, span) if each.due_us is None or each.due_us <= at_us]
    return max(due, key=lambda each: each.due_us or 0, default=None)


def laid_out(end_us: int, due: Sequence[int]) -> list[tuple[int, int | None]]:
    """Where what follows a trial lies once that ends, given from when each part is due, in order: none begins before
    the trial's end, and none before it is due. Parts overtaken by the trial's end are empty."""
    starts = [max(end_us, each) for each in due]
    return list(zip(starts, [*starts[1:], None][: len(starts)], strict=True))


def begun(revision_id: int, at_us: int, trial: tuple[int, bool] | None = None, by_units: bool = False) -> Timeline:
    """How a subscription begins: under a revision from an instant on. With a trial, given as the instant it ends and
    whether charges follow, its first stretch is free; `by_units` says that units can end it before."""
    if trial is None:
        return (Stay(id=NEW, revision_id=revision_id, start_us=at_us),)
    end_us, goes_on = trial
    free = Stay(id=NEW, revision_id=revision_id, start_us=at_us, end_us=end_us, trial=True)
    if not goes_on:
        return (free,)
    return free, Stay(id=NEW, revision_id=revision_id, start_us=end_us, due_us=at_us if by_units else None)


def changed(stays: Timeline, at_us: int, revision_id: int, of: Collection[int] | None = None) -> Timeline:
    """The same with a revision in force from an instant on: what lies before, and trials, stay as they are. Where it
    takes the place of some revisions alone, `of` says which: what is under others stays, too.

    Among what follows a trial that its units can end before or after that instant, the revision is due from then on.
    """

    def concerned(stay: Stay) -> bool:
        return not stay.trial and (of is None or stay.revision_id in of)

    trial = next((stay for stay in stays if stay.trial), None)
    if trial is not None and any(stay.due_us is not None for stay in stays):
        if not any(map(concerned, stays)):
            return stays
        due = tuple(
            replace(s, revision_id=revision_id) if (s.due_us or 0) >= at_us and concerned(s) else s for s in stays
        )
        if all(stay.due_us != at_us for stay in stays):
            due = (*due, Stay(id=NEW, revision_id=revision_id, start_us=at_us, due_us=at_us))
        return followed(due, trial.end_us if trial.end_us is not None else at_us)
    made: list[Stay] = []
    for stay in stays:
        if not concerned(stay) or (stay.end_us is not None and stay.end_us <= at_us):
            made.append(stay)
        elif stay.start_us >= at_us:
            made.append(replace(stay, revision_id=revision_id))
        else:
            made.append(replace(stay, end_us=at_us))
            made.append(Stay(id=NEW, revision_id=revision_id, start_us=at_us, end_us=stay.end_us))
    return _joined(made, at_us)


def _joined(stays: Iterable[Stay], after_us: int) -> Timeline:
    """The same, in which what begins after an instant, under the terms that end there, only goes on."""
    made: list[Stay] = []
    for stay in sorted(stays, key=lambda each: (each.start_us, each.end_us is None)):
        last = made[-1] if made else None
        goes_on = last is not None and (last.end_us, last.revision_id) == (stay.start_us, stay.revision_id)
        if last is not None and goes_on and stay.start_us > after_us and not (last.trial or stay.trial):
            made[-1] = replace(last, end_us=stay.end_us)
        else:
            made.append(stay)
    return tuple(made)


def cut_off(stays: Timeline, at_us: int) -> Timeline:
    """What is left where nothing is in force from an instant on: a pause, an end, or a move begins with this."""
    return tuple(
        replace(stay, end_us=at_us) if stay.end_us is None or stay.end_us > at_us else stay
        for stay in stays
        if stay.start_us <= at_us
    )


def undone(stays: Timeline, at_us: int) -> Timeline:
    """A subscription that is taken back as if it had not begun: over at an instant, and free as far as it went."""
    return tuple(replace(stay, trial=True, due_us=None) for stay in cut_off(stays, at_us))


def moved(stays: Timeline, at_us: int, revision_id: int) -> Timeline:
    """Under another revision from an instant on, and under nothing else: a move of plan, or a pause that is over. A
    trial that runs ends with it."""
    return (*cut_off(stays, at_us), Stay(id=NEW, revision_id=revision_id, start_us=at_us))


def beyond(stays: Timeline, at_us: int) -> Timeline:
    """What lies from an instant on: what a later move cuts off, kept so that it can be put back."""
    return tuple(
        replace(stay, id=NEW, start_us=max(stay.start_us, at_us))
        for stay in stays
        if stay.end_us is None or stay.end_us > at_us
    )


def put_back(stays: Timeline, at_us: int, rest: Timeline) -> Timeline:
    """The same with what a move had cut off from an instant on: where its terms are those before, they go on."""
    kept = cut_off(tuple(stay for stay in stays if stay.start_us < at_us), at_us)
    last = max(kept, key=lambda stay: stay.start_us)
    if rest and not last.trial and (last.end_us, last.revision_id) == (at_us, rest[0].revision_id):
        kept = tuple(replace(stay, end_us=rest[0].end_us) if stay is last else stay for stay in kept)
        rest = rest[1:]
    return (*kept, *rest)


def to_follow(stays: Timeline, revision_id: int | None, by_units: bool = False) -> Timeline:
    """A trial that runs, with what was chosen to follow it: charges under a revision, or nothing; `by_units` as for
    `begun`. Raises `StopIteration` where there is no trial."""
    trial = next(stay for stay in stays if stay.trial)
    kept = (*(stay for stay in stays if stay.start_us < trial.start_us), trial)
    if revision_id is None or trial.end_us is None:
        return kept
    due = trial.start_us if by_units else None
    return (*kept, Stay(id=NEW, revision_id=revision_id, start_us=trial.end_us, due_us=due))


def spent(stays: Timeline, last_us: int) -> Timeline:
    """A trial whose last unit was used by the call of an instant: it ends with that call, and what follows begins."""
    ended = tuple(replace(s, end_us=last_us + 1, spent=True) if s.trial else s for s in stays)
    return followed(ended, last_us + 1)


def followed(stays: Timeline, end_us: int) -> Timeline:
    """What follows a trial of units, put where it lies once that ends then."""
    chain = sorted((stay for stay in stays if stay.due_us is not None), key=lambda s: (s.due_us or 0, s.id or end_us))
    lies = laid_out(end_us, [stay.due_us or 0 for stay in chain])
    put = [
        replace(stay, start_us=start, end_us=end if end is not None else stay.end_us)
        for stay, (start, end) in zip(chain, lies, strict=True)
    ]
    return (*(stay for stay in stays if stay.due_us is None), *put)


def settled(stays: Timeline) -> Timeline:
    """The same once its trial is over: what followed it lies where it lies."""
    return tuple(replace(stay, due_us=None) for stay in stays)


def last_begun(stays: Timeline, at_us: int) -> Stay:
    """The stay that an instant lies in, or that was over last before it. Raises `StopIteration` before the first."""
    return next(stay for stay in reversed(stays) if stay.start_us <= at_us)


def first_charged(stays: Timeline) -> Stay | None:
    """The stay from which a subscription is charged: a setup fee belongs to it. One overtaken by a trial's end has
    no length and charges nothing."""
    return next((stay for stay in stays if not stay.trial and stay.end_us != stay.start_us), None)


def boundaries(spans: Iterable[Span]) -> list[int]:
    """Every instant at which a stretch begins or ends, in order: between two neighbours nothing changes."""
    return sorted({at for span in spans for at in (span.start_us, span.end_us) if at is not None})


def ends(spans: Iterable[Span]) -> set[int]:
    """Every instant at which a stretch ends."""
    return {span.end_us for span in spans if span.end_us is not None}


def belongs(stays: Sequence[Stay], decided_under: int | None, at_us: int) -> Stay | None:
    """The stay that a call of an instant belongs to, given the one it was decided under.

    A trial of so many units ends in a decision, not at an instant known beforehand: which of the calls around that
    end were the trial's, the decisions know alone, so that they are believed. Everywhere else the instant says it.
    """
    found = in_force(stays, at_us)
    known = next((stay for stay in stays if stay.id == decided_under), None)
    if found is None or known is None or known is found:
        return found
    found_spent = found.trial and found.units is not None and known in following(stays, found)
    was_spent = known.trial and known.spent and found in following(stays, known)
    return known if found_spent or was_spent else found
