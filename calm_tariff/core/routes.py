"""How requests for a product's plans are decided: by whom, by what of a request that is told, and when it is enough.

A route belongs to a product. What it comes to for one request, its way, is settled when the request is made, and no
later change of the route touches it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Literal, get_args

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed
from calm_tariff.core.meters import Environment

Step = Literal["open", "reviewed", "reviewed twice", "outside"]
STEPS: tuple[Step, ...] = get_args(Step)
# Who agrees besides those who review.
Role = Literal["product manager", "operations", "finance"]
# What an agreement counts as: a reviewer's, or that of a role.
Seat = Literal["review", "product manager", "operations", "finance"]
WHO_REVIEW = frozenset({"reviewer", "product manager"})
_REVIEWS: Mapping[Step, int] = {"open": 0, "reviewed": 1, "reviewed twice": 2, "outside": 0}


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """Requests that fit all that it names are decided by `step`: those for one of `plans`, by a consumer of one of
    `groups`, for an application that is in this `environment`, that expect more than `above` units of the meter of the
    key `meter` in a month."""

    step: Step
    plans: tuple[int, ...] = ()
    groups: tuple[int, ...] = ()
    environment: Environment | None = None
    meter: str | None = None
    above: Decimal | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Agreement:
    """Somebody of a role must agree as well: always, or where the charge of a month that is expected, before tax, is
    more than `above`."""

    role: Role
    above: Decimal | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Route:
    """How a product's requests are decided: by the first rule that fits, or `otherwise`; and who must agree as well."""

    otherwise: Step
    rules: tuple[Rule, ...] = ()
    agreements: tuple[Agreement, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What of a request a route looks at: its plan, the groups of its consumer, the environment of its application, the
    units of a month that it expects by meter, and what they would be charged, before tax."""

    plan: int
    groups: frozenset[int] = frozenset()
    environment: Environment
    expected: Mapping[str, Decimal]
    charge: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Way:
    """How one request is decided: the step, and the roles that must agree as well, in their order."""

    step: Step
    roles: tuple[Role, ...] = ()

    @property
    def seats(self) -> tuple[Seat, ...]:
        """The agreements that a grant needs, before an outside system is asked."""
        review: Seat = "review"
        return (*(review for _ in range(_REVIEWS[self.step])), *self.roles)

    @property
    def at_once(self) -> bool:
        """Whether nobody is asked."""
        return self.step == "open" and not self.roles


@dataclass(frozen=True, slots=True)
class Agreed:
    """Somebody, known by who they are and never by a name, has agreed, as what."""

    identity: str
    seat: Seat


@dataclass(frozen=True, slots=True, kw_only=True)
class Hand:
    """Whoever would agree: who they are, their roles, and whether that is a person and no script."""

    identity: str
    roles: frozenset[str]
    person: bool


def way(route: Route, facts: Facts) -> Way:
    """How a request is decided."""
    step = next((rule.step for rule in route.rules if fits(rule, facts)), route.otherwise)
    roles = dict.fromkeys(a.role for a in route.agreements if a.above is None or facts.charge > a.above)
    return Way(step=step, roles=tuple(roles))


def fits(rule: Rule, facts: Facts) -> bool:
    """Whether a request is all that a rule names. One that does not say what it expects of a meter expects nothing."""
    if rule.plans and facts.plan not in rule.plans:
        return False
    if rule.groups and not facts.groups & set(rule.groups):
        return False
    if rule.environment is not None and rule.environment != facts.environment:
        return False
    return rule.meter is None or facts.expected.get(rule.meter, Decimal(0)) > (rule.above or Decimal(0))


def tells_environments_apart(route: Route) -> bool:
    """Whether applications for the sandbox alone are decided on otherwise than those that go live."""
    return any(rule.environment is not None for rule in route.rules)


def checked(route: Route, plans: Collection[int], groups: Collection[int], meters: Collection[str]) -> Route:
    """A route that means something: its rules name something, and only what is there; groups are in order. Raises
    `Invalid`, naming the field."""
    for place, rule in enumerate(route.rules):
        where = f"route.rules[{place}]"
        if not (rule.plans or rule.groups or rule.environment or rule.meter):
            raise Invalid("must say which requests it is for: by plan, group, environment or expected volume", where)
        if not set(rule.plans) <= set(plans):
            raise Invalid("names a plan that is not of this product", f"{where}.plans")
        if not set(rule.groups) <= set(groups):
            raise Invalid("names a group that is not there", f"{where}.groups")
        if rule.meter is not None and rule.meter not in meters:
            raise Invalid(f"{rule.meter[:60]!r} is no meter of this product", f"{where}.meter")
        if (rule.meter is None) != (rule.above is None):
            raise Invalid("needs a meter and so many units of it, or neither", f"{where}.above")
        if rule.above is not None and not (rule.above.is_finite() and rule.above >= 0):
            raise Invalid("must be 0 or more", f"{where}.above")
    for place, agreement in enumerate(route.agreements):
        where = f"route.agreements[{place}]"
        if agreement.above is not None and not (agreement.above.is_finite() and agreement.above >= 0):
            raise Invalid("must be 0 or more", f"{where}.above")
        if agreement.role in {other.role for other in route.agreements[:place]}:
            raise Invalid(f"{agreement.role} is here twice", f"{where}.role")
    return replace(route, rules=tuple(replace(rule, groups=tuple(sorted(set(rule.groups)))) for rule in route.rules))


def with_plans(route: Route, instead: Mapping[int, int]) -> Route:
    """The same route for other plans, each in place of one; a rule that is about others alone is left out."""
    kept = []
    for rule in route.rules:
        plans = tuple(instead[plan] for plan in rule.plans if plan in instead)
        if plans or not rule.plans:
            kept.append(replace(rule, plans=plans))
    return replace(route, rules=tuple(kept))


def still_needed(of: Way, agreed: Sequence[Agreed]) -> tuple[Seat, ...]:
    """The agreements that a grant still needs."""
    left = list(of.seats)
    for each in agreed:
        if each.seat in left:
            left.remove(each.seat)
    return tuple(left)


def seat_of(of: Way, agreed: Sequence[Agreed], by: Hand) -> Seat:
    """As what somebody agrees. Where more than one must, each is another person, and a service token is none. Raises
    `Conflict`, or `NotAllowed` where it waits for others."""
    if len(of.seats) > 1 and not by.person:
        raise Conflict("two people decide here, and a service token is none", "the request")
    if by.identity in {each.identity for each in agreed}:
        raise Conflict("you have agreed already; a second person decides", "the request")
    left = still_needed(of, agreed)
    # Who holds a role that must agree is rarer than who reviews.
    for seat in sorted(left, key=lambda seat: seat == "review"):
        if seat in by.roles or (seat == "review" and by.roles & WHO_REVIEW):
            return seat
    names = " and ".join(dict.fromkeys("a reviewer" if seat == "review" else seat for seat in left))
    raise NotAllowed(f"it waits for {names or 'nobody here'}; you are {' and '.join(sorted(by.roles))}")
