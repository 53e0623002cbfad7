"""Who decides on a request: the first rule that fits, and whose agreement it takes."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed
from calm_tariff.core.routes import (
    STEPS,
    Agreed,
    Agreement,
    Facts,
    Hand,
    Role,
    Route,
    Rule,
    Step,
    Way,
    checked,
    seat_of,
    still_needed,
    tells_environments_apart,
    way,
    with_plans,
)

FACTS = Facts(plan=1, groups=frozenset({7}), environment="live", expected={"calls": Decimal(500)}, charge=Decimal(80))


def hand(identity: str, *roles: str, person: bool = True) -> Hand:
    return Hand(identity=identity, roles=frozenset(roles), person=person)


@pytest.mark.parametrize(
    ("rule", "fits"),
    [
        (Rule(step="outside", plans=(1, 2)), True),
        (Rule(step="outside", plans=(2,)), False),
        (Rule(step="outside", groups=(7, 8)), True),
        (Rule(step="outside", groups=(8,)), False),
        (Rule(step="outside", environment="live"), True),
        (Rule(step="outside", environment="sandbox"), False),
        (Rule(step="outside", meter="calls", above=Decimal(499)), True),
        (Rule(step="outside", meter="calls", above=Decimal(500)), False),
        (Rule(step="outside", meter="bytes", above=Decimal(0)), False),
        (Rule(step="outside", plans=(1,), groups=(8,)), False),
        (Rule(step="outside", plans=(1,), groups=(7,), environment="live", meter="calls", above=Decimal(1)), True),
    ],
)
def test_a_rule_is_for_requests_that_are_all_that_it_names(rule: Rule, fits: bool) -> None:
    expected: Step = "outside" if fits else "open"
    assert way(Route(otherwise="open", rules=(rule,)), FACTS).step == expected


def test_the_first_rule_that_fits_decides() -> None:
    rules = (
        Rule(step="open", environment="sandbox"),
        Rule(step="reviewed twice", plans=(1,)),
        Rule(step="open", plans=(1,)),
    )
    route = Route(otherwise="outside", rules=rules)
    assert way(route, FACTS).step == "reviewed twice"
    assert way(route, replace(FACTS, environment="sandbox")).step == "open"
    assert way(route, replace(FACTS, plan=2)).step == "outside"
    assert tells_environments_apart(route) and not tells_environments_apart(replace(route, rules=rules[1:]))


def test_a_role_agrees_where_more_than_so_much_is_expected() -> None:
    agreements = (Agreement(role="finance", above=Decimal(80)), Agreement(role="operations"))
    route = Route(otherwise="reviewed", agreements=agreements)
    assert way(route, FACTS).roles == ("operations",)
    assert way(route, replace(FACTS, charge=Decimal("80.01"))).roles == ("finance", "operations")
    assert way(route, replace(FACTS, charge=Decimal(81))).seats == ("review", "finance", "operations")
    waits = way(replace(route, otherwise="open"), FACTS)
    assert waits.seats == ("operations",) and not waits.at_once
    assert Way(step="open").at_once and not Way(step="outside").at_once


def test_two_who_review_are_two_people_whatever_they_are_called() -> None:
    twice = Way(step="reviewed twice")
    rui = hand("person 1", "reviewer")
    assert seat_of(twice, [], rui) == "review"
    first = [Agreed("person 1", "review")]
    assert still_needed(twice, first) == ("review",)
    with pytest.raises(Conflict, match="a second person"):
        seat_of(twice, first, rui)
    with pytest.raises(Conflict, match="a service token is none"):
        seat_of(twice, first, hand("token 3", "reviewer", person=False))
    assert seat_of(twice, first, hand("person 2", "product manager")) == "review"
    assert still_needed(twice, [*first, Agreed("person 2", "review")]) == ()


def test_a_token_may_be_the_only_one_who_decides_and_none_of_several() -> None:
    script = hand("token 3", "reviewer", person=False)
    assert seat_of(Way(step="reviewed"), [], script) == "review"
    with pytest.raises(Conflict, match="a service token is none"):
        seat_of(Way(step="reviewed", roles=("finance",)), [], script)


def test_nobody_agrees_for_a_role_that_is_not_theirs() -> None:
    both = Way(step="reviewed", roles=("finance",))
    with pytest.raises(NotAllowed, match="waits for a reviewer and finance; you are operations"):
        seat_of(both, [], hand("person 4", "operations"))
    assert seat_of(both, [], hand("person 3", "finance")) == "finance"
    with pytest.raises(NotAllowed, match="waits for a reviewer"):
        seat_of(both, [Agreed("person 3", "finance")], hand("person 5", "finance"))
    several = hand("person 6", "finance", "reviewer")
    assert seat_of(both, [], several) == "finance"  # more can review than can speak for finance
    assert seat_of(both, [Agreed("person 6", "finance")], hand("person 7", "reviewer")) == "review"
    assert seat_of(both, [Agreed("person 3", "finance")], several) == "review"
    with pytest.raises(Conflict, match="you have agreed already"):  # who holds two roles is still one person
        seat_of(both, [Agreed("person 6", "review")], several)


ROLES: list[Role] = ["product manager", "operations", "finance"]


@given(
    st.sampled_from(STEPS),
    st.lists(st.sampled_from(ROLES), unique=True),
    st.lists(st.tuples(st.integers(0, 5), st.sampled_from(["reviewer", *ROLES]), st.booleans()), max_size=12),
)
def test_whoever_comes_in_whatever_order_a_grant_has_as_many_people_as_its_way_wants(
    step: Step, roles: list[Role], comers: list[tuple[int, str, bool]]
) -> None:
    of = Way(step=step, roles=tuple(roles))
    agreed: list[Agreed] = []
    for who, role, person in comers:
        if not still_needed(of, agreed):
            break
        try:
            seat = seat_of(of, agreed, hand(f"person {who}" if person else f"token {who}", role, person=person))
        except (Conflict, NotAllowed):
            continue
        agreed.append(Agreed(f"person {who}" if person else f"token {who}", seat))
    assert len({each.identity for each in agreed}) == len(agreed) <= len(of.seats)
    assert len(still_needed(of, agreed)) == len(of.seats) - len(agreed)
    if len(of.seats) > 1:
        assert all(each.identity.startswith("person") for each in agreed)


@pytest.mark.parametrize(
    ("route", "where"),
    [
        (Route(otherwise="open", rules=(Rule(step="open"),)), "route.rules[0]"),
        (Route(otherwise="open", rules=(Rule(step="open", plans=(9,)),)), "route.rules[0].plans"),
        (Route(otherwise="open", rules=(Rule(step="open", groups=(9,)),)), "route.rules[0].groups"),
        (Route(otherwise="open", rules=(Rule(step="open", meter="x", above=Decimal(1)),)), "route.rules[0].meter"),
        (Route(otherwise="open", rules=(Rule(step="open", meter="calls"),)), "route.rules[0].above"),
        (Route(otherwise="open", rules=(Rule(step="open", plans=(1,), above=Decimal(1)),)), "route.rules[0].above"),
        (
            Route(otherwise="open", rules=(Rule(step="open", meter="calls", above=Decimal("NaN")),)),
            "route.rules[0].above",
        ),
        (
            Route(otherwise="open", agreements=(Agreement(role="finance", above=Decimal(-1)),)),
            "route.agreements[0].above",
        ),
        (
            Route(otherwise="open", agreements=(Agreement(role="finance"), Agreement(role="finance"))),
            "route.agreements[1].role",
        ),
    ],
)
def test_a_route_that_means_nothing_is_refused_where_it_does(route: Route, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        checked(route, plans=[1, 2], groups=[7], meters=["calls"])
    assert refused.value.where == where


def test_a_route_goes_over_to_other_plans_without_rules_that_are_about_none_of_them() -> None:
    rules = (Rule(step="open", plans=(1, 2)), Rule(step="outside", plans=(3,)), Rule(step="reviewed", groups=(7,)))
    taken = with_plans(Route(otherwise="reviewed", rules=rules), {1: 11})
    assert [(rule.step, rule.plans) for rule in taken.rules] == [("open", (11,)), ("reviewed", ())]
