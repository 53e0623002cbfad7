"""Whose count, and since when: the names of the counts that a subscription's limits add to.

Source: docs/arithmetic.md, sections 1 and 10.

A count holds what its limit has admitted since it applied to that subject. A limit that is new to a subscription
therefore gets a name no earlier count had; one that a revision only changes keeps its name as long as kind, meter,
window and `counted_per` stay; over a move of plan the new plan's quota goes on under the name of the old one's.
Names follow from the history of stays and overrides alone, so whoever works them out comes to the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from calm_tariff.core.layers import Layer, LayeredLimit, effective
from calm_tariff.core.limits import COUNTED_PER, Limit, Pace, Quota, Rate
from calm_tariff.core.stays import Stay, boundaries, holds
from calm_tariff.core.terms import PlanTerms

# Limits counted for all subscriptions of a plan together: their counts are the plan's, whoever comes and goes.
_ALL = "everyone"


@dataclass(frozen=True, slots=True, kw_only=True)
class Override:
    """A limit of one subscription while it was in force."""

    limit: Limit
    start_us: int
    end_us: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Before:
    """Whose an application was, until an instant at which it came to another consumer."""

    consumer_id: int
    end_us: int


@dataclass(frozen=True, slots=True, kw_only=True)
class History:
    """A subscription's past and announced future. `anew` says that a move to another plan starts its quotas anew;
    `before` are those whose it was earlier, in order."""

    subscription_id: int
    application_id: int
    consumer_id: int
    started_us: int
    stays: tuple[Stay, ...]
    overrides: tuple[Override, ...] = ()
    anew: bool = False
    before: tuple[Before, ...] = ()

    def owner(self, at_us: int) -> int:
        """The consumer whose it is at an instant."""
        return next((each.consumer_id for each in self.before if at_us < each.end_us), self.consumer_id)


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretch:
    """A part of a history in which nothing changes: the limits of plan, operations and subscription, and whose it
    is."""

    history: History
    stay_id: int
    plan_id: int
    start_us: int
    end_us: int | None
    limits: tuple[LayeredLimit, ...]


Names = Mapping[str, str]
Where = tuple[int, int, int]
_Key = tuple[int, str, str]


def shape(limit: Limit, started_us: int) -> str:
    """What must stay for a count to go on: kind, meter, window and whose count it is.

    The window of a rate or pace is its calls and seconds. One that begins with the subscription has its start.
    """
    per = f"{limit.counted_per}{'!' if limit.across_consumers else ''}"
    if isinstance(limit, Quota):
        start = str(started_us) if limit.aligned == "subscription" else ""
        return f"quota/{limit.every}/{start}/{limit.meter or ''}/{per}"
    if isinstance(limit, Rate | Pace):
        return f"{limit.kind}/{limit.calls}/{limit.per_seconds}/{per}"
    return f"window/{limit.per_seconds}/{limit.rolling}/{per}"


def house_name(layer: Layer, limit: Limit) -> str:
    """The name of a count above the plans."""
    return f"{layer}/{limit.name}/{shape(limit, 0)}"


def plain_names(plan_id: int, terms: PlanTerms, own: Iterable[Limit], started_us: int) -> dict[str, str]:
    """The names of counts, by limit, for one who was never under other terms."""
    layered = effective(plan=terms.limits, operation=terms.overrides, subscription=own)
    return {e.limit.name: _plain((plan_id, e.limit.name, shape(e.limit, started_us))) for e in layered}


def stretches(history: History, plans: Mapping[int, int], terms: Mapping[int, PlanTerms]) -> list[Stretch]:
    """A history cut wherever its limits change, in order. `plans` and `terms` are by revision."""
    edges = sorted({*boundaries((*history.stays, *history.overrides)), *(each.end_us for each in history.before)})
    made = []
    for start, end in zip(edges, [*edges[1:], None], strict=True):
        # Empty ones, which may yet be filled, come before the one that holds.
        here: list[tuple[Stay, int | None]] = [
            (stay, start) for stay in history.stays if stay.start_us == start == stay.end_us
        ]
        here += [(stay, end) for stay in history.stays if holds(stay, start)][:1]
        for stay, until in here:
            own = [o.limit for o in history.overrides if holds(o, start)]
            of = terms[stay.revision_id]
            limits = effective(plan=of.limits, operation=of.overrides, subscription=own)
            made.append(
                Stretch(
                    history=history,
                    stay_id=stay.id,
                    plan_id=plans[stay.revision_id],
                    start_us=start,
                    end_us=until,
                    limits=limits,
                )
            )
    return made


def names(parts: Iterable[Stretch]) -> dict[Where, Names]:
    """The names of counts in every stretch of one consumer's histories, by (subscription, start, stay) and limit.

    Counts per key, application and subscription follow the application, those per consumer or per value that calls
    carry follow the consumer through all its applications, each from when it is that consumer's; those of everyone are
    the plan's.
    """
    walk = sorted(parts, key=lambda part: (part.start_us, part.history.subscription_id))
    found: dict[Where, Names] = {}
    owners: dict[str, _Owner] = {}
    for part in walk:
        mine: dict[str, str] = {}
        for layered in part.limits:
            limit = layered.limit
            key = (part.plan_id, limit.name, shape(limit, part.history.started_us))
            if limit.counted_per == _ALL or limit.across_consumers:
                mine[limit.name] = _plain(key)
            else:
                owner = owners.setdefault(_owner(limit, part), _Owner())
                mine[limit.name] = owner.name(key, limit, part)
        found[part.history.subscription_id, part.start_us, part.stay_id] = mine
    return found


def for_a_consumer(limit: Limit) -> bool:
    """Whether a limit is counted for a consumer as a whole, through all its applications."""
    if limit.counted_per == _ALL or limit.across_consumers:
        return False
    return limit.counted_per == "consumer" or limit.counted_per not in COUNTED_PER


def _owner(limit: Limit, part: Stretch) -> str:
    whole, of = for_a_consumer(limit), part.history
    return f"consumer {of.owner(part.start_us)}" if whole else f"application {of.application_id}"


def _plain(key: _Key) -> str:
    plan, name, form = key
    return f"{plan}/{name}/{form}"


@dataclass(slots=True)
class _Alive:
    """A count that somebody adds to: its name, the limit as last met, and for each subscription that adds to it
    until when (None: still)."""

    name: str
    limit: Limit
    until: dict[int, int | None]


class _Owner:
    """The counts of one application or consumer as its history goes by."""

    def __init__(self) -> None:
        self.given: set[str] = set()
        self.alive: dict[_Key, _Alive] = {}

    def name(self, key: _Key, limit: Limit, part: Stretch) -> str:
        """The name of a limit's count in a stretch."""
        subscription = part.history.subscription_id
        known = self.alive.get(key)
        if known is not None and _reaches(known.until, part.start_us):
            known.until[subscription], known.limit = part.end_us, limit
            return known.name
        name = self._taken_along(limit, part) or self._new(key, part.start_us)
        self.alive[key] = _Alive(name, limit, {subscription: part.end_us})
        return name

    def _new(self, key: _Key, start_us: int) -> str:
        name = _plain(key)
        if name in self.given:
            name = f"{name}@{start_us}"
        self.given.add(name)
        return name

    def _taken_along(self, limit: Limit, part: Stretch) -> str | None:
        """The name that a quota goes on under after a move, unless somebody stays behind who still adds to it."""
        if not isinstance(limit, Quota) or part.history.anew:
            return None
        subscription, form = part.history.subscription_id, shape(limit, part.history.started_us)
        left = [
            key
            for key, each in self.alive.items()
            if key[0] != part.plan_id
            and key[2] == form
            and each.limit.applies_to == limit.applies_to
            and each.until.get(subscription) == part.start_us
            and not _goes_on({s: end for s, end in each.until.items() if s != subscription}, part.start_us)
        ]
        # Of several alike, the one of the same name.
        found = next(iter(sorted(left, key=lambda key: key[1] != limit.name)), None)
        return None if found is None else self.alive.pop(found).name


def _reaches(until: Mapping[int, int | None], at_us: int) -> bool:
    return any(end is None or end >= at_us for end in until.values())


def _goes_on(until: Mapping[int, int | None], at_us: int) -> bool:
    return any(end is None or end > at_us for end in until.values())


def names_of(
    histories: Iterable[History], plans: Mapping[int, int], terms: Mapping[int, PlanTerms]
) -> dict[Where, Names]:
    """The names of counts for all histories of one consumer; see `names`."""
    return names(part for history in histories for part in stretches(history, plans, terms))
